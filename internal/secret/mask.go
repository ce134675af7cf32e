package secret

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"sort"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// minMasked is the length below which a value is not searched for: it would stand everywhere.
const minMasked = 6

// hidden stands where a value was.
const hidden = "•••"

// Masker hides values in text: as they are, escaped as JSON, in base64 and base64url (also inside of something longer
// that is encoded), in hexadecimal, percent-encoded (what must be, or every byte), as \uXXXX (what is no ASCII, or all
// of it), and each of these broken into lines. What is reversed, put into other letters, compressed or encrypted it
// cannot find.
type Masker struct {
	forms []string // the longest first
	// begin are the forms by their first two bytes, and may a bit for each pair of bytes with which one begins: a text
	// is passed over once, however many forms there are.
	begin map[uint16][]string
	may   [1 << 16 / 64]uint64
}

// NewMasker makes a masker for values. A value of several lines is hidden line by line: whoever prints one of them
// prints a part of it.
func NewMasker(values ...string) *Masker {
	m := &Masker{}
	for _, v := range values {
		v = strings.TrimSpace(v)
		m.add(v)
		for line := range strings.SplitSeq(v, "\n") {
			m.add(strings.TrimSpace(line))
		}
	}
	slices.SortFunc(m.forms, func(a, b string) int { return len(b) - len(a) })
	m.forms = slices.Compact(m.forms)
	m.begin = make(map[uint16][]string, len(m.forms))
	for _, f := range m.forms {
		p := pair(f)
		m.begin[p] = append(m.begin[p], f)
		m.may[p/64] |= 1 << (p % 64)
	}
	return m
}

// pair are the first two bytes of a text.
func pair(s string) uint16 { return uint16(s[0])<<8 | uint16(s[1]) }

func (m *Masker) add(v string) {
	if len(v) < minMasked {
		return
	}
	escaped, _ := json.Marshal(v) //nolint:errcheck // a text is always JSON
	lower, upper := hex.EncodeToString([]byte(v)), strings.ToUpper(hex.EncodeToString([]byte(v)))
	query := url.QueryEscape(v)
	forms := []string{
		v,
		string(escaped[1 : len(escaped)-1]),
		lower,
		upper,
		query,
		strings.ReplaceAll(query, "+", "%20"),
		url.PathEscape(v),
		lowerPercent(query),
	}
	forms = append(forms, everyByte(v)...)
	for _, enc := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
		for shift := range 3 {
			forms = append(forms, core64(enc, v, shift))
		}
	}
	for _, f := range forms {
		// Line ends are passed over while searching.
		if f = unbroken(f); len(f) >= minMasked {
			m.forms = append(m.forms, f)
		}
	}
}

// everyByte writes a value as those do who escape all of it: each byte as %XX, and each UTF-16 unit as \uXXXX.
func everyByte(v string) []string {
	var percent, escape strings.Builder
	for _, b := range []byte(v) {
		fmt.Fprintf(&percent, "%%%02X", b)
	}
	for _, u := range utf16.Encode([]rune(v)) {
		fmt.Fprintf(&escape, "\\u%04x", u)
	}
	ascii := escapedBeyondASCII(v)
	return []string{percent.String(), strings.ToLower(percent.String()), escape.String(),
		upperHex(escape.String()), ascii, upperHex(ascii)}
}

// escapedBeyondASCII is a value as a text of JSON in which only ASCII stands.
func escapedBeyondASCII(v string) string {
	escaped, _ := json.Marshal(v) //nolint:errcheck // a text is always JSON
	var b strings.Builder
	for _, r := range string(escaped[1 : len(escaped)-1]) {
		if r < utf8.RuneSelf {
			b.WriteRune(r)
			continue
		}
		for _, u := range utf16.Encode([]rune{r}) {
			fmt.Fprintf(&b, "\\u%04x", u)
		}
	}
	return b.String()
}

var escapes = regexp.MustCompile(`\\u[0-9a-f]{4}`)

func upperHex(s string) string {
	return escapes.ReplaceAllStringFunc(s, func(e string) string { return `\u` + strings.ToUpper(e[2:]) })
}

// core64 is what the encoding of a value has in common with that of any text in which it begins after shift bytes,
// modulo 3.
func core64(enc *base64.Encoding, v string, shift int) string {
	e := enc.EncodeToString([]byte(strings.Repeat("\x00", shift) + v))
	first := (shift*8 + 5) / 6 // the first characters hold bits of what stands before
	last := (shift + len(v)) * 8 / 6
	return e[min(first, last):last]
}

func lowerPercent(s string) string {
	b := []byte(s)
	for i := 0; i+2 < len(b); i++ {
		if b[i] == '%' {
			copy(b[i+1:i+3], strings.ToLower(string(b[i+1:i+3])))
		}
	}
	return string(b)
}

func unbroken(s string) string { return strings.NewReplacer("\n", "", "\r", "").Replace(s) }

// folded is a text without its line ends. ends are how many of its bytes stand before each of them.
type folded struct {
	text string
	ends []int
}

func fold(s string) folded {
	lines := strings.Count(s, "\n") + strings.Count(s, "\r")
	if lines == 0 {
		return folded{text: s}
	}
	f := folded{ends: make([]int, 0, lines)}
	var b strings.Builder
	b.Grow(len(s) - lines)
	for s != "" {
		i := strings.IndexAny(s, "\n\r")
		if i < 0 {
			b.WriteString(s)
			break
		}
		b.WriteString(s[:i])
		f.ends = append(f.ends, b.Len())
		s = s[i+1:]
	}
	f.text = b.String()
	return f
}

// at is where a byte of the folded text stands in the text itself.
func (f folded) at(i int) int {
	return i + sort.Search(len(f.ends), func(n int) bool { return f.ends[n] > i })
}

type span struct{ from, to int }

// found lists where a text holds any of the values, in order and without overlaps.
func (m *Masker) found(f folded) []span {
	var out []span
	for i := 0; i+1 < len(f.text); i++ {
		p := pair(f.text[i:])
		if m.may[p/64]&(1<<(p%64)) == 0 {
			continue
		}
		for _, form := range m.begin[p] {
			if strings.HasPrefix(f.text[i:], form) {
				out = append(out, span{f.at(i), f.at(i+len(form)-1) + 1})
				break // it is the longest that begins here
			}
		}
	}
	var merged []span
	for _, s := range out {
		if n := len(merged); n > 0 && s.from < merged[n-1].to {
			merged[n-1].to = max(merged[n-1].to, s.to)
			continue
		}
		merged = append(merged, s)
	}
	return merged
}

// Mask hides every value in a text.
func (m *Masker) Mask(text string) string {
	if len(m.forms) == 0 || text == "" {
		return text
	}
	found := m.found(fold(text))
	if len(found) == 0 {
		return text
	}
	var b strings.Builder
	at := 0
	for _, s := range found {
		b.WriteString(text[at:s.from])
		b.WriteString(hidden)
		at = s.to
	}
	b.WriteString(text[at:])
	return b.String()
}

// MaskCut is Mask for a text that was cut off: where its end may be the beginning of a value, that is hidden too.
func (m *Masker) MaskCut(text string) string {
	if i := m.begins(text); i < len(text) {
		return m.Mask(text[:i]) + hidden
	}
	return m.Mask(text)
}

// begins is where the last part of a text begins that could go on to be a value; its length where there is none.
func (m *Masker) begins(text string) int {
	if len(m.forms) == 0 {
		return len(text)
	}
	tail := tailOf(text, len(m.forms[0]))
	f, first := fold(text[tail:]), len(text)
	for _, form := range m.forms {
		for i := max(0, len(f.text)-len(form)+1); i < len(f.text); i++ {
			if f.text[i] == form[0] && strings.HasPrefix(form, f.text[i:]) {
				first = min(first, tail+f.at(i))
				break
			}
		}
	}
	return first
}

// tailOf is where the last bytes of a text begin, so many besides its line ends.
func tailOf(text string, bytes int) int {
	i := len(text)
	for ; i > 0 && bytes > 0; i-- {
		if text[i-1] != '\n' && text[i-1] != '\r' {
			bytes--
		}
	}
	return i
}

// Stream hides values in a text that comes in pieces: what could be the beginning of one is held back until it is
// clear.
type Stream struct {
	m    *Masker
	held string
}

// Stream begins one.
func (m *Masker) Stream() *Stream { return &Stream{m: m} }

// Next takes a piece and gives what may be shown.
func (s *Stream) Next(piece string) string {
	text := s.held + piece
	cut := s.m.begins(text)
	// A value that is whole already may begin before the cut and end after it.
	for _, f := range s.m.found(fold(text)) {
		if f.from < cut && cut < f.to {
			cut = f.from
		}
	}
	s.held = text[cut:]
	return s.m.Mask(text[:cut])
}

// Rest gives what was held back; the text is over.
func (s *Stream) Rest() string {
	text := s.held
	s.held = ""
	return s.m.Mask(text)
}

// Mask replaces every appearance of the values in text.
func Mask(text string, values ...string) string { return NewMasker(values...).Mask(text) }

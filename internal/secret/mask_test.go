package secret

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestValuesAreHiddenInEveryForm(t *testing.T) {
	const v = `s3cr3t "näh" \x/+?`
	m := NewMasker(v)
	for form, text := range map[string]string{
		"plain": v, "json": func() string { b, _ := json.Marshal(map[string]string{"a": v}); return string(b) }(),
		"base64":          base64.StdEncoding.EncodeToString([]byte(v)),
		"base64url":       base64.URLEncoding.EncodeToString([]byte(v)),
		"with a line end": base64.StdEncoding.EncodeToString([]byte(v + "\n")),
		"hex":             hex.EncodeToString([]byte(v)), "HEX": strings.ToUpper(hex.EncodeToString([]byte(v))),
		"query": url.QueryEscape(v), "path": url.PathEscape(v),
		"lower":      strings.ToLower(url.QueryEscape("§")) + lowerPercent(url.QueryEscape(v)),
		"every byte": everyByte(v)[0], "every byte, small": everyByte(v)[1],
		"every unit": everyByte(v)[2], "every unit, big": everyByte(v)[3],
		"json in ASCII": escapedBeyondASCII(v),
		"broken":        v[:5] + "\n" + v[5:9] + "\r\n" + v[9:],
	} {
		out := m.Mask("before " + text + " after")
		assert.Contains(t, out, hidden, form)
		for i := 0; i+8 < len(text); i++ {
			if !strings.HasPrefix(text[i:], `{"a":`) && i > 6 && i < len(text)-10 {
				assert.NotContains(t, out, text[i:i+8], form)
			}
		}
		assert.True(t, strings.HasPrefix(out, "before ") && strings.HasSuffix(out, " after"), out)
	}
	for shift := range 3 {
		text := base64.StdEncoding.EncodeToString([]byte(strings.Repeat("u", shift) + v + "tail"))
		assert.Contains(t, m.Mask(text), hidden, "inside of something longer, after %d", shift)
	}
	assert.Equal(t, "abc", Mask("abc", "b", ""), "what is short stands everywhere")
	assert.Equal(t, "x\n"+hidden+"\ny", Mask("x\nline-two-of-it\ny", "line-one-of-it\nline-two-of-it\nz"))
}

func TestACutHidesTheBeginning(t *testing.T) {
	m := NewMasker("canary-7781-long")
	assert.Equal(t, "text "+hidden, m.MaskCut("text canary-77"))
	assert.Equal(t, "text "+hidden+" c"[:1]+hidden, m.MaskCut("text canary-7781-long c"))
	assert.Equal(t, "text", m.MaskCut("text"))
}

// Whatever the pieces are, a stream shows what the whole text shows, and no value.
func TestAStreamShowsWhatTheWholeShows(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		value := rapid.StringMatching(`[ab]{6,9}`).Draw(t, "value")
		m := NewMasker(value, "babbab-other")
		text := ""
		for _, p := range rapid.SliceOfN(rapid.OneOf(rapid.StringMatching(`[ab\n]{0,8}`), rapid.Just(value),
			rapid.Just(value[:4]+"\n"+value[4:]),
			rapid.Just(base64.StdEncoding.EncodeToString([]byte(value)))), 1, 6).Draw(t, "parts") {
			text += p
		}
		shown := ""
		s := m.Stream()
		for rest := text; rest != ""; {
			n := rapid.IntRange(1, len(rest)).Draw(t, "piece")
			shown += s.Next(rest[:n])
			rest = rest[n:]
		}
		shown += s.Rest()
		if strings.Contains(unbroken(strings.ReplaceAll(shown, hidden, "|")), value) {
			t.Fatalf("%q is shown in %q", value, shown)
		}
		if want := m.Mask(text); strings.ReplaceAll(want, hidden, "") != strings.ReplaceAll(shown, hidden, "") {
			t.Fatalf("%q in pieces is %q, whole %q", text, shown, want)
		}
	})
}

// slow is the masker as one would write it without a thought for speed.
func slow(text string, forms []string) string {
	hide := make([]bool, len(text))
	for _, f := range forms {
		for i := range text {
			j, k := i, 0
			for ; j < len(text) && k < len(f); j++ {
				if text[j] == '\n' || text[j] == '\r' {
					continue
				}
				if text[j] != f[k] {
					break
				}
				k++
			}
			if k == len(f) && text[i] != '\n' && text[i] != '\r' {
				for x := i; x < j; x++ {
					hide[x] = true
				}
			}
		}
	}
	out := ""
	for i := range len(text) {
		if !hide[i] {
			out += text[i : i+1]
		}
	}
	return out
}

func FuzzMaskAgainstASlowReference(f *testing.F) {
	f.Add("hunter22", "a hunt\ner22 b aHVudGVyMjI=")
	f.Add("aaaaaa", "aaaaaaaaa\naaa")
	f.Fuzz(func(t *testing.T, value, text string) {
		if len(value) > 200 || len(text) > 2000 {
			return
		}
		m := NewMasker(value)
		if got, want := strings.ReplaceAll(m.Mask(strings.ReplaceAll(text, hidden, "")), hidden, ""),
			slow(strings.ReplaceAll(text, hidden, ""), m.forms); got != want {
			t.Fatalf("%q in %q: %q, want %q", value, text, got, want)
		}
	})
}

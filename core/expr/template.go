package expr

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"net/url"
	"regexp"
	"regexp/syntax"
	"strconv"
	"strings"
	"time"

	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/common/types/ref"
	"cel.dev/cel-go/common/types/traits"
)

// Template is text with {{ … }} holes.
type Template struct {
	Source  string
	parts   []part
	secrets bool
}

type part struct {
	text string
	hole *Program
}

// CompileTemplate compiles text with holes. Errors are of type *Error; Offset counts from the start of the text.
func (c *Compiler) CompileTemplate(src string, where Where) (*Template, error) {
	if i := strings.IndexAny(src, secretOpen+boundOpen+boundClose); i >= 0 {
		return nil, &Error{Offset: i, Message: "this character is kept for marks of the engine itself"}
	}
	t := &Template{Source: src, secrets: where.secrets}
	at := 0
	for {
		i := strings.Index(src[at:], "{{")
		if i < 0 {
			break
		}
		if i > 0 {
			t.parts = append(t.parts, part{text: src[at : at+i]})
		}
		start := at + i + 2
		end := holeEnd(src, start)
		if end < 0 {
			return nil, &Error{Offset: at + i, Message: "this {{ is not closed by }}"}
		}
		p, err := c.Compile(src[start:end], where)
		if err != nil {
			e := *err.(*Error)
			e.Offset += start
			if strings.HasPrefix(strings.TrimSpace(src[start:end]), ".") {
				e.Message = "{{ }} holds an expression; braces for another program are written {{ '{{' }} and {{ " +
					"'}}' }}"
			}
			return nil, &e
		}
		if p.IsReading() {
			return nil, &Error{
				Offset:  start,
				Message: "a whole reading has no text; say which value is meant, as in own(…) or max(…)",
			}
		}
		p.Source = strings.TrimSpace(p.Source)
		t.parts = append(t.parts, part{hole: p})
		at = end + 2
	}
	if at < len(src) {
		t.parts = append(t.parts, part{text: src[at:]})
	}
	return t, nil
}

// holeEnd finds the }} that ends a hole: not one inside a CEL string or inside brackets.
func holeEnd(s string, i int) int {
	depth := 0
	for i < len(s) {
		switch c := s[i]; c {
		case '"', '\'':
			raw := i > 0 && (s[i-1] == 'r' || s[i-1] == 'R')
			q := string(c)
			if strings.HasPrefix(s[i:], strings.Repeat(q, 3)) {
				q = strings.Repeat(q, 3)
			}
			i += len(q)
			for i < len(s) && !strings.HasPrefix(s[i:], q) {
				if s[i] == '\\' && !raw {
					i++
				}
				i++
			}
			i += len(q)
			continue
		case '{', '[', '(':
			depth++
		case '}', ']', ')':
			if c == '}' && depth == 0 && strings.HasPrefix(s[i:], "}}") {
				return i
			}
			if depth > 0 {
				depth--
			}
		}
		i++
	}
	return -1
}

// Holes lists the expressions in the text.
func (t *Template) Holes() []*Program {
	if t == nil {
		return nil
	}
	var out []*Program
	for _, p := range t.parts {
		if p.hole != nil {
			out = append(out, p.hole)
		}
	}
	return out
}

// Value renders the text; a text that is one hole keeps the type of its value.
func (t *Template) Value(s *Scope) (any, error) {
	if len(t.parts) == 1 && t.parts[0].hole != nil {
		return t.parts[0].hole.Eval(s)
	}
	return t.Text(s)
}

// Text renders the text.
func (t *Template) Text(s *Scope) (string, error) { return t.text(s, Say) }

// Prose renders a text that people read: lists are written as words.
func (t *Template) Prose(s *Scope) (string, error) { return t.text(s, SayWords) }

func (t *Template) text(s *Scope, say func(any) string) (string, error) {
	return t.fill(func(hole *Program) (string, error) {
		v, err := hole.Eval(s)
		if err != nil {
			return "", fmt.Errorf("{{ %s }}: %w", hole.Source, err)
		}
		text := say(v)
		switch {
		case hole.sealed && !sealedPattern.MatchString(text):
			return "", fmt.Errorf("{{ %s }}: the value is more than the sealed reading", hole.Source)
		case t.secrets && len(hole.secrets) == 0 && !hole.sealed && strings.Contains(text, secretOpen):
			return "", fmt.Errorf("{{ %s }}: the value holds the mark of a secret", hole.Source)
		}
		return text, nil
	})
}

// fill writes the text with what say gives for each hole.
func (t *Template) fill(say func(hole *Program) (string, error)) (string, error) {
	if t == nil {
		return "", nil
	}
	var b strings.Builder
	for _, p := range t.parts {
		text := p.text
		if p.hole != nil {
			var err error
			if text, err = say(p.hole); err != nil {
				return "", err
			}
		}
		if b.WriteString(text); b.Len() > MaxValue {
			return "", ErrTooLarge
		}
	}
	return b.String(), nil
}

// The marks under which secrets stand in rendered text until the moment of use.
const (
	secretOpen  = "\u27e6"
	secretClose = "\u27e7"
	sealedOpen  = secretOpen + "sealed:"
)

// SecretMark stands for a secret in rendered text; its value is put there when the request is made.
func SecretMark(name string) string { return secretOpen + "secret:" + name + secretClose }

// SealedMark stands for the value of a sealed reading; sealed is its encrypted form in base64.
func SealedMark(sealed string) string { return sealedOpen + sealed + secretClose }

var markPattern = regexp.MustCompile(secretOpen + `(secret|sealed):([A-Za-z0-9_+/=.-]+)` + secretClose)

// sealedPattern is one sealed value and nothing else.
var sealedPattern = regexp.MustCompile(`^` + sealedOpen + `[A-Za-z0-9_+/=.-]+` + secretClose + `$`)

// FillSecrets puts values in the place of marks.
func FillSecrets(text string, value func(kind, name string) (string, error)) (string, error) {
	var failed error
	out := markPattern.ReplaceAllStringFunc(text, func(m string) string {
		g := markPattern.FindStringSubmatch(m)
		v, err := value(g[1], g[2])
		if err != nil && failed == nil {
			failed = err
		}
		return v
	})
	return out, failed
}

// ShowSecrets writes the marks of secrets for a person.
func ShowSecrets(text string) string {
	return markPattern.ReplaceAllStringFunc(text, func(m string) string {
		if g := markPattern.FindStringSubmatch(m); g[1] == "secret" {
			return "⟨secret " + g[2] + "⟩"
		}
		return "⟨sealed⟩"
	})
}

// SecretsIn lists the names of the secrets that a text has marks of.
func SecretsIn(text string) []string {
	var out []string
	for _, g := range markPattern.FindAllStringSubmatch(text, -1) {
		if g[1] == "secret" {
			out = append(out, g[2])
		}
	}
	return out
}

// Bounded renders the text where values are not known yet: a hole with a bound stands as a mark of what it allows.
func (t *Template) Bounded(s *Scope) (string, error) {
	return t.fill(func(hole *Program) (string, error) {
		v, err := hole.Eval(s)
		if bound := hole.Bound(); errors.Is(err, ErrUnsure) && bound != nil {
			mark, err := json.Marshal(bound)
			return boundOpen + string(mark) + boundClose, err
		} else if errors.Is(err, ErrUnsure) {
			return "", fmt.Errorf("{{ %s }} is not known yet and has no limit such as within(…): "+
				"%w", hole.Source, err)
		}
		if err != nil {
			return "", fmt.Errorf("{{ %s }}: %w", hole.Source, err)
		}
		text := Say(v)
		if strings.ContainsAny(text, boundOpen+boundClose) {
			return "", fmt.Errorf("{{ %s }}: the value holds the mark of a bound", hole.Source)
		}
		return text, nil
	})
}

// Partly renders the text for a reader: what is not known yet stands as the expression itself.
func (t *Template) Partly(s *Scope) string {
	text, _ := t.fill(func(hole *Program) (string, error) {
		if v, err := hole.Eval(s); err == nil {
			return Say(v), nil
		}
		return "⟨" + hole.Source + "⟩", nil
	})
	return text
}

// The marks around a bound (noncharacters of Unicode, which no text holds).
const (
	boundOpen  = "\ufdd0"
	boundClose = "\ufdd1"
)

var boundPattern = regexp.MustCompile(boundOpen + `([^` + boundClose + `]*)` + boundClose)

// ShowBounds writes what each bound in a text allows, for a person.
func ShowBounds(text string) string {
	return boundPattern.ReplaceAllStringFunc(text, func(m string) string { return "⟨" + boundIn(m).String() + "⟩" })
}

func boundIn(mark string) Bound {
	var b Bound
	json.Unmarshal(
		[]byte(boundPattern.FindStringSubmatch(mark)[1]),
		&b,
	) //nolint:errcheck // we wrote it; an empty bound allows nothing
	return b
}

// unnamed reads a pattern by itself, so that a bracket too many cannot reach out of what is put around it, and writes
// it without the names of its groups, of which it tells the number.
func unnamed(pattern string) (text string, groups int, err error) {
	re, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil {
		return "", 0, err
	}
	var strip func(re *syntax.Regexp)
	strip = func(re *syntax.Regexp) {
		re.Name = ""
		for _, s := range re.Sub {
			strip(s)
		}
	}
	groups = re.MaxCap()
	strip(re)
	return re.String(), groups, nil
}

// Covers reports whether a text is what an approved text with bounds allows.
func Covers(approved, text string) bool {
	marks := boundPattern.FindAllStringIndex(approved, -1)
	if len(marks) == 0 {
		return approved == text
	}
	var re strings.Builder
	ranges := map[int]Bound{} // by the number of the group
	group := 1
	re.WriteString(`^`)
	at := 0
	for _, m := range marks {
		re.WriteString(regexp.QuoteMeta(approved[at:m[0]]))
		b := boundIn(approved[m[0]:m[1]])
		if b.Pattern == "" {
			ranges[group] = b
			b.Pattern = `[-+0-9.eE]+`
		}
		pattern, groups, err := unnamed(b.Pattern)
		if err != nil {
			return false
		}
		re.WriteString(`(` + pattern + `)`)
		group += 1 + groups
		at = m[1]
	}
	re.WriteString(regexp.QuoteMeta(approved[at:]) + `$`)
	c, err := regexp.Compile(re.String())
	if err != nil {
		return false
	}
	found := c.FindStringSubmatch(text)
	if found == nil {
		return false
	}
	for i, r := range ranges {
		if !r.Allows(found[i]) {
			return false
		}
	}
	return true
}

// Say writes a value as text: numbers as they are written, lists and objects as JSON, nothing as "".
func Say(v any) string {
	switch x := v.(type) {
	case nil:
		return ""
	case string:
		return x
	case bool:
		return strconv.FormatBool(x)
	case int64:
		return strconv.FormatInt(x, 10)
	case float64:
		if x == math.Trunc(x) && math.Abs(x) < 1e15 {
			return strconv.FormatFloat(x, 'f', 0, 64)
		}
		return strconv.FormatFloat(x, 'g', -1, 64)
	case time.Time:
		return x.UTC().Format(time.RFC3339)
	case time.Duration:
		return x.String()
	}
	b, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(b)
}

// mostWords bounds how many items of a list are written out.
const mostWords = 20

// SayWords is Say for people: a list reads as words, "a, b and c"; items that are all the same are said once.
func SayWords(v any) string {
	list, ok := v.([]any)
	if !ok {
		return Say(v)
	}
	words, same := make([]string, len(list)), true
	for i, x := range list {
		switch x.(type) {
		case []any, map[string]any:
			return Say(v)
		}
		if words[i] = Say(x); words[i] == "" {
			words[i] = `""`
		}
		same = same && words[i] == words[0]
	}
	return inWords(words, same)
}

func inWords(words []string, same bool) string {
	n := len(words)
	switch {
	case n == 0:
		return "none"
	case n == 1:
		return words[0]
	case same:
		return fmt.Sprintf("%s (all %d)", words[0], n)
	case n > mostWords:
		return fmt.Sprintf("%s and %d more", strings.Join(words[:mostWords], ", "), n-mostWords)
	}
	return strings.Join(words[:n-1], ", ") + " and " + words[n-1]
}

// Words joins words for people, as SayWords does.
func Words(words []string) string { return inWords(words, false) }

func native(v ref.Val) any {
	switch x := v.(type) {
	case types.Null:
		return nil
	case types.Int:
		return int64(x)
	case types.Uint:
		return int64(x)
	case types.Double:
		return float64(x)
	case types.Bool:
		return bool(x)
	case types.String:
		return string(x)
	case types.Bytes:
		return string(x)
	case types.Timestamp:
		return x.Time
	case types.Duration:
		return x.Duration
	case traits.Mapper:
		out := map[string]any{}
		for it := x.Iterator(); it.HasNext() == types.True; {
			k := it.Next()
			out[Say(native(k))] = native(x.Get(k))
		}
		return out
	case traits.Lister:
		out := make([]any, 0)
		for it := x.Iterator(); it.HasNext() == types.True; {
			out = append(out, native(it.Next()))
		}
		return out
	}
	return v.Value()
}

// HostHoles lists the expressions that stand in the host of a URL, before its path. A port that is a whole number is
// none: it names no other host.
func (t *Template) HostHoles() []*Program {
	var out []*Program
	slashes := 0
	for i, p := range t.parts {
		if p.hole != nil {
			port := i > 0 && strings.HasSuffix(t.parts[i-1].text, ":") && p.hole.TypeName() == string(Integer)
			if slashes < 3 && !port {
				out = append(out, p.hole)
			}
			continue
		}
		if slashes += strings.Count(p.text, "/"); strings.ContainsAny(p.text, "?#") {
			slashes = 3
		}
	}
	return out
}

func climbs(value string) bool {
	for piece := range strings.FieldsFuncSeq(value, func(r rune) bool { return r == '/' || r == '\\' }) {
		if piece == "." || piece == ".." {
			return true
		}
	}
	return false
}

// Path renders the path of a file. A value from outside is one piece of it, and no piece is . or ..
func (t *Template) Path(s *Scope) (string, error) {
	out, err := t.fill(func(hole *Program) (string, error) {
		v, err := hole.Eval(s)
		if err != nil {
			return "", fmt.Errorf("{{ %s }}: %w", hole.Source, err)
		}
		text := Say(v)
		if strings.ContainsAny(text, "/\x00") && !inside[rootOf(hole.ast.NativeRep().Expr())] {
			return "", fmt.Errorf("{{ %s }}: %q is not one piece of a path", hole.Source, text)
		}
		return text, nil
	})
	if err == nil && len(t.Holes()) > 0 && climbs(out) {
		return "", fmt.Errorf("the path %q climbs out of its folder", out)
	}
	return out, err
}

// URL renders the text of a URL; a value becomes one piece of its path or query, whatever it holds.
func (t *Template) URL(s *Scope) (string, error) {
	host := map[*Program]bool{}
	for _, h := range t.HostHoles() {
		host[h] = true
	}
	var b strings.Builder
	for _, p := range t.parts {
		if p.hole == nil {
			b.WriteString(p.text)
			continue
		}
		v, err := p.hole.Eval(s)
		if err != nil {
			return "", fmt.Errorf("{{ %s }}: %w", p.hole.Source, err)
		}
		switch {
		case host[p.hole]:
			b.WriteString(Say(v))
		case strings.Contains(b.String(), "?"):
			b.WriteString(url.QueryEscape(Say(v)))
		default:
			// A value with the piece . or .. would climb in the path: many servers read %2E and %2F as what they
			// stand for.
			if climbs(Say(v)) {
				return "", fmt.Errorf("{{ %s }}: %q would climb in the path", p.hole.Source, Say(v))
			}
			b.WriteString(strings.ReplaceAll(url.PathEscape(Say(v)), ".", "%2E"))
		}
	}
	return b.String(), nil
}

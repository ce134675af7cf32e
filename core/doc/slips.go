package doc

import (
	"fmt"
	"regexp"
	"strings"
)

// The commonest slips in the text of a runbook make it something that is not YAML, or YAML of another meaning. A parser
// says where it stumbled; what follows says what was probably meant, at its own place.

var (
	keyed     = regexp.MustCompile(`^(\s*(?:- )*)([A-Za-z_][A-Za-z0-9_-]*):(?:\s+(.*))?$`)
	dashed    = regexp.MustCompile(`^\s*-([a-z_]+):`)
	joined    = regexp.MustCompile(`^\s*(?:- )*([a-z_]+):([^\s:/].*)$`)
	openBrace = regexp.MustCompile(`(?:^|[:\-\[,]\s*)\{\{`)
)

// slipIn looks for a slip at the line at which the YAML parser stumbled, the lines beside it, and then in all of the
// text. ok is false where there is none that is known.
func slipIn(src string, line int, said string) (f Finding, ok bool) {
	lines := strings.Split(src, "\n")
	at := func(n int) string {
		if n >= 1 && n <= len(lines) {
			return strings.TrimRight(lines[n-1], "\r")
		}
		return ""
	}
	for n := range lines {
		if f, ok := tabbed(lines[n], n+1); ok {
			return f, true
		}
	}
	near := []int{line, line + 1, line - 1}
	for _, find := range []func(string, int) (Finding, bool){unquotedBraces, unclosedQuote, colonInText,
		noSpaceAfterDash, noSpaceAfterColon} {
		for _, n := range near {
			if f, ok := find(at(n), n); ok {
				return f, true
			}
		}
	}
	if f, ok := unclosedBracket(lines, said); ok {
		return f, true
	}
	for _, n := range near {
		if f, ok := outOfLine(at, n); ok {
			return f, true
		}
	}
	return Finding{}, false
}

func slipAt(line, column int, format string, args ...any) (Finding, bool) {
	return Finding{Line: line, Column: column, Message: fmt.Sprintf(format, args...)}, true
}

func tabbed(text string, n int) (Finding, bool) {
	indent := text[:len(text)-len(strings.TrimLeft(text, " \t"))]
	if i := strings.IndexByte(indent, '\t'); i >= 0 && strings.TrimSpace(text) != "" {
		return slipAt(n, i+1, "this line begins with a tab: a runbook is indented with spaces")
	}
	return Finding{}, false
}

// outsideQuotes is a text with all that stands in quotes made blank; closed is false where a quote is not.
func outsideQuotes(text string) (out string, open int) {
	b := []byte(text)
	quote, from := byte(0), -1
	for i := 0; i < len(b); i++ {
		c := b[i]
		switch {
		case quote == '"' && c == '\\':
			b[i] = ' '
			if i++; i < len(b) {
				b[i] = ' '
			}
		case quote == 0 && (c == '"' || c == '\'') && begins(b[:i]):
			quote, from = c, i
		case quote != 0 && c == quote:
			quote = 0
		case quote == 0 && c == '#' && (i == 0 || b[i-1] == ' '):
			return string(b[:i]), -1
		case quote != 0:
			b[i] = ' '
		}
	}
	if quote == 0 {
		from = -1
	}
	return string(b), from
}

// begins reports whether a value begins after what stands before it: a quote inside of a plain text is only a letter.
func begins(before []byte) bool {
	s := strings.TrimRight(string(before), " ")
	return s == "" || strings.ContainsAny(s[len(s)-1:], ":[{,-")
}

func unquotedBraces(text string, n int) (Finding, bool) {
	bare, _ := outsideQuotes(text)
	i := openBrace.FindStringIndex(bare)
	if i == nil {
		return Finding{}, false
	}
	at := i[1] - 2
	rest := strings.TrimSpace(text[at:])
	if strings.ContainsAny(bare[:at], "[{") {
		if end := strings.Index(rest, "}}"); end >= 0 {
			rest = rest[:end+2]
		}
	}
	return slipAt(n, at+1, `a text that begins with {{ stands in quotes: "%s"`, rest)
}

func unclosedQuote(text string, n int) (Finding, bool) {
	if _, from := outsideQuotes(text); from >= 0 {
		return slipAt(n, from+1, "this quote is not closed")
	}
	return Finding{}, false
}

// colonInText finds a colon and a space in a text without quotes, which YAML takes for another key.
func colonInText(text string, n int) (Finding, bool) {
	m := keyed.FindStringSubmatch(text)
	if m == nil || m[3] == "" || strings.ContainsAny(m[3][:1], `"'[{|>&*!#`) {
		return Finding{}, false
	}
	bare, _ := outsideQuotes(m[3])
	if !strings.Contains(bare, ": ") && !strings.HasSuffix(bare, ":") {
		return Finding{}, false
	}
	return slipAt(
		n,
		len(m[1])+len(m[2])+3,
		`the text holds a colon: put it in quotes, as in %s: "%s"`,
		m[2],
		strings.TrimSpace(bare),
	)
}

func noSpaceAfterDash(text string, n int) (Finding, bool) {
	m := dashed.FindStringSubmatchIndex(text)
	if m == nil {
		return Finding{}, false
	}
	return slipAt(n, m[2], "a space is missing after the dash: - %s", strings.TrimSpace(text[m[2]:]))
}

func noSpaceAfterColon(text string, n int) (Finding, bool) {
	m := joined.FindStringSubmatchIndex(text)
	if m == nil {
		return Finding{}, false
	}
	return slipAt(n, m[2]+1, "a space is missing after the colon: %s: %s", text[m[2]:m[3]], text[m[4]:m[5]])
}

// unclosedBracket finds the bracket that is not closed, where the parser missed one.
func unclosedBracket(lines []string, said string) (Finding, bool) {
	if !strings.Contains(said, "']'") && !strings.Contains(said, "'}'") {
		return Finding{}, false
	}
	type place struct {
		line, column int
		bracket      byte
	}
	var open []place
	for n, text := range lines {
		bare, _ := outsideQuotes(text)
		if len(open) > 0 && keyed.MatchString(bare) && !strings.HasSuffix(strings.TrimSpace(lines[n-1]), ",") {
			break // a key of the next step: what is open then was to be closed before
		}
		for i := range bare {
			switch c := bare[i]; c {
			case '[', '{':
				open = append(open, place{n + 1, i + 1, c})
			case ']', '}':
				if len(open) > 0 {
					open = open[:len(open)-1]
				}
			}
		}
	}
	if len(open) == 0 {
		return Finding{}, false
	}
	p := open[len(open)-1]
	shut := map[byte]string{'[': "]", '{': "}"}[p.bracket]
	return slipAt(p.line, p.column, "this %c is not closed by %s", p.bracket, shut)
}

// outOfLine finds a key that does not stand under those of its step, and a step without its dash.
func outOfLine(at func(int) string, n int) (Finding, bool) {
	m := keyed.FindStringSubmatch(at(n))
	if m == nil {
		return Finding{}, false
	}
	column := len(m[1])
	for above := n - 1; above >= 1; above-- {
		p := keyed.FindStringSubmatch(at(above))
		if p == nil {
			continue
		}
		by := column - len(p[1])
		switch {
		case by == 0:
			return Finding{}, false
		case by == 1 || by == -1, by > 0 && p[3] != "" && !strings.ContainsAny(p[3][:1], "|>"):
			if by > 1 || by < -1 {
				return slipAt(
					n,
					column+1,
					"%s stands %d spaces too far to the right: the keys of a step stand under one another",
					m[2],
					by,
				)
			}
			side := map[bool]string{true: "right", false: "left"}[by > 0]
			return slipAt(
				n,
				column+1,
				"%s stands one space too far to the %s: the keys of a step stand under one another",
				m[2],
				side,
			)
		case strings.HasSuffix(p[1], "- ") && column == len(p[1])-2 && !strings.Contains(m[1], "-"):
			return slipAt(n, column+1, "every step begins with a dash: - %s", strings.TrimSpace(at(n)))
		}
		if by < 0 {
			continue // it may belong to what is further out
		}
		return Finding{}, false
	}
	return Finding{}, false
}

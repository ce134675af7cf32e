package device

import "strings"

// maxLine bounds one line of a device, in bytes; what is longer is cut into several.
const maxLine = 16 << 10

// screen makes lines of what a terminal prints: backspaces and returns to the start of a line are carried out, and
// sequences that move or colour (ECMA-48) are left out.
type screen struct {
	line   []byte
	column int
	// escape is how far into a sequence it is.
	escape escape
}

type escape int

const (
	noEscape escape = iota
	begun
	control // CSI: ends with @ to ~
	text    // OSC: ends with BEL
)

// print takes bytes and gives the lines that they complete.
func (s *screen) print(b []byte) []string {
	var out []string
	for _, c := range b {
		if s.escaped(c) {
			continue
		}
		switch {
		case c == '\n':
			out = append(out, s.end())
		case c == '\r':
			s.column = 0
		case c == '\b':
			s.column = max(0, s.column-1)
		case c == '\t' || c >= ' ' && c != 0x7f:
			if s.column < len(s.line) {
				s.line[s.column] = c
			} else {
				s.line = append(s.line, c)
			}
			if s.column++; s.column >= maxLine {
				out = append(out, s.end())
			}
		}
	}
	return out
}

// escaped reports whether a byte is a part of a sequence.
func (s *screen) escaped(c byte) bool {
	switch s.escape {
	case begun:
		switch c {
		case '[':
			s.escape = control
		case ']':
			s.escape = text
		default:
			s.escape = noEscape
		}
		return true
	case control:
		if c >= '@' && c <= '~' {
			s.escape = noEscape
		}
		return true
	case text:
		if c == '\a' || c == '\n' {
			s.escape = noEscape
		}
		return c != '\n'
	case noEscape:
	}
	if c == 0x1b {
		s.escape = begun
		return true
	}
	return false
}

func (s *screen) end() string {
	l := strings.TrimRight(string(s.line), " ")
	s.clear()
	return l
}

// last is the line that is not complete, as far as the place where more would be printed.
func (s *screen) last() string { return string(s.line[:min(s.column, len(s.line))]) }

func (s *screen) clear() { s.line, s.column = s.line[:0], 0 }

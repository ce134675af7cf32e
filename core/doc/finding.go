package doc

import (
	"fmt"
	"strings"
)

// Finding is one thing that is wrong with, or doubtful in, the text of a runbook.
type Finding struct {
	Line    int    `json:"line"`   // from 1
	Column  int    `json:"column"` // from 1
	Warning bool   `json:"warning"`
	Message string `json:"message"`
	Meant   string `json:"meant,omitempty"` // what was probably meant
}

// Findings is all that was found, in the order of the text.
type Findings []Finding

// Failed reports whether any finding is an error.
func (f Findings) Failed() bool {
	for _, x := range f {
		if !x.Warning {
			return true
		}
	}
	return false
}

// Error makes findings an error, for callers that only want to hand it on.
func (f Findings) Error() string {
	var out []string
	for _, x := range f {
		if !x.Warning {
			out = append(out, fmt.Sprintf("line %d: %s", x.Line, x.Sentence()))
		}
	}
	return strings.Join(out, "; ")
}

// Sentence is the message with what was probably meant.
func (x Finding) Sentence() string {
	if x.Meant != "" {
		return x.Message + "; did you mean " + x.Meant + "?"
	}
	return x.Message
}

// Format writes the findings with the lines they speak of, as a person reads them.
func (f Findings) Format(name string, src []byte) string {
	lines := strings.Split(string(src), "\n")
	var b strings.Builder
	for _, x := range f {
		kind := "error"
		if x.Warning {
			kind = "warning"
		}
		fmt.Fprintf(&b, "%s:%d:%d: %s: %s\n", name, x.Line, x.Column, kind, x.Sentence())
		if x.Line >= 1 && x.Line <= len(lines) {
			text := strings.TrimRight(lines[x.Line-1], "\r")
			fmt.Fprintf(&b, "  %4d | %s\n", x.Line, text)
			if col := x.Column - 1; col >= 0 && col <= len(text) {
				pad := strings.Map(func(r rune) rune {
					if r == '\t' {
						return r
					}
					return ' '
				}, text[:col])
				fmt.Fprintf(&b, "       | %s^\n", pad)
			}
		}
	}
	return b.String()
}

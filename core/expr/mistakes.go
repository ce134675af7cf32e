package expr

import (
	"fmt"
	"regexp"
	"strings"
)

// Error is what is wrong with an expression, and where in its source (bytes from 0).
type Error struct {
	Offset  int
	Message string
	// Unknown is the name that is not there, where that is what is wrong.
	Unknown string
}

func (e *Error) Error() string { return e.Message }

// mistake says in the words of this product what the CEL library found at a place of a source.
func mistake(src string, at int, m string) *Error {
	switch {
	case strings.HasPrefix(m, "undeclared reference to '"):
		return undeclared(src, at, between(m))
	case strings.HasPrefix(m, "undefined field '"):
		name := between(m)
		return &Error{Offset: at, Message: fmt.Sprintf("there is no %s there", name), Unknown: name}
	case strings.HasPrefix(m, "found no matching overload for '"):
		return overload(src, at, m)
	case strings.HasPrefix(m, "Syntax error: "):
		return unreadable(src, at, strings.TrimPrefix(m, "Syntax error: "))
	}
	return &Error{Offset: at, Message: m}
}

// between is what stands in the first quotes of a message.
func between(m string) string {
	parts := strings.SplitN(m, "'", 3)
	if len(parts) < 3 {
		return ""
	}
	return parts[1]
}

func undeclared(src string, at int, name string) *Error {
	switch name {
	case "secrets":
		return &Error{Offset: at, Message: "secrets may stand only in env, headers and the password of a database"}
	case "now":
		return &Error{Offset: at, Message: "now cannot stand in a change: what was approved must be what runs"}
	case "not":
		return &Error{Offset: at, Message: "write ! for not"}
	}
	if regexp.MustCompile(`\b` + regexp.QuoteMeta(name) + `\s*\(`).MatchString(src) {
		return &Error{Offset: at, Message: "there is no function " + name, Unknown: name}
	}
	return &Error{Offset: at, Message: fmt.Sprintf("there is no %s here", name), Unknown: name}
}

// celTypes are the names of types as runbooks have them.
var celTypes = strings.NewReplacer("int", "integer", "double", "number", "string", "text", "bool", "true or false",
	"google.protobuf.Timestamp", "a time", "google.protobuf.Duration", "a time span", "timestamp", "a time",
	"duration", "a time span", "list", "a list", "map", "a mapping", "urgentis.", "")

var (
	overloadWords = regexp.MustCompile(`^found no matching overload for '([^']+)' applied to '\((.*)\)'$`)
	operator      = regexp.MustCompile(`^_?([^_a-z\[\]]+)_$|^_(\[)_\]$|^@?(in)$`)
	bareReading   = regexp.MustCompile(`(^|[^(\w.])(readings\.\w+)`)
	quotedNumber  = regexp.MustCompile(`["'](-?[0-9]+(\.[0-9]+)?)["']`)
)

// overload says which types do not go together.
func overload(src string, at int, m string) *Error {
	x := overloadWords.FindStringSubmatch(m)
	if x == nil {
		return &Error{Offset: at, Message: m}
	}
	name, args := x[1], splitTypes(x[2])
	if i := bareReading.FindStringSubmatchIndex(src); i != nil && strings.Contains(x[2], "reading(") {
		r := src[i[4]:i[5]]
		return &Error{Offset: i[4], Message: fmt.Sprintf(
			"%s has a value of each target: say which one counts, as in max(%s) or min(%s)", r, r, r)}
	}
	for i, a := range args {
		if args[i] = celTypes.Replace(a); strings.HasPrefix(a, "reading(") {
			args[i] = "a reading"
		}
	}
	op := operator.FindStringSubmatch(name)
	if op == nil || len(args) != 2 {
		return &Error{Offset: at, Message: fmt.Sprintf("%s() does not take %s", name, strings.Join(args, ", "))}
	}
	sign := op[1] + op[2] + op[3]
	says := fmt.Sprintf("%s %s %s: these types do not go together", args[0], sign, args[1])
	numbers := args[0] == "integer" || args[0] == "number" || args[1] == "integer" || args[1] == "number"
	texts := args[0] == "text" || args[1] == "text"
	if n := quotedNumber.FindStringSubmatch(src); n != nil && numbers && texts {
		says += fmt.Sprintf("; a number stands without quotes: %s", n[1])
	} else if sign == "+" && numbers && texts {
		says += "; make a text of a number with string(…)"
	}
	return &Error{Offset: at, Message: says}
}

// splitTypes takes a list of types apart; the commas inside of one do not count.
func splitTypes(list string) []string {
	var out []string
	depth, from := 0, 0
	for i, c := range list {
		switch c {
		case '(':
			depth++
		case ')':
			depth--
		case ',':
			if depth == 0 {
				out, from = append(out, strings.TrimSpace(list[from:i])), i+1
			}
		}
	}
	return append(out, strings.TrimSpace(list[from:]))
}

// unreadable says what cannot be read, and what was probably meant.
func unreadable(src string, at int, m string) *Error {
	found := between(m)
	switch {
	case strings.HasPrefix(m, "token recognition error") && strings.HasPrefix(found, "="):
		return &Error{Offset: at, Message: "= compares nothing: write =="}
	case strings.HasPrefix(m, "token recognition error") && strings.HasPrefix(found, "&"),
		found == "and",
		found == "AND":
		return &Error{Offset: at, Message: "write && for and"}
	case strings.HasPrefix(m, "token recognition error") && strings.HasPrefix(found, "|"), found == "or", found == "OR":
		return &Error{Offset: at, Message: "write || for or"}
	case strings.HasPrefix(m, "token recognition error at: '\""),
		strings.HasPrefix(m, "token recognition error at: ''"):
		return &Error{Offset: at, Message: "this quote is not closed"}
	case strings.HasPrefix(m, "missing ')'"):
		return &Error{Offset: unclosed(src, '(', ')'), Message: "this ( is not closed"}
	case strings.HasPrefix(m, "missing ']'"):
		return &Error{Offset: unclosed(src, '[', ']'), Message: "this [ is not closed"}
	case strings.Contains(m, "'<EOF>'"):
		return &Error{Offset: at, Message: "the expression ends before it is whole"}
	case found != "":
		return &Error{Offset: at, Message: fmt.Sprintf("%s does not belong here", found)}
	}
	return &Error{Offset: at, Message: "this cannot be read: " + m}
}

// unclosed is where the last bracket begins that is not closed.
func unclosed(src string, open, shut rune) int {
	var begun []int
	for i, c := range src {
		switch c {
		case open:
			begun = append(begun, i)
		case shut:
			if len(begun) > 0 {
				begun = begun[:len(begun)-1]
			}
		}
	}
	if len(begun) == 0 {
		return len(src)
	}
	return begun[0]
}

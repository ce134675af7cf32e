package act

import (
	"fmt"
	"sort"
	"strings"
	"unicode"

	"urgentis/core/leave"
)

// Show writes a request as a person reads it: words that need it in quotes, and invisible characters made visible.
func Show(r leave.Request) string {
	var b strings.Builder
	if r.Kind == "http" {
		b.WriteString(r.Method + " " + visible(r.URL))
		names := make([]string, 0, len(r.Headers))
		for k := range r.Headers {
			names = append(names, k)
		}
		sort.Strings(names)
		for _, k := range names {
			b.WriteString("\n" + k + ": " + visible(r.Headers[k]))
		}
		if r.Body != "" {
			b.WriteString("\n\n" + visible(r.Body))
		}
		return b.String()
	}
	for i, w := range r.Words {
		if i > 0 {
			b.WriteByte(' ')
		}
		b.WriteString(word(w))
	}
	if r.As != "" {
		b.WriteString("   (as " + r.As + ")")
	}
	return b.String()
}

func word(w string) string {
	plain := w != ""
	for _, c := range w {
		plain = plain && (unicode.IsLetter(c) || unicode.IsDigit(c) || strings.ContainsRune("-_./:=,@%+", c)) && c < 0x250
	}
	if plain {
		return w
	}
	return "'" + strings.ReplaceAll(visible(w), "'", `'\''`) + "'"
}

// visible replaces control, formatting and direction characters, which could make one text look like another.
func visible(s string) string {
	var b strings.Builder
	for _, c := range s {
		if c == '\n' || c != ' ' && !unicode.IsGraphic(c) || unicode.Is(unicode.Cf, c) || unicode.Is(unicode.Zs, c) && c != ' ' {
			fmt.Fprintf(&b, "⟨U+%04X⟩", c)
			continue
		}
		b.WriteRune(c)
	}
	return b.String()
}

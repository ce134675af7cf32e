package plain

import (
	"fmt"
	"strconv"
	"strings"
	"time"
	"unicode"
)

// hidden reports whether a character is not seen as what it is: control, formatting and direction characters, spaces
// that are not the space, and what no font draws.
func hidden(c rune) bool {
	return c != ' ' &&
		(!unicode.IsGraphic(c) || unicode.Is(unicode.Cf, c) || unicode.Is(unicode.Zs, c) || c == 0x115F ||
			c == 0x1160 || c == 0x3164 || c == 0xFFA0)
}

// Line gives a text on one line, what is hidden in it made visible as ⟨U+202E⟩.
func Line(s string) string {
	// A byte that is no UTF-8 is a control character for some terminals, and becomes one with others that follow.
	s = strings.ToValidUTF8(s, "\uFFFD")
	if strings.IndexFunc(s, hidden) < 0 {
		return s
	}
	var b strings.Builder
	for _, c := range s {
		if hidden(c) {
			fmt.Fprintf(&b, "⟨U+%04X⟩", c)
			continue
		}
		b.WriteRune(c)
	}
	return b.String()
}

// Text is Line for a text of several lines; tabs stay too.
func Text(s string) string {
	lines := strings.Split(strings.ReplaceAll(s, "\r\n", "\n"), "\n")
	for i, l := range lines {
		parts := strings.Split(l, "\t")
		for j, p := range parts {
			parts[j] = Line(p)
		}
		lines[i] = strings.Join(parts, "\t")
	}
	return strings.Join(lines, "\n")
}

// Span writes a time span as the runbook language does, without the parts that are zero: 5m, 1h30m.
func Span(d time.Duration) string {
	const day = 24 * time.Hour
	if d >= 2*day && d%day == 0 {
		return fmt.Sprintf("%dd", d/day)
	}
	s := d.String()
	for _, zero := range []string{"m0s", "h0m"} {
		if strings.HasSuffix(s, zero) {
			s = s[:len(s)-2]
		}
	}
	return s
}

// Lasted writes how long something took: 50.5 s, 14 min 6 s, 3 h 5 min.
func Lasted(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprint(d.Round(time.Millisecond).Milliseconds()) + " ms"
	case d < 10*time.Second && d%time.Second != 0:
		return strconv.FormatFloat(d.Round(100*time.Millisecond).Seconds(), 'g', -1, 64) + " s"
	case d < time.Minute:
		return fmt.Sprint(int64(d.Round(time.Second).Seconds())) + " s"
	}
	parts := func(d, big, small time.Duration, of, and string) string {
		d = d.Round(small)
		if rest := d % big; rest > 0 {
			return fmt.Sprint(int64(d/big)) + " " + of + " " + fmt.Sprint(int64(rest/small)) + " " + and
		}
		return fmt.Sprint(int64(d/big)) + " " + of
	}
	switch {
	case d < time.Hour:
		return parts(d, time.Minute, time.Second, "min", "s")
	case d < 24*time.Hour:
		return parts(d, time.Hour, time.Minute, "h", "min")
	}
	return parts(d, 24*time.Hour, time.Hour, "d", "h")
}

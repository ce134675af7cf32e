package alert

import (
	"strings"
	"unicode"
)

// Shape is what keys of alerts have alike that are about the same thing elsewhere or later: digits are left out.
func Shape(key string) string {
	var b strings.Builder
	last := rune(0)
	for _, r := range key {
		if unicode.IsDigit(r) {
			r = '#'
		}
		if r == '#' && last == '#' {
			continue
		}
		b.WriteRune(r)
		last = r
	}
	return b.String()
}

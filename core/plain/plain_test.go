package plain

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestNothingHiddenIsLeft(t *testing.T) {
	for in, want := range map[string]string{
		"":                             "",
		"berth queue 12 — 7 Ω":         "berth queue 12 — 7 Ω",
		"\x9b31m\xf1\xb5":              "\ufffd31m\ufffd",
		"a\nb":                         "a⟨U+000A⟩b",
		"a\tb":                         "a⟨U+0009⟩b",
		"\x1b[2Jgone":                  "⟨U+001B⟩[2Jgone",
		"\u009b31m":                    "⟨U+009B⟩31m",
		"user\u202egnp.exe":            "user⟨U+202E⟩gnp.exe",
		"\u2066\u200b\u200f\ufeff":     "⟨U+2066⟩⟨U+200B⟩⟨U+200F⟩⟨U+FEFF⟩",
		"no\u00a0break\u2028line":      "no⟨U+00A0⟩break⟨U+2028⟩line",
		"filler\u3164\u115f\U000e0041": "filler⟨U+3164⟩⟨U+115F⟩⟨U+E0041⟩",
	} {
		assert.Equal(t, want, Line(in))
	}
	assert.Equal(t, "a\n\tb⟨U+001B⟩\n", Text("a\r\n\tb\x1b\n"))
}

func FuzzPlain(f *testing.F) {
	f.Add("a\x1b]0;x\x07\nb\u202e\xff")
	f.Fuzz(func(t *testing.T, s string) {
		for _, c := range Line(s) {
			if hidden(c) {
				t.Fatalf("%q is left of %q", c, s)
			}
		}
		for _, c := range strings.NewReplacer("\n", "", "\t", "").Replace(Text(s)) {
			if hidden(c) {
				t.Fatalf("%q is left of %q", c, s)
			}
		}
	})
}

func TestSpan(t *testing.T) {
	for d, want := range map[time.Duration]string{30 * time.Second: "30s", 10 * time.Minute: "10m", time.Hour: "1h",
		90 * time.Minute: "1h30m", 3*time.Hour + 5*time.Second: "3h0m5s"} {
		assert.Equal(t, want, Span(d))
	}
}

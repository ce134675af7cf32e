package expr

import (
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

func TestPatternsThatBound(t *testing.T) {
	for pattern, want := range map[string]struct{ found, whole Safety }{
		`^[a-z][a-z-]{0,39}$`: {Harmless, Harmless},
		`[a-z]+`:              {Unbounded, Harmless},
		`^[a-z-]{1,40}$`:      {Hyphen, Hyphen},
		`^-?[0-9]+$`:          {Hyphen, Hyphen},
		`^(a|-b)$`:            {Hyphen, Hyphen},
		`^(m-[0-9]+)?$`:       {Harmless, Harmless},
		`^a$|^b$`:             {Harmless, Harmless},
		`^a|b$`:               {Unbounded, Harmless},
		`(?m)^[a-z]+$`:        {Unbounded, Harmless},
		`^.*$`:                {Unbounded, Unbounded},
		`^[^;]*$`:             {Unbounded, Unbounded},
		`^\S+$`:               {Unbounded, Unbounded},
		`^\w+$`:               {Harmless, Harmless},
		`^\d+;?$`:             {Unbounded, Unbounded},
		`^[a-z/]+$`:           {Unbounded, Unbounded},
		`^[A-z]+$`:            {Unbounded, Unbounded},
		`^(?i)k+$`:            {Unbounded, Unbounded},
		`^(?i)a+$`:            {Harmless, Harmless},
		`^\pL+$`:              {Unbounded, Unbounded},
		`^a\nb$`:              {Unbounded, Unbounded},
		`(`:                   {Unbounded, Unbounded},
		``:                    {Unbounded, Harmless},
	} {
		assert.Equal(t, want.found, HarmlessPattern(pattern, false), "%s anywhere", pattern)
		assert.Equal(t, want.whole, HarmlessPattern(pattern, true), "%s whole", pattern)
	}
}

// Whatever a pattern that counts as harmless matches is harmless.
func TestHarmlessPatternsMatchOnlyHarmlessTexts(t *testing.T) {
	piece := rapid.SampledFrom(
		[]string{
			"a",
			"-",
			".",
			"[a-z]",
			"[^a]",
			"\\w",
			"\\d",
			"\\s",
			"(?i)k",
			"[A-z]",
			"x*",
			"(a|-)",
			"b?",
			"$",
			"^",
			"\\PL",
			"/",
			"[+-:]",
			"{2}",
			"|",
		},
	)
	rapid.Check(t, func(t *rapid.T) {
		pattern := ""
		for _, p := range rapid.SliceOfN(piece, 1, 6).Draw(t, "pieces") {
			pattern += p
		}
		re, err := regexp.Compile(pattern)
		if err != nil {
			return
		}
		text := rapid.StringMatching(`[a-c;\n k.K\-/]{0,6}`).Draw(t, "text")
		for _, whole := range []bool{true, false} {
			matches := re.MatchString(text)
			if whole {
				w, err := wholeMatch(pattern)
				if err != nil {
					return
				}
				matches = w.MatchString(text)
			}
			safety := HarmlessPattern(pattern, whole)
			if !matches || safety == Unbounded {
				continue
			}
			for i, r := range text {
				if !harmless(r) || i == 0 && r == '-' && safety == Harmless {
					t.Fatalf("%q matches %s, which counts as %d", text, pattern, safety)
				}
			}
		}
	})
}

// FuzzHarmlessPattern draws texts that a pattern matches, where that counts as harmless.
func FuzzHarmlessPattern(f *testing.F) {
	for _, p := range []string{"[a-z]+", "(?i)k", "m-[0-9]+", "(a|-)b?", "\\w{1,3}", "[^a]", "(?s).", "(?m)^a$",
		"\\x{212A}", "a\\b", "[[:alpha:]]"} {
		f.Add(p)
	}
	f.Fuzz(func(t *testing.T, pattern string) {
		safety := HarmlessPattern(pattern, true)
		if safety == Unbounded || len(pattern) > 60 {
			return
		}
		if _, err := wholeMatch(pattern); err != nil {
			return
		}
		defer func() { _ = recover() }() // the generator knows fewer patterns than the language
		texts := rapid.StringMatching("^(?:" + pattern + ")$")
		var bad string
		for i := range 10 {
			text := texts.Example(i)
			for j, r := range text {
				if !harmless(r) || j == 0 && r == '-' && safety == Harmless {
					bad = text
				}
			}
		}
		if bad != "" {
			t.Errorf("%q matches %s, which counts as %d", bad, pattern, safety)
		}
	})
}

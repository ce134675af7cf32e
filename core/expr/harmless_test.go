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
	piece := rapid.SampledFrom([]string{"a", "-", ".", "[a-z]", "[^a]", "\\w", "\\d", "\\s", "(?i)k", "[A-z]", "x*", "(a|-)", "b?", "$", "^", "\\PL", "/", "[+-:]", "{2}", "|"})
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

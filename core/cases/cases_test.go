package cases_test

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/cases"
	"urgentis/core/runbook"
)

// shipped are the folders with runbooks that come with the program.
var shipped = []string{"../../examples/ferry/runbooks", "../../library"}

// books reads the runbooks of a folder, each linked with those that it calls.
func books(t *testing.T, folder string) map[string]*runbook.Book {
	files, err := filepath.Glob(filepath.Join(folder, "*.yaml"))
	require.NoError(t, err)
	byName, out := map[string]*runbook.Book{}, map[string]*runbook.Book{}
	for _, f := range files {
		if cases.IsFile(f) {
			continue
		}
		src, err := os.ReadFile(f)
		require.NoError(t, err)
		b, found := runbook.Parse(src)
		require.NotNil(t, b, "%s: %s", f, found)
		byName[b.Name], out[f] = b, b
	}
	for f, b := range out {
		linked, found := b.Link(func(name string) *runbook.Book { return byName[name] })
		require.NotNil(t, linked, "%s: %s", f, found)
		out[f] = linked
	}
	return out
}

func set(t *testing.T, file string) *cases.Set {
	src, err := os.ReadFile(file)
	require.NoError(t, err, "every runbook that ships has cases")
	out, found := cases.Parse(src)
	require.NotNil(t, out, "%s: %s", file, found)
	return out
}

// Every runbook that ships does what its cases say; they reach each step, and 95 of a hundred ways.
func TestShippedRunbooksDoWhatTheirCasesSay(t *testing.T) {
	steps, ways, in := 0, 0, 0
	for _, folder := range shipped {
		for file, book := range books(t, folder) {
			t.Run(book.Name, func(t *testing.T) {
				of := set(t, cases.FileOf(file))
				assert.Equal(t, book.Name, of.Runbook)
				var all []*cases.Result
				for i := range of.Cases {
					r := cases.Play(book, &of.Cases[i], nil)
					assert.True(t, r.Holds(), "%s: %s", of.Cases[i].Name, r.Wrong)
					all = append(all, r)
				}
				c := cases.Cover(book, all)
				assert.Equal(t, c.Steps, c.StepsIn, "%s", strings.Join(c.Missed, "\n"))
				assert.True(t, c.All(90), "%d of %d ways: %s", c.WaysIn, c.Ways, strings.Join(c.Missed, "\n"))
				steps, ways, in = steps+c.Steps, ways+c.Ways, in+c.WaysIn
			})
		}
	}
	assert.GreaterOrEqual(t, in*100, ways*95, "%d of %d ways of %d steps", in, ways, steps)
}

// The table in the documentation says what is so.
func TestTheLibrarysTableIsTrue(t *testing.T) {
	page, err := os.ReadFile("../../docs/library.md")
	require.NoError(t, err)
	for file, book := range books(t, "../../library") {
		of := set(t, cases.FileOf(file))
		var all []*cases.Result
		for i := range of.Cases {
			all = append(all, cases.Play(book, &of.Cases[i], nil))
		}
		c := cases.Cover(book, all)
		assert.Regexp(t, fmt.Sprintf("(?m)^\\| `%s` \\| %s \\| [^|]+ \\| %d \\| %d of %d \\| %d of %d \\|$", book.Name,
			regexp.QuoteMeta(book.Title), len(of.Cases), c.StepsIn, c.Steps, c.WaysIn, c.Ways), string(page))
	}
}

// A run that is saved as a case and played goes the same way again: here every run that a shipped case makes.
func TestARunSavedAsACaseGoesTheSameWay(t *testing.T) {
	for _, folder := range shipped {
		for file, book := range books(t, folder) {
			of := set(t, cases.FileOf(file))
			for i := range of.Cases {
				t.Run(book.Name+"/"+of.Cases[i].Name, func(t *testing.T) {
					first := cases.Play(book, &of.Cases[i], nil)
					text, err := cases.Of(book, first.Log, "again", nil)
					require.NoError(t, err)
					saved, found := cases.Parse([]byte(text))
					require.NotNil(t, saved, "%s\n%s", found, text)
					again := cases.Play(book, &saved.Cases[0], nil)
					require.True(t, again.Holds(), "%s\n%s", again.Wrong, text)
					assert.Equal(t, first.Steps, again.Steps, text)
				})
			}
		}
	}
}

const small = `urgentis: runbook/1
name: small
title: A small one
owner: quayside
service: berth-queue
inputs:
  low: {type: integer, default: 10}
steps:
  - look: Depth
    id: depth
    where: {role: consumer}
    run: [depth]
    read: {depth: {json: .depth, type: integer}, name: {json: .name, matches: '[a-z]+'}}
  - change: Mend it
    id: mend
    where: {role: consumer}
    run: [mend]
    undo: {run: [unmend]}
  - check: Is it well?
    id: well
    retake: depth
    that: max(readings.depth) < inputs.low
    proves: mend
    passes: [{close: repaired, because: It is well.}]
    fails: undo
`

const stage = `urgentis: cases/1
runbook: small
targets: {c1: {role: consumer}}
cases:
  it:
`

// What a case wants and does not get is said, each thing in a sentence.
func TestACaseThatDoesNotHoldSaysWhy(t *testing.T) {
	book, found := runbook.Parse([]byte(small))
	require.NotNil(t, book, "%s", found)
	good := `
    meets: {depth: [{read: {depth: 90, name: ab}}, {read: {depth: 1, name: ab}}]}
    people: {mend: approve}
`
	for what, x := range map[string]struct{ text, says string }{
		"holds": {good + "    comes_to: repaired\n    changes: [mend]\n    checks: {well: passes}", ""},
		"an undo that fails": {"    meets: {depth: {read: {depth: 90, name: ab}}, undo mend: {exit: 1}}\n    people: {mend: " +
			"approve}\n    comes_to: handed-over\n    changes: [mend, undo mend]\n    because: may be undone in part", ""},
		"another end":     {good + "    comes_to: mitigated", "it came to repaired, not to mitigated"},
		"another reason":  {good + "    comes_to: repaired\n    because: by luck", `in which "by luck" does not stand`},
		"another change":  {good + "    comes_to: repaired\n    changes: [mend@c2]", "it changed mend@c1, not mend@c2"},
		"no change":       {good + "    comes_to: repaired\n    changes: []", "it changed mend@c1, not nothing"},
		"nobody asked":    {good + "    comes_to: repaired\n    asks: []", "it asked people at mend, not nothing"},
		"not told":        {good + "    comes_to: repaired\n    tells: [hello]", `nobody was told "hello"`},
		"another result":  {good + "    comes_to: repaired\n    checks: {well: fails}", "the check well: passes, not fails"},
		"an unknown step": {good + "    comes_to: repaired\n    checks: {wel: fails}", "the step wel, which the runbook does not"},
		"a look unsaid":   {"    comes_to: repaired", "the case does not say what depth meets on c1"},
		"a gate unsaid": {"    comes_to: repaired\n    meets: {depth: {read: {depth: 9, name: ab}}}",
			"what people say at the gate of mend"},
		"no such answer": {"    comes_to: repaired\n    meets: {depth: {read: {depth: 9, name: ab}}}\n    people: {mend: perhaps}",
			"line 8: the gate of mend takes approve, refuse or nobody, not perhaps"},
		"not what it reads": {"    comes_to: repaired\n    meets: {depth: {read: {depth: deep, name: ab}}}",
			`"deep" is not a whole number`},
		"out of its bounds":  {"    comes_to: repaired\n    meets: {depth: {read: {depth: 1, name: A-B}}}", "does not match"},
		"a reading too many": {"    comes_to: repaired\n    meets: {depth: {read: {dept: 1}}}", "depth takes no reading dept"},
		"a wrong input":      {good + "    comes_to: repaired\n    inputs: {low: many}", "its inputs are not taken"},
	} {
		t.Run(what, func(t *testing.T) {
			of, found := cases.Parse([]byte(stage + x.text + "\n"))
			require.NotNil(t, of, "%s", found)
			r := cases.Play(book, &of.Cases[0], nil)
			if x.says == "" {
				assert.Empty(t, r.Wrong)
				return
			}
			assert.Contains(t, strings.Join(r.Wrong, "\n"), x.says)
			assert.False(t, r.Holds())
		})
	}
}

// What people wrote wrongly is said with its line.
func TestMistakesInAFileOfCases(t *testing.T) {
	for _, x := range []struct{ text, says string }{
		{"", "the file is empty"},
		{"urgentis: cases/1\nrunbook: small\n", "cases is missing"},
		{stage + "    comes: repaired\n", "a case has no key comes"},
		{stage + "    about: x\n", "case it does not say what it comes_to"},
		{stage + "    comes_to: repaired\n    meets: {depth: ok}\n", "what a step meets is one of done, failed, unknown, not ok"},
		{stage + "    comes_to: repaired\n    meets: {depth: {target: c1}}\n", "say what the step prints"},
		{stage + "    comes_to: repaired\n    meets: {depth: {prints: a, read: {a: 1}}}\n", "not by both"},
		{stage + "    comes_to: repaired\n    meets: {depth: []}\n", "from 1 to 1000 things"},
		{stage + "    comes_to: repaired\n    becomes: {depth: better}\n", "cleared, worse, not better"},
		{stage + "    comes_to: repaired\n    at: tomorrow\n", "at must be a time"},
		{strings.Replace(stage, "cases/1", "cases/2", 1) + "    comes_to: repaired\n", "urgentis must be cases/1"},
	} {
		of, found := cases.Parse([]byte(x.text))
		assert.Nil(t, of, x.text)
		assert.Contains(t, found.Error(), x.says, x.text)
	}
}

func FuzzCases(f *testing.F) {
	book, _ := runbook.Parse([]byte(small))
	f.Add(
		stage + "    comes_to: repaired\n    meets: {depth: {read: {depth: 1, name: ab}}}\n    people: {mend: approve}\n",
	)
	src, err := os.ReadFile("../../examples/ferry/runbooks/crossing-clocks-drift.cases.yaml")
	require.NoError(f, err)
	f.Add(string(src))
	f.Fuzz(func(t *testing.T, text string) {
		of, found := cases.Parse([]byte(text))
		if of == nil {
			require.True(t, found.Failed())
			return
		}
		for i := range of.Cases {
			r := cases.Play(book, &of.Cases[i], nil)
			require.Equal(t, len(r.Wrong) == 0, r.Holds())
		}
	})
}

// A case is added to the end of a file; where it cannot stand there, the file is left as it is.
func TestJoin(t *testing.T) {
	one := stage + "    comes_to: repaired\n"
	both, err := cases.Join(one, strings.Replace(one, "  it:", "  two:", 1))
	require.NoError(t, err)
	of, _ := cases.Parse([]byte(both))
	require.NotNil(t, of)
	assert.True(t, slices.ContainsFunc(of.Cases, func(c cases.Case) bool { return c.Name == "two" }))
	_, err = cases.Join(one, one)
	assert.ErrorContains(t, err, "said twice")
	_, err = cases.Join("cases:\n  a: {comes_to: x}\nrunbook: small\nurgentis: cases/1\n", one)
	assert.Error(t, err)
}

package cli

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/jstemmer/go-junit-report/v2/junit"
	"github.com/spf13/cobra"

	"urgentis/core/cases"
	"urgentis/core/doc"
	"urgentis/core/plain"
	"urgentis/core/runbook"
)

// triedCase is a case as it came out.
type triedCase struct {
	Name   string   `json:"name"`
	About  string   `json:"about,omitempty"`
	Line   int      `json:"line"`
	Holds  bool     `json:"holds"`
	Wrong  []string `json:"wrong"`
	CameTo string   `json:"came_to,omitempty"`
	Steps  []string `json:"steps,omitempty"`
	took   time.Duration
}

// tried is what the cases of one runbook came to.
type tried struct {
	File    string      `json:"file"`
	Runbook string      `json:"runbook"`
	Cases   []triedCase `json:"cases"`
	// Errors are what is wrong with the runbook or with the file of its cases: none was played then.
	Errors  doc.Findings `json:"errors,omitempty"`
	Steps   int          `json:"steps"`
	StepsIn int          `json:"steps_reached"`
	Ways    int          `json:"ways"`
	WaysIn  int          `json:"ways_reached"`
	Missed  []string     `json:"missed"`

	cover  cases.Coverage
	errors string
}

func (t *tried) holds() int {
	n := 0
	for _, c := range t.Cases {
		if c.Holds {
			n++
		}
	}
	return n
}

func (t *tried) sound() bool { return len(t.Errors) == 0 && t.holds() == len(t.Cases) }

func (a *app) runbookTest() *cobra.Command {
	var to string
	var least int
	var missed bool
	c := verb(
		"test FILE…",
		"Play the cases of runbooks, without a service or a target",
		"urgentis runbook test examples/ferry/runbooks --missed\nurgentis runbook test runbooks --junit cases.xml "+
			"--least 95",
		cobra.MinimumNArgs(1),
		func(_ *cobra.Command, args []string) error {
			books, err := a.readBooks(args)
			if err != nil {
				return err
			}
			all := listOf[*tried](nil)
			for _, b := range books {
				t, err := tryCases(b)
				if err != nil {
					return err
				}
				all.Items = append(all.Items, t)
			}
			if to != "" {
				if err := writeJUnit(to, all.Items); err != nil {
					return err
				}
			}
			if err := a.print(all, func() { a.showTried(all.Items, missed) }); err != nil {
				return err
			}
			return judgeTried(all.Items, least)
		},
	)
	c.Long = "The cases of RUNBOOK.yaml stand beside it in RUNBOOK.cases.yaml; a folder means all runbooks in it. " +
		"docs/cases.md\nexplains how they are written; `urgentis run save-as-case` makes one of a run that happened."
	f := c.Flags()
	f.StringVar(&to, "junit", "", "write the results into a `FILE` as well, as JUnit XML")
	f.IntVar(&least, "least", 0, "fail where cases reach fewer than `N` of a hundred ways, or not every step")
	f.BoolVar(&missed, "missed", false, "list the steps and ways that no case has reached")
	return c
}

// tryCases plays the cases of one runbook.
func tryCases(b *bookFile) (*tried, error) {
	t := &tried{File: b.path, Cases: []triedCase{}, Missed: []string{}}
	if b.book == nil || b.found.Failed() {
		t.Errors, t.errors = b.found, b.found.Format(b.path, b.src)
		return t, nil
	}
	t.Runbook = b.book.Name
	src, err := os.ReadFile(caseFile(b.path))
	if errors.Is(err, fs.ErrNotExist) || b.path == "-" {
		src = nil
	} else if err != nil {
		return nil, err
	}
	playCases(t, b, src)
	return t, nil
}

// playCases plays the cases in the text of a file, which is nil where there is none.
func playCases(t *tried, b *bookFile, src []byte) {
	var results []*cases.Result
	if src != nil {
		set, found := cases.Parse(src)
		if set != nil && set.Runbook != b.book.Name {
			found = append(
				found,
				doc.Finding{Line: 1, Column: 1, Message: fmt.Sprintf("these are cases of %s, not of %s",
					set.Runbook, b.book.Name)},
			)
		}
		if b.linked == nil {
			found = append(
				found,
				doc.Finding{Line: 1, Column: 1, Message: fmt.Sprintf("%s calls %s, which is not among "+
					"the files given", b.book.Name, b.missing)},
			)
		}
		if found.Failed() {
			t.Errors, t.errors = found, found.Format(caseFile(b.path), src)
			return
		}
		for i := range set.Cases {
			r, one := playCase(b.linked, &set.Cases[i])
			results, t.Cases = append(results, r), append(t.Cases, one)
		}
	}
	c := cases.Cover(b.book, results)
	t.Steps, t.StepsIn, t.Ways, t.WaysIn, t.cover = c.Steps, c.StepsIn, c.Ways, c.WaysIn, c
	t.Missed = append(t.Missed, c.Missed...)
}

// caseFile is where the cases of a runbook's file stand.
func caseFile(path string) string { return cases.FileOf(path) }

func playCase(book *runbook.Book, c *cases.Case) (*cases.Result, triedCase) {
	began := time.Now()
	r := cases.Play(book, c, nil)
	return r, triedCase{
		Name: c.Name, About: c.About, Line: c.Line, Holds: r.Holds(), Wrong: append([]string{}, r.Wrong...),
		CameTo: r.CameTo, Steps: r.Steps, took: time.Since(began),
	}
}

func (a *app) showTried(list []*tried, missed bool) {
	for _, t := range list {
		if len(t.Errors) > 0 {
			a.say("%s", whole(t.errors))
			continue
		}
		if len(t.Cases) == 0 {
			a.say("%s %s has no cases; they would stand in %s\n", a.paint(dim, "–"), t.Runbook, caseFile(t.File))
			continue
		}
		mark, held := a.paint(green, "✓"), many(len(t.Cases), "case")+" hold"
		if len(t.Cases) == 1 {
			held += "s"
		}
		if !t.sound() {
			mark = a.paint(red, "✗")
			held = fmt.Sprintf("%d of %s do not hold", len(t.Cases)-t.holds(), many(len(t.Cases), "case"))
		}
		a.say("%s %s: %s; they reach %d of %s and %d of %s\n", mark, a.paint(bold, t.Runbook), held, t.StepsIn,
			many(t.Steps, "step"), t.WaysIn, many(t.Ways, "way"))
		for _, c := range t.Cases {
			if !c.Holds {
				a.showWrong(t, c)
			}
		}
		if missed {
			for _, m := range t.Missed {
				a.say("    %s %s\n", a.paint(dim, "not reached:"), m)
			}
		}
	}
}

// showWrong tells what is wrong with a case, and how it went.
func (a *app) showWrong(t *tried, c triedCase) {
	a.say("  %s %s (%s:%s)\n", a.paint(red, "✗"), c.Name, caseFile(t.File), strconv.Itoa(c.Line))
	for _, w := range c.Wrong {
		a.say("      %s\n", indented("      ", w))
	}
	if len(c.Steps) > 0 {
		a.say("      %s %s\n", a.paint(dim, "it went:"), strings.Join(c.Steps, " → "))
	}
}

// judgeTried is the command's end: cases that do not hold, or that reach too little, are an error.
func judgeTried(list []*tried, least int) error {
	bad, thin, played := 0, 0, 0
	for _, t := range list {
		played += len(t.Cases)
		switch {
		case !t.sound():
			bad++
		case least > 0 && !t.cover.All(least):
			thin++
		}
	}
	switch {
	case bad > 0:
		return fmt.Errorf("%d of %s: their cases do not hold", bad, many(len(list), "runbook"))
	case thin > 0:
		return fmt.Errorf(
			"%d of %s: cases must reach every step and %d of a hundred ways; --missed lists what they do "+
				"not reach",
			thin,
			many(len(list), "runbook"),
			least,
		)
	case played == 0:
		return errors.New("there are no cases")
	}
	return nil
}

// writeJUnit writes the results for a pipeline.
func writeJUnit(to string, list []*tried) error {
	var all junit.Testsuites
	for _, t := range list {
		suite := junit.Testsuite{Name: t.Runbook, File: t.File}
		if len(t.Errors) > 0 {
			suite.AddTestcase(junit.Testcase{Name: "reads", Classname: t.File,
				Error: &junit.Result{Message: "errors", Data: plain.Text(t.errors)}})
		}
		var took time.Duration
		for _, c := range t.Cases {
			one := junit.Testcase{Name: c.Name, Classname: t.Runbook, Time: fmt.Sprintf("%.3f", c.took.Seconds())}
			if !c.Holds {
				one.Failure = &junit.Result{
					Message: plain.Line(c.Wrong[0]),
					Data:    plain.Text(strings.Join(c.Wrong, "\n")),
				}
			}
			took += c.took
			suite.AddTestcase(one)
		}
		suite.Time = fmt.Sprintf("%.3f", took.Seconds())
		suite.AddProperty("steps", fmt.Sprintf("%d of %d", t.StepsIn, t.Steps))
		suite.AddProperty("ways", fmt.Sprintf("%d of %d", t.WaysIn, t.Ways))
		all.AddSuite(suite)
	}
	var b bytes.Buffer
	if err := all.WriteXML(&b); err != nil {
		return err
	}
	return os.WriteFile(to, b.Bytes(), 0o644) //nolint:gosec // it holds nothing secret
}

func (a *app) runSaveAsCase() *cobra.Command {
	var to string
	c := verb(
		"save-as-case ID",
		"Make a case of a run that is over, so that its runbook must go the same way again",
		"urgentis run save-as-case r3k… --to runbooks/berth-queue-backlog.cases.yaml",
		cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			r, err := check(cl.GetRunCaseWithResponse(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			if to == "" {
				err = a.print(r.JSON200, func() { a.say("%s", whole(r.JSON200.Text)) })
			} else if err = addCase(to, r.JSON200.Text, r.JSON200.Runbook); err == nil {
				book := strings.TrimSuffix(to, ".cases.yaml") + ".yaml"
				err = a.done("The case run-" + args[0] + " is in " + to + ". Play it with: urgentis runbook test " +
					book)
			}
			if err == nil && len(r.JSON200.Wrong) > 0 {
				err = fmt.Errorf("played, the case goes another way than the run did; mend it by hand: %s",
					strings.Join(r.JSON200.Wrong, "; "))
			}
			return err
		}),
	)
	c.Flags().StringVar(&to, "to", "", "add it to a `FILE` of cases, which is begun where it is not there")
	return c
}

// addCase adds a case to a file. Where that cannot be, the file stays as it is.
func addCase(to, one, runbook string) error {
	src, err := os.ReadFile(to)
	if errors.Is(err, fs.ErrNotExist) {
		return os.WriteFile(to, []byte(one), 0o644) //nolint:gosec // cases stand beside their runbook
	}
	if err != nil {
		return err
	}
	set, found := cases.Parse(src)
	switch {
	case set == nil:
		return usage("%s has errors: %s", to, found)
	case set.Runbook != runbook:
		return usage("%s has cases of %s, and the run was of %s", to, set.Runbook, runbook)
	}
	text, err := cases.Join(string(src), one)
	if err != nil {
		return err
	}
	return os.WriteFile(to, []byte(text), 0o644) //nolint:gosec // see above
}

// Package watch is scheduled looks: looks that are taken on a schedule for whoever asks, without a run.
package watch

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"urgentis/core/doc"
	"urgentis/core/flow"
	"urgentis/core/runbook"
)

// Bounds of how often a watch looks.
const (
	MinEvery = time.Second
	MaxEvery = 24 * time.Hour
)

// MaxLooks bounds the looks of one watch.
const MaxLooks = 20

// Watch is a scheduled look, or several that are taken one after another.
type Watch struct {
	Name, Service string
	Every         time.Duration
	// Looks is a runbook of nothing but its looks.
	Looks *runbook.Book
	// Line is where they stand in the document.
	Line int
}

// head stands in the place of all that a runbook has before its steps.
const head = "urgentis: runbook/1\nname: %s\ntitle: %[1]s\nowner: watch\nservice: %[2]s\n%[3]ssteps:\n"

// ReadLooks reads the looks of a watch: block is the text of its key looks, with that line, and line where that stands
// in the document. Looks of a watch read something, and are looks by what they do and not by their author's word.
func ReadLooks(name, service, block string, line int) (*runbook.Book, doc.Findings) {
	return ReadLooksWith("", name, service, block, line)
}

// ReadLooksWith is ReadLooks for looks that have inputs: one line of a runbook, or "".
func ReadLooksWith(inputs, name, service, block string, line int) (*runbook.Book, doc.Findings) {
	_, looks, _ := strings.Cut(block, "\n")
	book, found := runbook.Parse([]byte(fmt.Sprintf(head, name, service, inputs) + looks))
	line -= strings.Count(inputs, "\n")
	found = slices.DeleteFunc(place(found, line), func(f doc.Finding) bool { return f.Message == runbook.OpenEnd })
	if book == nil {
		return nil, found
	}
	refuse := func(s *runbook.Step, says string) {
		found = append(found, place(doc.Findings{{Line: s.Line, Column: 1, Message: says}}, line)...)
	}
	for _, s := range book.Steps {
		switch {
		case s.Verb != runbook.Look:
			refuse(s, fmt.Sprintf("a watch only looks; this is a %s", s.Verb))
		case len(s.Read) == 0:
			refuse(s, "the look reads nothing: what it prints is not kept")
		case s.OnlyReads != "":
			refuse(s, "a look that is one only by its author's word (only_reads) is taken by runs, not by a watch")
		case s.Again != nil:
			refuse(s, "a watch looks again by itself: again is not needed")
		}
	}
	if book.LooksAtAlert() {
		found = append(found, doc.Finding{Line: line, Column: 1,
			Message: "a watch is taken without an alert, so that its looks cannot speak of one"})
	}
	if len(book.Steps) > MaxLooks {
		refuse(book.Steps[MaxLooks], fmt.Sprintf("a watch has at most %d looks", MaxLooks))
	}
	if found.Failed() {
		return nil, found
	}
	return book, found
}

// place gives findings about the looks their places in the document, in which these begin at a line.
func place(found doc.Findings, line int) doc.Findings {
	for i := range found {
		found[i].Line = max(found[i].Line-strings.Count(head, "\n")+line, line)
	}
	return found
}

// Found gives findings about the looks their places in the document.
func (w *Watch) Found(found doc.Findings) doc.Findings { return place(found, w.Line) }

// Taking is one taking of a watch under way: a run that is kept nowhere.
type Taking struct{ m *flow.Machine }

// Begin begins a taking with the estate as it is.
func (w *Watch) Begin(begun flow.Begun, now time.Time) (*Taking, error) {
	m, err := flow.Open(w.Looks, []flow.Event{{Seq: 1, At: now, Body: begun}})
	if err != nil {
		return nil, err
	}
	return &Taking{m}, nil
}

// Next gives what is to be looked at next, all at once; nothing while what is under way is waited for, and once the
// taking is over.
func (t *Taking) Next(now time.Time) ([]flow.Intent, error) {
	for range 2 * runbook.MaxSteps {
		plan, err := t.m.Plan(now)
		if err != nil || plan.Ended || len(plan.Begin) > 0 {
			return plan.Begin, err
		}
		if len(t.m.State().OpenAttempts()) > 0 {
			return nil, nil
		}
		if len(plan.Events) == 0 {
			return nil, errors.New("it does not go on")
		}
	}
	return nil, errors.New("it goes on for too long")
}

// Took takes in what a look came to.
func (t *Taking) Took(o flow.Outcome, now time.Time) error {
	_, err := t.m.Append(flow.Event{At: now, Place: t.m.State().PlaceOf(o.Attempt), Body: o})
	return err
}

// Trouble is why the taking ended before its end; "" where it did not.
func (t *Taking) Trouble() string {
	end := t.m.State().Ended
	if end == nil || end.State == flow.Done {
		return ""
	}
	return end.Because
}

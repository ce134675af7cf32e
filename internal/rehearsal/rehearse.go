// Package rehearsal plays runbooks that change nothing: looks are taken for real, changes are assumed, gates approved.
// It writes nothing down.
package rehearsal

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"urgentis/core/expr"
	"urgentis/core/flow"
	"urgentis/core/leave"
	"urgentis/core/runbook"
	"urgentis/core/tell"
	"urgentis/internal/engine"
	"urgentis/internal/store"
)

// Rehearser plays with what an engine knows.
type Rehearser struct{ *engine.Engine }

// Assumed is what a rehearsal takes for granted.
type Assumed struct {
	Made    map[string]map[string]any // by change: the values of readings that hold once it happened
	Answers map[string]string         // by question: what is answered
}

// Played is a rehearsal.
type Played struct {
	Log     []flow.Event
	Stopped string // why it did not come to an end; "" where it did
	// Assumed lists, by attempt, the readings that were not seen but assumed.
	Assumed map[string][]string
	// Blind says that looks came after a change of which nothing was assumed; "" where none did.
	Blind string
}

// maxRehearsed bounds the looks of a rehearsal.
const maxRehearsed = 200

// maxAfterChange bounds the samples after a change of which nothing was assumed: they cannot show what it did.
const maxAfterChange = 2

// rehearsal plays the parts of the world and of people for a runbook that changes nothing.
type rehearsal struct {
	e     *Rehearser
	ctx   context.Context
	book  *runbook.Book
	made  *tell.Assumption
	said  map[string]string
	out   Played
	blind *runbook.Step   // the first change that was assumed, and of which nothing was said
	after map[string]bool // samples since then
	log   []flow.Event    // all that happened so far
	err   error           // what somebody assumed that cannot be
}

// Rehearse plays a runbook: looks are taken for real, changes are assumed to happen, gates to be approved. What cannot
// be assumed is an error.
func (e *Rehearser) Rehearse(
	ctx context.Context,
	book *runbook.Book,
	begun flow.Begun,
	what Assumed,
) (*Played, error) {
	made, err := tell.Assume(book, begun, what.Made)
	if err != nil {
		return nil, err
	}
	for name := range what.Answers {
		if step := book.Named(name); step == nil || step.Ask == nil {
			return nil, fmt.Errorf("there is no question %s to answer", name)
		}
	}
	r := &rehearsal{e: e, ctx: ctx, book: book, made: made, said: what.Answers, after: map[string]bool{}}
	r.out.Assumed = map[string][]string{}
	stage := tell.Stage{Book: book, Begun: begun, Now: e.Now(), Limit: maxRehearsed,
		Do: r.do, Leave: r.leave, Answer: r.answer, Halt: r.halt, Watch: func(log []flow.Event) { r.log = log },
		Decide: func(_ flow.Place, g flow.GateRaised) *flow.GateDecided {
			return &flow.GateDecided{Gate: g.Gate, Approved: true, By: "assumed", Digest: g.Digest}
		},
	}
	r.out.Log, r.out.Stopped, err = stage.Play()
	if r.err != nil {
		err = r.err
	}
	r.out.Blind = r.blindness()
	return &r.out, err
}

func (r *rehearsal) leave(a flow.AskLeave) flow.LeaveGiven {
	given, err := r.e.Leave(r.ctx, r.book, a)
	if err != nil {
		return flow.LeaveGiven{Verdict: leave.No, Reasons: []string{err.Error()}}
	}
	return given
}

func (r *rehearsal) do(place flow.Place, in flow.Intent, now time.Time) flow.Outcome {
	step, of := flow.Find(r.book, place)
	own := of == r.book // what is assumed is said of the runbook's own steps
	if in.Touches() {
		if own && step != nil && r.made.Said(step) {
			r.made.Happened(step, place, in.Target, r.log)
		} else if step != nil && r.blind == nil {
			r.blind = step
		}
		return flow.Outcome{Attempt: in.Attempt, State: flow.OK}
	}
	look, _ := flow.Find(r.book, in.Look)
	if !own || look == nil {
		return r.look(in, now)
	}
	out := flow.Outcome{Attempt: in.Attempt, State: flow.OK}
	if !r.made.Whole(look, in.Target) {
		out = r.look(in, now)
	}
	names, err := r.made.Put(&out, look, in.Target, now)
	if err != nil {
		r.err = err
	}
	if len(names) > 0 {
		r.out.Assumed[in.Attempt] = names
	}
	return out
}

// look takes a look for real.
func (r *rehearsal) look(in flow.Intent, now time.Time) flow.Outcome {
	if r.blind != nil {
		r.after[fmt.Sprint(in.Look, in.Purpose)] = true
	}
	if r.halt() != "" {
		return flow.Outcome{}
	}
	return r.e.LookOnly(r.ctx, r.book, in, now, nil)
}

// halt says why the play goes no further: looks show the world, and a change that was only assumed is not in it.
func (r *rehearsal) halt() string {
	if len(r.after) <= maxAfterChange {
		return ""
	}
	return r.blindness()
}

// blindness says that looks came after a change that is not in the world; "" where none did.
func (r *rehearsal) blindness() string {
	if len(r.after) == 0 {
		return ""
	}
	name := r.blind.ID
	if name == "" {
		name = r.blind.Path
	}
	return fmt.Sprintf("this look cannot see the effect of “%s”, because that change was not run; say "+
		"what it makes true, by the change %s and a reading", r.blind.Title, name)
}

// answer gives what somebody said a question is answered with; nil where nothing was said.
func (r *rehearsal) answer(place flow.Place, q flow.QuestionRaised) *flow.QuestionAnswered {
	step, book := flow.Find(r.book, place)
	if step == nil || step.Ask == nil || book != r.book {
		return nil
	}
	choice, ok := r.said[step.ID]
	if !ok || step.ID == "" {
		if choice, ok = r.said[step.Path]; !ok {
			return nil
		}
	}
	if len(q.Choices) > 0 && !slices.Contains(q.Choices, choice) {
		r.err = fmt.Errorf("the question %q has no answer %s; there is %s", step.Title, choice,
			strings.Join(q.Choices, ", "))
		return nil
	}
	given := map[string]any{}
	for _, f := range q.Fields {
		if f.Suggest != nil {
			given[f.Name] = f.Suggest
		}
	}
	fields, err := step.Ask.AcceptFields(given)
	if err != nil {
		r.err = fmt.Errorf("the question %q cannot be answered here: %w", step.Title, err)
		return nil
	}
	return &flow.QuestionAnswered{Question: q.Question, Choice: choice, By: "assumed", Fields: fields}
}

// Try renders one step with values given by hand, and carries it out if it is a look and run is set.
func (e *Rehearser) Try(
	ctx context.Context,
	book *runbook.Book,
	begun flow.Begun,
	step *runbook.Step,
	readings map[string]any,
	run bool,
) ([]flow.Rendered, error) {
	lines, err := flow.RenderStep(book, begun, step, readings, e.Now())
	if err != nil {
		return nil, err
	}
	if !run {
		return lines, nil
	}
	if step.Verb != runbook.Look {
		return nil, fmt.Errorf("step %s is a %s: only looks are carried out here", step.Path, step.Verb)
	}
	for i, l := range lines {
		if l.Step != step || l.Request == nil {
			continue
		}
		l.Request.Looks = step.OnlyReads == ""
		o := e.LookOnly(
			ctx,
			book,
			flow.Intent{
				Attempt: store.NewID("t"), Target: l.Target, Look: flow.PlaceOf(step.Path), Request: *l.Request,
			},
			e.Now(),
			nil,
		)
		lines[i].Says = saysOutcome(o)
	}
	return lines, nil
}

func saysOutcome(o flow.Outcome) string {
	says := o.State
	if o.Error != "" {
		says += ": " + o.Error
	}
	for _, n := range slices.Sorted(maps.Keys(o.Readings)) {
		t := o.Readings[n]
		says += fmt.Sprintf("\n%s = %s %s", n, expr.Say(t.Value), t.Unit)
	}
	for _, m := range o.NotHad() {
		says += "\n" + m
	}
	if o.Output.Head != "" {
		says += "\n" + o.Output.Head
	}
	return says
}

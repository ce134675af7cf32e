package flow

import (
	"fmt"
	"strings"
	"time"

	"urgentis/core/expr"
	"urgentis/core/runbook"
	"urgentis/core/task"
)

// Rendered is one step as it would be done, for one target where it acts on targets.
type Rendered struct {
	Step  *runbook.Step
	Book  *runbook.Book // that the step stands in
	Place Place
	// Depth is how deep the step stands in others; Branch is set on the first step of a list: the way that leads there.
	Depth  int
	Branch string
	// Target is whom it acts on; On says it in words where that is not known yet.
	Target, On string
	Request    *task.Request
	Says       string
}

// Bounds of what is rendered.
const (
	maxRendered = 2000 // lines
	itemsShown  = 3    // items of an each, where the whole runbook is rendered
)

// renderer renders steps without doing any: what is not known yet stands as its expression.
type renderer struct {
	w     *walker
	out   []Rendered
	items int // how many items of an each are shown
	calls int // how many calls the step stands in
	depth int
	// branch is the way that leads to the next step; "" where it is not the first of a list.
	branch string
	// item says whom an item stands for that is not known yet.
	item string
}

// Render renders every step on every path, without doing any: what is not known yet stands as its expression.
func Render(book *runbook.Book, begun Begun, now time.Time) ([]Rendered, error) {
	r, err := newRenderer(book, begun, now)
	if err != nil {
		return nil, err
	}
	r.items = itemsShown
	f := &frame{book: book}
	r.list(f, "", Place{}, book.Steps)
	for _, l := range []struct {
		name  string
		steps []*runbook.Step
	}{
		{"on_error", book.OnError.Steps}, {"finally", book.Finally},
		{"if_cleared", book.IfCleared.Steps}, {"if_worse", book.IfWorse.Steps},
	} {
		r.list(f, strings.ReplaceAll(l.name, "_", " "), Place{}.List(l.name), l.steps)
	}
	return r.out, nil
}

func newRenderer(book *runbook.Book, begun Begun, now time.Time) (*renderer, error) {
	m := &Machine{book: book, s: newState(book)}
	if _, err := m.Append(Event{At: now, Body: begun}); err != nil {
		return nil, err
	}
	return &renderer{w: &walker{s: m.s, now: now}, items: runbook.MaxItems}, nil
}

// list renders the steps of one list, which branch leads to.
func (r *renderer) list(f *frame, branch string, in Place, steps []*runbook.Step) {
	for i, s := range steps {
		r.branch = ""
		if i == 0 {
			r.branch = branch
		}
		r.step(f, s, in.Step(i+1))
	}
}

// inside renders what stands in a step.
func (r *renderer) inside(do func()) {
	r.depth++
	do()
	r.depth--
}

func (r *renderer) add(f *frame, s *runbook.Step, place Place, x Rendered) {
	switch {
	case len(r.out) > maxRendered:
		return
	case len(r.out) == maxRendered:
		x.Says, x.Request, x.Target = "what follows is not shown: it is too much", nil, ""
	}
	x.Step, x.Book, x.Place, x.Depth, x.Branch = s, f.book, place, r.depth, r.branch
	r.branch = ""
	r.out = append(r.out, x)
}

func (r *renderer) step(f *frame, s *runbook.Step, place Place) {
	sc := r.w.scope(f, place, "")
	switch {
	case s.Do != nil:
		r.do(f, s, place)
	case s.That != nil:
		r.add(f, s, place, Rendered{Says: s.That.Source})
	case s.Ask != nil:
		r.add(f, s, place, Rendered{Says: s.Ask.Text.Partly(sc)})
	case s.Text != nil:
		r.add(f, s, place, Rendered{Says: s.Text.Partly(sc)})
	case s.Because != nil:
		r.add(f, s, place, Rendered{Says: s.Because.Partly(sc)})
	case s.Verb == runbook.Call:
		r.add(f, s, place, Rendered{Says: "follows " + s.Callee})
	default:
		r.add(f, s, place, Rendered{})
	}
	r.inside(func() { r.within(f, s, place) })
}

// within renders the lists in a step: those of what it calls, of its items, and its branches.
func (r *renderer) within(f *frame, s *runbook.Step, place Place) {
	callee := f.book.Callee(s.Callee)
	if s.Verb == runbook.Call && callee != nil && r.calls < runbook.MaxCalls {
		r.calls++
		r.w.s.dataOf(place.Call()).inputs = r.given(f, s, callee, place)
		r.list(&frame{book: callee, target: f.target, names: f.names}, callee.Title, place.Call(), callee.Steps)
		r.calls--
	}
	for _, br := range s.Lists() {
		if s.Each != nil && br.Name == "do" {
			r.each(f, s, place, br.Steps)
			continue
		}
		r.list(f, f.book.BranchLabel(s, br.Name), place.List(br.Name), br.Steps)
	}
}

// each renders the steps for the first items, or, where they are not known yet, for one that stands for all.
func (r *renderer) each(f *frame, s *runbook.Step, place Place, steps []*runbook.Step) {
	items, err := r.w.items(f, s, place)
	if err != nil {
		outer := r.item
		r.item = "each " + s.Each.Named
		unknown := Item{Label: s.Each.Named, Value: "⟨" + s.Each.Named + "⟩"}
		g, _ := r.w.itemFrame(f, s, place, &EachBegun{Items: []Item{unknown}}, 0)
		r.list(g, r.item, place.List("do"), steps)
		r.item = outer
		return
	}
	if len(items) == 0 {
		r.add(f, s, place, Rendered{Says: "no item is selected"})
	}
	begun := &EachBegun{Items: items}
	for i, item := range items {
		if i == r.items {
			r.add(f, s, place, Rendered{Says: fmt.Sprintf("and %d more, alike", len(items)-i)})
			return
		}
		g, prefix := r.w.itemFrame(f, s, place, begun, i)
		r.list(g, "for "+item.Label, prefix, steps)
	}
}

func (r *renderer) do(f *frame, s *runbook.Step, place Place) {
	targets, err := r.w.targets(f, s.Where, place)
	switch {
	case err != nil:
		r.requests(f, s, place, []string{""}, s.Where.Partly(r.w.scope(f, place, "")))
	case len(targets) == 0:
		r.add(f, s, place, Rendered{Says: "no target is selected"})
	case s.Where == nil && targets[0] == "" && !s.Do.FromHere:
		r.requests(f, s, place, targets, r.item)
	default:
		r.requests(f, s, place, targets, "")
	}
}

func (r *renderer) requests(f *frame, s *runbook.Step, place Place, targets []string, on string) {
	for _, t := range targets {
		fill := &render{sc: r.w.scope(f, place, t), partly: true}
		req, err := fill.request(s.Do, t, s.Timeout)
		if err != nil {
			r.add(f, s, place, Rendered{Target: t, On: on, Says: err.Error()})
			continue
		}
		if s.Undo != nil {
			if u, err := fill.request(s.Undo, t, s.Timeout); err == nil {
				req.Undo = &u
			}
		}
		r.add(f, s, place, Rendered{Target: t, On: on, Request: &req})
	}
}

func (r *renderer) given(f *frame, s *runbook.Step, callee *runbook.Book, place Place) map[string]any {
	out := map[string]any{}
	for _, in := range callee.Inputs {
		out[in.Name] = in.Default
		if t := s.Given[in.Name]; t != nil {
			if v, err := t.Value(r.w.scope(f, place, "")); err == nil {
				out[in.Name] = v
			}
		}
	}
	return out
}

// RenderStep renders one step alone, with every item of an each and with readings given by hand: one value for every
// target, or a value by target.
func RenderStep(
	book *runbook.Book,
	begun Begun,
	step *runbook.Step,
	readings map[string]any,
	now time.Time,
) ([]Rendered, error) {
	r, err := newRenderer(book, begun, now)
	if err != nil {
		return nil, err
	}
	d := r.w.s.dataOf(Place{})
	for name, v := range readings {
		g, err := GiveReading(book, begun, name, v)
		if err != nil {
			return nil, err
		}
		round, err := g.round(book, begun, now)
		if err != nil {
			return nil, err
		}
		d.readings[name] = []*expr.Round{round}
	}
	f := &frame{book: book}
	r.step(f, step, PlaceOf(step.Path))
	if step.That != nil {
		r.out[0].Says = r.judged(f, step)
	}
	return r.out, nil
}

// judged tells what a check comes to, and by which values.
func (r *renderer) judged(f *frame, step *runbook.Step) string {
	holds, values, err := step.That.Explain(r.w.scope(f, PlaceOf(step.Path), ""))
	says := Fails
	if holds {
		says = Passes
	}
	if err != nil {
		says = Unsure + ": " + unsure(err)
	}
	for _, v := range values {
		says += "\n" + v.Part + " is " + v.Text
	}
	return says
}

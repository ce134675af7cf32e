package flow

import (
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"time"

	"urgentis/core/expr"
	"urgentis/core/leave"
	"urgentis/core/reading"
	"urgentis/core/runbook"
)

// Stage plays a run with somebody else in the parts of the world and of people: recorded, pretended, or real.
type Stage struct {
	Book  *runbook.Book
	Begun Begun
	Now   time.Time
	// Do gives the outcome of an attempt; Leave whether a change may happen.
	Do    func(in Intent, now time.Time) Outcome
	Leave func(ask AskLeave) LeaveGiven
	// Decide and Answer give a person's word; nil: nobody says anything, and the play stops there.
	Decide func(g GateRaised) *GateDecided
	Answer func(q QuestionRaised) *QuestionAnswered
	// Limit bounds the attempts.
	Limit int
}

// Play plays until the run ends, or says why it stopped. Time passes only where the runbook waits.
func (p Stage) Play() (log []Event, stopped string, err error) {
	m := &Machine{book: p.Book, s: newState(p.Book)}
	now := p.Now
	add := func(e Event) error {
		e, err := m.Append(e)
		log = append(log, e)
		return err
	}
	if err := add(Event{At: now, Body: p.Begun}); err != nil {
		return nil, "", err
	}
	attempts := 0
	for range 20 * runbook.MaxSteps {
		plan, err := m.Plan(now)
		if err != nil {
			return log, "", err
		}
		log = append(log, plan.Events...)
		if plan.Ended {
			return log, "", nil
		}
		moved, err := p.part(m, plan, now, add)
		if err != nil {
			return log, "", err
		}
		for _, in := range plan.Begin {
			if attempts++; attempts > p.Limit {
				return log, fmt.Sprintf("it was stopped after %d attempts", p.Limit), nil
			}
			if err := add(Event{At: now, Path: m.s.PathOf(in.Attempt), Body: p.Do(in, now)}); err != nil {
				return log, "", err
			}
			moved = true
		}
		if moved {
			continue
		}
		if stopped := p.waitsForPeople(m); stopped != "" {
			return log, stopped, nil
		}
		if plan.Wake.IsZero() || !plan.Wake.After(now) {
			if len(plan.Events) == 0 {
				return log, "nothing more would happen by itself", nil
			}
			continue
		}
		now = plan.Wake
	}
	return log, "it goes on for too long", nil
}

// part plays the part of leave, locks and people.
func (p Stage) part(m *Machine, plan Plan, now time.Time, add func(Event) error) (moved bool, err error) {
	if a := plan.AskLeave; a != nil {
		return true, add(Event{At: now, Path: a.Path, Body: p.Leave(*a)})
	}
	if l := plan.WantLocks; l != nil {
		return true, add(
			Event{At: now, Path: l.Path, Body: LocksTaken{Keys: append(append([]string{}, l.Keys...), l.Shared...)}},
		)
	}
	for path := range m.s.waits {
		st := m.s.steps[path]
		for _, g := range st.gates {
			if g.open() && p.Decide != nil {
				if d := p.Decide(g.raised); d != nil {
					return true, add(Event{At: now, Path: path, Body: *d})
				}
			}
		}
		for _, q := range st.questions {
			if q.open() && p.Answer != nil {
				if a := p.Answer(q.raised); a != nil {
					return true, add(Event{At: now, Path: path, Body: *a})
				}
			}
		}
	}
	return false, nil
}

func (p Stage) waitsForPeople(m *Machine) string {
	switch m.s.WaitsOn() {
	case OnApproval:
		return "here a person would be asked for approval"
	case OnAnswer:
		return "here a person would be asked"
	}
	return ""
}

// Rendered is one step as it would be done.
type Rendered struct {
	Step    *runbook.Step
	Path    string
	Target  string
	Request *leave.Request
	Says    string
}

// Render renders every step on every path, without doing any: what is not known yet stands as its expression.
func Render(book *runbook.Book, begun Begun, now time.Time) ([]Rendered, error) {
	m := &Machine{book: book, s: newState(book)}
	if _, err := m.Append(Event{At: now, Body: begun}); err != nil {
		return nil, err
	}
	w := &walker{s: m.s, now: now}
	var out []Rendered
	f := &frame{book: book}
	for _, l := range []struct {
		prefix string
		steps  []*runbook.Step
	}{{"", book.Steps}, {"on_error.", book.OnError.Steps}, {"finally.", book.Finally}, {"if_cleared.",
		book.IfCleared.Steps}, {"if_worse.", book.IfWorse.Steps}} {
		w.render(f, l.steps, l.prefix, &out, 0)
	}
	return out, nil
}

func (w *walker) render(f *frame, steps []*runbook.Step, prefix string, out *[]Rendered, depth int) {
	for i, s := range steps {
		path := prefix + strconv.Itoa(i+1)
		add := func(target, says string, r *leave.Request) {
			*out = append(*out, Rendered{Step: s, Path: path, Target: target, Request: r, Says: says})
		}
		sc := w.scope(f, path, "")
		switch {
		case s.Do != nil:
			w.renderDo(f, s, path, add)
		case s.That != nil:
			add("", s.That.Source, nil)
		case s.Text != nil:
			add("", s.Text.Partly(sc), nil)
		case s.Because != nil:
			add("", s.Because.Partly(sc), nil)
		default:
			add("", "", nil)
		}
		g := f
		if s.Verb == runbook.Each {
			g = w.firstItem(f, s, path)
		}
		if callee := f.book.Callee(s.Callee); s.Verb == runbook.Call && callee != nil && depth < runbook.MaxCalls {
			w.s.in(path + "/").inputs = w.given(f, s, callee, path)
			w.render(&frame{book: callee, target: f.target, names: f.names}, callee.Steps, path+"/", out, depth+1)
		}
		for _, br := range s.Lists() {
			w.render(g, br.Steps, path+"."+br.Name+".", out, depth)
		}
	}
}

func (w *walker) renderDo(f *frame, s *runbook.Step, path string, add func(string, string, *leave.Request)) {
	targets, err := w.targets(f, s.Where, path)
	if err != nil || len(targets) == 0 {
		says := "no target is selected"
		if err != nil {
			says = "its targets are not known yet: " + unsure(err)
		}
		add("", says, nil)
		return
	}
	for _, t := range targets {
		r := &render{sc: w.scope(f, path, t), partly: true}
		req, err := r.request(s.Do, t, s.Timeout)
		if err != nil {
			add(t, err.Error(), nil)
			continue
		}
		if s.Undo != nil {
			if u, err := r.request(s.Undo, t, s.Timeout); err == nil {
				req.Undo = &u
			}
		}
		add(t, "", &req)
	}
}

// firstItem stands for all items of an each.
func (w *walker) firstItem(f *frame, s *runbook.Step, path string) *frame {
	items, err := w.items(f, s, path)
	if err != nil || len(items) == 0 {
		items = []Item{{Label: s.Each.Named, Value: "⟨" + s.Each.Named + "⟩"}}
	}
	g, _ := w.itemFrame(f, s, path, &stepState{each: &EachBegun{Items: items}}, 0)
	return g
}

func (w *walker) given(f *frame, s *runbook.Step, callee *runbook.Book, path string) map[string]any {
	out := map[string]any{}
	for _, in := range callee.Inputs {
		out[in.Name] = in.Default
		if t := s.Given[in.Name]; t != nil {
			if v, err := t.Value(w.scope(f, path, "")); err == nil {
				out[in.Name] = v
			}
		}
	}
	return out
}

// Asked counts how often people were asked in a log.
func Asked(log []Event) int {
	n := 0
	for _, e := range log {
		switch b := e.Body.(type) {
		case GateRaised, QuestionRaised:
			n++
		case QuestionAnswered:
			if b.By == Itself {
				n--
			}
		}
	}
	return n
}

// Came is what a log came to, in words, and the steps that were taken, by verb and title in their order.
func Came(book *runbook.Book, log []Event) (end string, steps []string) {
	end = "not over"
	last := ""
	for _, e := range log {
		if b, ok := e.Body.(Ended); ok {
			end = b.State
			if b.Outcome != "" {
				end = b.Outcome
			}
		}
		s, _ := Find(book, e.Path)
		if s == nil || e.Path == last {
			continue
		}
		if _, skipped := e.Body.(Skipped); skipped {
			continue
		}
		last = e.Path
		steps = append(steps, string(s.Verb)+": "+s.Title)
	}
	return end, steps
}

// Replay is a stage on which everything that a recorded run met comes back: outcomes by what was asked of
// which target, leave by its step, and people's words by what they were asked.
func Replay(book *runbook.Book, log []Event) (Stage, error) {
	if len(log) == 0 {
		return Stage{}, errors.New("the log is empty")
	}
	begun, ok := log[0].Body.(Begun)
	if !ok {
		return Stage{}, errors.New("the log does not begin with run.begun")
	}
	begun.Rules, begun.Revision = Rules, book.Revision
	outcomes := map[string][]Outcome{}
	asked := map[string]string{}
	var leaves []LeaveGiven
	var decisions []GateDecided
	var answers []QuestionAnswered
	for _, e := range log {
		switch b := e.Body.(type) {
		case Intent:
			asked[b.Attempt] = requestKey(b)
		case Outcome:
			outcomes[asked[b.Attempt]] = append(outcomes[asked[b.Attempt]], b)
		case LeaveGiven:
			leaves = append(leaves, b)
		case GateDecided:
			decisions = append(decisions, b)
		case QuestionAnswered:
			if b.By != Itself {
				answers = append(answers, b)
			}
		}
	}
	return Stage{Book: book, Begun: begun, Now: log[0].At, Limit: 5000,
		Do: func(in Intent, _ time.Time) Outcome {
			key := requestKey(in)
			list := outcomes[key]
			if len(list) == 0 {
				return Outcome{Attempt: in.Attempt, State: Failed, Error: "nothing like it was recorded"}
			}
			o := list[0]
			if len(list) > 1 {
				outcomes[key] = list[1:]
			}
			o.Attempt = in.Attempt
			return o
		},
		Leave: func(a AskLeave) LeaveGiven {
			if a.Look {
				return LeaveGiven{Verdict: leave.Yes, Reasons: []string{"as recorded"}}
			}
			g := LeaveGiven{Verdict: leave.Gate, Reasons: []string{"as recorded"}}
			if len(leaves) > 0 {
				g.Verdict = leaves[0].Verdict
			}
			if a.HasGate && g.Verdict == leave.Yes {
				g.Verdict = leave.Gate
			}
			for _, t := range a.Targets {
				g.Facts = append(g.Facts, leave.Facts{Name: t})
			}
			return g
		},
		Decide: func(g GateRaised) *GateDecided {
			d := GateDecided{Gate: g.Gate, Approved: true, By: "as recorded", Digest: g.Digest}
			if len(decisions) > 0 {
				d.Approved, d.By = decisions[0].Approved, decisions[0].By
				decisions = decisions[1:]
			}
			return &d
		},
		Answer: func(q QuestionRaised) *QuestionAnswered {
			if len(answers) == 0 {
				return nil
			}
			a := answers[0]
			answers = answers[1:]
			a.Question = q.Question
			return &a
		},
	}, nil
}

func requestKey(in Intent) string {
	r := in.Request
	r.Target = leave.Facts{Name: in.Target}
	r.Undo, r.Looks, r.Timeout, r.Secrets = nil, false, 0, nil
	b, err := json.Marshal(r)
	if err != nil {
		return in.Attempt
	}
	return string(b)
}

// RenderStep renders one step alone, with readings given by hand: one value for every target, or a value by target.
func RenderStep(
	book *runbook.Book,
	begun Begun,
	step *runbook.Step,
	readings map[string]any,
	now time.Time,
) ([]Rendered, error) {
	m := &Machine{book: book, s: newState(book)}
	if _, err := m.Append(Event{At: now, Body: begun}); err != nil {
		return nil, err
	}
	w := &walker{s: m.s, now: now}
	d := m.s.in("")
	for name, v := range readings {
		r, err := givenRound(book, begun, name, v, now)
		if err != nil {
			return nil, err
		}
		d.readings[name] = []*expr.Round{r}
	}
	var out []Rendered
	add := func(target, says string, r *leave.Request) {
		out = append(out, Rendered{Step: step, Path: step.Path, Target: target, Request: r, Says: says})
	}
	f := &frame{book: book}
	switch {
	case step.Do != nil:
		w.renderDo(f, step, step.Path, add)
	case step.That != nil:
		ok, values, err := step.That.Explain(w.scope(f, step.Path, ""))
		says := Fails
		if ok {
			says = Passes
		}
		if err != nil {
			says = Unsure + ": " + unsure(err)
		}
		for _, v := range values {
			says += "\n" + v.Part + " is " + v.Text
		}
		add("", says, nil)
	default:
		w.render(f, []*runbook.Step{step}, "", &out, 0)
	}
	return out, nil
}

func givenRound(book *runbook.Book, begun Begun, name string, v any, now time.Time) (*expr.Round, error) {
	look := book.Takes(name)
	if look == nil {
		return nil, fmt.Errorf("no look takes the reading %s", name)
	}
	var typ expr.Type
	for _, spec := range look.Read {
		if spec.Name == name {
			typ = spec.Type
		}
	}
	byTarget, _ := v.(map[string]any)
	r := &expr.Round{Path: look.Path, Takings: map[string]expr.Taking{}}
	take := func(target string, v any) error {
		c, err := reading.Convert(v, typ)
		if err != nil {
			return fmt.Errorf("reading %s: %w", name, err)
		}
		r.Asked = append(r.Asked, target)
		r.Takings[target] = expr.Taking{Value: c, Target: target, At: now}
		return nil
	}
	for _, t := range begun.Estate {
		if one, ok := byTarget[t.Name]; ok {
			if err := take(t.Name, one); err != nil {
				return nil, err
			}
			continue
		}
		if byTarget == nil || typ == expr.JSON && len(r.Asked) == 0 {
			if err := take(t.Name, v); err != nil {
				return nil, err
			}
		}
	}
	if len(r.Asked) == 0 {
		return r, take("", v)
	}
	return r, nil
}

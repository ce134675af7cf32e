package app

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"urgentis/core/access"
	"urgentis/core/expr"
	"urgentis/core/flow"
	"urgentis/core/leave"
	"urgentis/core/runbook"
	"urgentis/internal/act"
	"urgentis/internal/engine"
	"urgentis/internal/intake"
	"urgentis/internal/signin"
)

// Rehearsal is a runbook that was played without changing anything.
type Rehearsal struct {
	Lines   []Line
	State   string // how it ended, as of a run; "" where it came to no end
	Outcome string
	Because string // why it did not come to an end; "" where it did
	Totals  Totals
	// Approvers are the people who may approve its changes, who asks left out.
	Approvers []string
}

// Totals count what was done, or would be.
type Totals struct {
	Looks, Changes, Gates, Questions int
	Targets                          []string
}

// Line is one thing that happened, or would, in a rehearsal.
type Line struct {
	Path, Verb, Title string
	// Depth is how deep the step stands in others; Branch, on the first step of a list, what leads there.
	Depth  int
	Branch string
	// Target is whom it acts on; On says it in words where that is not known yet.
	Target, On string
	// Shown is what is done, Undo what would take it back, Says what came of it.
	Shown, Undo, Says string
	// Notes are the conditions under which the step is taken.
	Notes []string
}

// Play is what a rehearsal or a try is begun with.
type Play struct {
	Text   string
	Inputs map[string]any
	Alert  string // the id of an alert that is taken for what started it; "" without one
	// Assumed is what a rehearsal takes for granted.
	Assumed engine.Assumed
}

// mayCarryOut judges a try or a rehearsal that looks at real targets with a text that nobody has reviewed. Its steps
// run with the rights of the installation: that needs an operator, and an administrator where they could show a
// secret or are looks only by their author's word. It is written down before anything runs.
func (a *App) mayCarryOut(
	ctx context.Context,
	who *access.Principal,
	what string,
	b *runbook.Book,
	steps []*runbook.Step,
) error {
	role, why := access.Operator, "looks at targets"
	for _, st := range steps {
		switch {
		case len(st.Secrets()) > 0:
			role, why = access.Admin, "uses secrets, which what it prints could show"
		case st.OnlyReads != "":
			role, why = access.Admin, "is a look only by the runbook's own word (only_reads)"
		case st.Do != nil && st.Do.FromHere:
			role, why = access.Admin, "runs on the host of the service"
		}
		if role == access.Admin {
			break
		}
	}
	object := access.Object{Kind: "runbook", Name: b.Name, Service: b.Service}
	refused := access.CanAs(who, role, access.CarryOut, object)
	verdict := "carried out"
	if refused != nil {
		verdict = "refused"
	}
	detail := fmt.Sprintf("%s on service %s, revision %.12s", verdict, b.Service, b.Revision)
	if err := a.store.In(ctx).Audit(who.Name, "runbook."+what, b.Name, detail); err != nil {
		return err
	}
	if refused != nil {
		return &Error{Kind: Denied, Code: "role", Says: fmt.Sprintf(
			"carrying this out %s: it needs the role %s; without carrying it out it can be rendered", why, role)}
	}
	return nil
}

// pretend checks a text, and makes the beginning of a run of it that is only played.
func (a *App) pretend(ctx context.Context, who *access.Principal, p Play) (flow.Begun, *runbook.Book, error) {
	b, _, err := parsed(p.Text)
	if err != nil {
		return flow.Begun{}, nil, err
	}
	if err := access.Can(who, access.Write, access.Object{Kind: "runbook", Name: b.Name,
		Service: b.Service}); err != nil {
		return flow.Begun{}, nil, err
	}
	given := p.Inputs
	var snapshot map[string]any
	if p.Alert != "" {
		row, err := a.store.In(ctx).Alert(p.Alert)
		if err != nil {
			return flow.Begun{}, nil, named(err, "alert %s", p.Alert)
		}
		snapshot = intake.Snapshot(row)
		if len(given) == 0 {
			given = a.engine.InputsFrom(b, snapshot)
		}
	}
	inputs, err := b.AcceptAll(given)
	if err != nil {
		return flow.Begun{}, nil, invalid("inputs", "%s", err)
	}
	begun, linked, err := a.engine.Pretend(
		ctx,
		engine.Start{Book: b, Inputs: inputs, Alert: snapshot, StartedBy: who.Name},
	)
	if err != nil {
		return flow.Begun{}, nil, invalid("runbook", "%s", err)
	}
	return begun, linked, nil
}

// RenderRunbook gives what every step would do, without doing anything.
func (a *App) RenderRunbook(ctx context.Context, who *access.Principal, p Play) (*Rehearsal, error) {
	begun, b, err := a.pretend(ctx, who, p)
	if err != nil {
		return nil, err
	}
	list, err := flow.Render(b, begun, now())
	if err != nil {
		return nil, err
	}
	out := &Rehearsal{Lines: rendered(list), Outcome: "rendered; nothing ran", Totals: totals(list)}
	if err := a.foretell(ctx, list, out); err != nil {
		return nil, err
	}
	out.Approvers, err = a.approvers(ctx, who, b)
	return out, err
}

// RehearseLooks plays a runbook: looks are taken for real, changes are assumed to happen, gates to be approved.
func (a *App) RehearseLooks(ctx context.Context, who *access.Principal, p Play) (*Rehearsal, error) {
	begun, b, err := a.pretend(ctx, who, p)
	if err != nil {
		return nil, err
	}
	if err := a.mayCarryOut(ctx, who, "rehearse", b, everyStep(b)); err != nil {
		return nil, err
	}
	played, err := a.engine.Rehearse(ctx, b, begun, p.Assumed)
	if err != nil {
		return nil, invalid("rehearse", "%s", err)
	}
	out := playedOut(b, played)
	out.Approvers, err = a.approvers(ctx, who, b)
	return out, err
}

// TryStep renders one step with readings given by hand, and carries it out if it is a look and run is set.
func (a *App) TryStep(
	ctx context.Context,
	who *access.Principal,
	p Play,
	name string,
	readings map[string]any,
	run bool,
) (*Rehearsal, error) {
	begun, b, err := a.pretend(ctx, who, p)
	if err != nil {
		return nil, err
	}
	step := b.Named(name)
	if step == nil {
		return nil, invalid("step", "there is no step %s; give its id or its path", name)
	}
	if run {
		if err := a.mayCarryOut(ctx, who, "try", b, []*runbook.Step{step}); err != nil {
			return nil, err
		}
	}
	lines, err := a.engine.Try(ctx, b, begun, step, readings, run)
	if err != nil {
		return nil, invalid("try", "%s", err)
	}
	return &Rehearsal{Lines: rendered(lines), Totals: totals(lines)}, nil
}

func rendered(list []flow.Rendered) []Line {
	out := make([]Line, len(list))
	last := ""
	for i, x := range list {
		out[i] = Line{
			Path: x.Path, Verb: string(x.Step.Verb), Title: x.Step.Title, Depth: x.Depth, Branch: x.Branch,
			Target: x.Target, On: x.On, Says: x.Says,
		}
		if x.Path != last {
			out[i].Notes = notes(x.Book, x.Step)
		}
		last = x.Path
		if x.Request == nil {
			continue
		}
		out[i].Shown = act.Show(*x.Request)
		if x.Request.Undo != nil {
			out[i].Undo = act.Show(*x.Request.Undo)
		}
	}
	return out
}

// notes are the conditions of a step, as sentences, without what its lines show anyway.
func notes(b *runbook.Book, s *runbook.Step) []string {
	var out []string
	for _, t := range b.Terms(s) {
		out = append(out, t.Says)
	}
	return out
}

func totals(list []flow.Rendered) Totals {
	out := Totals{Targets: []string{}}
	last := ""
	for _, x := range list {
		if x.Target != "" && !slices.Contains(out.Targets, x.Target) {
			out.Targets = append(out.Targets, x.Target)
		}
		if x.Path == last {
			continue
		}
		last = x.Path
		switch {
		case x.Step.Verb == runbook.Look:
			out.Looks++
		case x.Step.Verb == runbook.Change && x.Step.Do != nil:
			out.Changes++
		case x.Step.Verb == runbook.Ask:
			out.Questions++
		}
		if x.Step.Gate != nil {
			out.Gates++
		}
	}
	slices.Sort(out.Targets)
	return out
}

// foretell adds to each change what the service would say to it as everything stands now.
func (a *App) foretell(ctx context.Context, list []flow.Rendered, out *Rehearsal) error {
	for i := 0; i < len(list); i++ {
		x := list[i]
		if x.Step.Verb != runbook.Change || x.Step.Do == nil {
			continue
		}
		first, targets := i, []string{}
		for ; i < len(list) && list[i].Path == x.Path; i++ {
			if list[i].Target != "" {
				targets = append(targets, list[i].Target)
			}
		}
		i--
		given, err := a.engine.Leave(ctx, x.Book, flow.WouldAsk(x.Step, x.Path, targets))
		if err != nil {
			return err
		}
		why := strings.Join(given.Reasons, "; ")
		says := "now it would run without asking: " + why
		switch given.Verdict {
		case leave.Gate:
			says = "now it would ask first: " + why
			if x.Step.Gate == nil {
				out.Totals.Gates++
			}
		case leave.No:
			says = "now it would be refused: " + why
		}
		out.Lines[first].Notes = append(out.Lines[first].Notes, says)
	}
	return nil
}

// approvers lists who may approve the changes of a runbook that somebody asks for.
func (a *App) approvers(ctx context.Context, who *access.Principal, b *runbook.Book) ([]string, error) {
	people, err := a.store.In(ctx).People()
	if err != nil {
		return nil, err
	}
	out := []string{}
	for _, p := range people {
		one := &access.Principal{Name: p.Name, Roles: signin.Split(p.Roles), Person: true}
		may := access.Can(one, access.Decide, access.Object{Kind: "gate", Service: b.Service}) == nil
		if may && p.Name != who.Behind() {
			out = append(out, p.Name)
		}
	}
	return out, nil
}

// everyStep lists the steps of a runbook, of its parts, and of what it calls.
func everyStep(b *runbook.Book) []*runbook.Step {
	var out []*runbook.Step
	seen := map[*runbook.Book]bool{}
	var add func(b *runbook.Book)
	add = func(b *runbook.Book) {
		if b == nil || seen[b] {
			return
		}
		seen[b] = true
		for _, st := range b.All() {
			out = append(out, st)
			if st.Verb == runbook.Call {
				add(b.Callee(st.Callee))
			}
		}
	}
	add(b)
	return out
}

// playedOut tells what happened on the stage, step by step.
func playedOut(b *runbook.Book, played *engine.Played) *Rehearsal {
	out := &Rehearsal{Lines: []Line{}, Because: played.Stopped, Totals: Totals{Targets: []string{}}}
	out.Outcome, _ = flow.Came(b, played.Log)
	intents := map[string]flow.Intent{}
	told := map[string]bool{}
	for _, e := range played.Log {
		if x, ok := e.Body.(flow.Ended); ok {
			out.State, out.Because = x.State, x.Because
		}
		st, of := flow.Find(b, e.Path)
		if st == nil {
			continue
		}
		l := Line{Path: e.Path, Verb: string(st.Verb), Title: st.Title, Depth: depthOf(e.Path)}
		switch x := e.Body.(type) {
		case flow.Intent:
			intents[x.Attempt] = x
			continue
		case flow.Outcome:
			in := intents[x.Attempt]
			l.Target, l.Shown, l.Says = in.Target, act.Show(in.Request), saysPlayed(in, x, played.Assumed[x.Attempt])
			if in.Request.Undo != nil {
				l.Undo = act.Show(*in.Request.Undo)
			}
			out.Totals.count(in, notTaken(x, played.Assumed[x.Attempt]))
		default:
			if l.Says = says(e.Body); l.Says == "" {
				continue
			}
			out.Totals.asked(e.Body)
		}
		if !told[e.Path] {
			told[e.Path] = true
			l.Notes = notes(of, st)
		}
		out.Lines = append(out.Lines, l)
	}
	slices.Sort(out.Totals.Targets)
	return out
}

// depthOf is how deep a place stands in other steps.
func depthOf(path string) int {
	steps := 0
	for _, seg := range strings.FieldsFunc(path, func(r rune) bool { return r == '.' || r == '/' }) {
		if seg[0] >= '0' && seg[0] <= '9' {
			steps++
		}
	}
	return max(0, steps-1)
}

// notTaken reports whether a look was not taken, as all that it reads is assumed.
func notTaken(x flow.Outcome, assumed []string) bool {
	return len(assumed) > 0 && x.Output.Head == "" && len(assumed) == len(x.Readings)
}

// count adds an attempt of a rehearsal; a look only if it was taken.
func (t *Totals) count(in flow.Intent, skipped bool) {
	switch {
	case in.Change:
		t.Changes++
	case skipped:
		return
	default:
		t.Looks++
	}
	if in.Target != "" && !slices.Contains(t.Targets, in.Target) {
		t.Targets = append(t.Targets, in.Target)
	}
}

// asked adds what people would have been asked.
func (t *Totals) asked(body flow.Body) {
	switch body.(type) {
	case flow.GateRaised:
		t.Gates++
	case flow.QuestionRaised:
		t.Questions++
	}
}

// saysPlayed tells how an attempt of a rehearsal ended. assumed are the readings that were not seen.
func saysPlayed(in flow.Intent, x flow.Outcome, assumed []string) string {
	says := x.State
	switch {
	case in.Change:
		says = "assumed to have happened; nothing was changed"
	case notTaken(x, assumed):
		says = "not taken: what it reads is assumed"
	}
	if x.Error != "" {
		says += ": " + x.Error
	}
	for _, k := range slices.Sorted(maps.Keys(x.Readings)) {
		says += fmt.Sprintf(", %s is %s", k, sayValue(x.Readings[k].Value))
		if slices.Contains(assumed, k) {
			says += " (assumed)"
		}
	}
	for _, k := range slices.Sorted(maps.Keys(x.Missing)) {
		says += fmt.Sprintf(", no %s (%s)", k, x.Missing[k])
	}
	return says
}

// sayValue writes a value; one that is empty so that it is seen.
func sayValue(v any) string {
	if v == "" {
		return "empty"
	}
	return expr.Say(v)
}

// asks tells what people would be asked, and how they can answer.
func asks(x flow.QuestionRaised) string {
	out := x.Ask + " would be asked: " + x.Text
	for _, c := range x.Choices {
		out += "\n" + c
		if label := x.Labels[c]; label != "" && label != c {
			out += ": " + label
		}
	}
	return out
}

// says tells what an event of a rehearsal means; "" for one that says nothing to people.
func says(body flow.Body) string {
	switch x := body.(type) {
	case flow.Judged:
		says := x.Result
		if x.Unsure != "" {
			return says + ": " + x.Unsure
		}
		for _, v := range x.Values {
			says += ", " + v.Part + " is " + v.Text
		}
		return says
	case flow.Skipped:
		return "skipped: " + x.Expression + " does not hold"
	case flow.GateRaised:
		return "a gate would stand, asking " + x.Ask + ": " + strings.Join(x.Reasons, "; ")
	case flow.QuestionRaised:
		return asks(x)
	case flow.QuestionAnswered:
		return "answered " + x.Choice + ", by " + x.By
	case flow.Told:
		if x.Source != "" {
			return "would tell the alert's source: " + x.Source
		}
		return "would tell: " + x.Text
	case flow.Noted:
		return x.Text
	case flow.Troubled:
		return x.Because
	case flow.Ended:
		return x.State + " " + x.Outcome + ": " + x.Because
	}
	return ""
}

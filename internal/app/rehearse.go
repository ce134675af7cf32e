package app

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"urgentis/core/access"
	"urgentis/core/flow"
	"urgentis/core/runbook"
	"urgentis/internal/act"
	"urgentis/internal/engine"
	"urgentis/internal/intake"
	"urgentis/internal/store"
)

// Rehearsal is a runbook that was played without changing anything.
type Rehearsal struct {
	Lines   []Line
	Outcome string
	Because string // why it did not come to an end; "" where it did
}

// Line is one thing that happened, or would, in a rehearsal.
type Line struct {
	Path, Verb, Title, Target, Shown, Says string
}

// Play is what a rehearsal or a try is begun with.
type Play struct {
	Text   string
	Inputs map[string]any
	Alert  string // the id of an alert that is taken for what started it; "" without one
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
	return &Rehearsal{Lines: rendered(list), Outcome: "rendered; nothing ran"}, nil
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
	played, err := a.engine.Rehearse(ctx, b, begun)
	if err != nil {
		return nil, invalid("rehearse", "%s", err)
	}
	out := &Rehearsal{Lines: playedLines(b, played.Log), Because: played.Stopped}
	out.Outcome, _ = flow.Came(b, played.Log)
	return out, nil
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
	step := b.ByID(name)
	if step == nil {
		step = b.Step(name)
	}
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
	return &Rehearsal{Lines: rendered(lines)}, nil
}

func rendered(list []flow.Rendered) []Line {
	out := make([]Line, len(list))
	for i, x := range list {
		out[i] = Line{Path: x.Path, Verb: string(x.Step.Verb), Title: x.Step.Title, Target: x.Target, Says: x.Says}
		if x.Request == nil {
			continue
		}
		out[i].Shown = act.Show(*x.Request)
		if x.Request.Undo != nil {
			out[i].Says = "undo: " + act.Show(*x.Request.Undo)
		}
	}
	return out
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

// playedLines tells what happened on the stage, step by step.
func playedLines(b *runbook.Book, log []flow.Event) []Line {
	out := []Line{}
	intents := map[string]flow.Intent{}
	for _, e := range log {
		st, _ := flow.Find(b, e.Path)
		if st == nil {
			continue
		}
		l := Line{Path: e.Path, Verb: string(st.Verb), Title: st.Title}
		switch x := e.Body.(type) {
		case flow.Intent:
			intents[x.Attempt] = x
			continue
		case flow.Outcome:
			in := intents[x.Attempt]
			l.Target, l.Shown, l.Says = in.Target, act.Show(in.Request), saysPlayed(in, x)
		default:
			if l.Says = says(e.Body); l.Says == "" {
				continue
			}
		}
		out = append(out, l)
	}
	return out
}

// saysPlayed tells how an attempt of a rehearsal ended.
func saysPlayed(in flow.Intent, x flow.Outcome) string {
	says := x.State
	if in.Change {
		says = "assumed to have happened; nothing was changed"
	}
	if x.Error != "" {
		says += ": " + x.Error
	}
	for _, k := range slices.Sorted(maps.Keys(x.Readings)) {
		says += fmt.Sprintf(", %s is %v", k, x.Readings[k].Value)
	}
	for _, k := range slices.Sorted(maps.Keys(x.Missing)) {
		says += fmt.Sprintf(", no %s (%s)", k, x.Missing[k])
	}
	return says
}

// says tells what an event of a rehearsal means; "" for one that says nothing to people.
func says(body flow.Body) string {
	switch x := body.(type) {
	case flow.Judged:
		says := x.Result
		for _, v := range x.Values {
			says += ", " + v.Part + " is " + v.Text
		}
		if x.Unsure != "" {
			says += ": " + x.Unsure
		}
		return says
	case flow.Skipped:
		return "skipped: " + x.Expression + " does not hold"
	case flow.GateRaised:
		return "a gate would stand: " + strings.Join(x.Reasons, "; ")
	case flow.QuestionRaised:
		return "would be asked: " + x.Text
	case flow.QuestionAnswered:
		return "answered " + x.Choice + ", by " + x.By
	case flow.Told:
		return "would tell: " + x.Text + x.Source
	case flow.Noted:
		return x.Text
	case flow.Troubled:
		return x.Because
	case flow.Ended:
		return x.State + " " + x.Outcome + ": " + x.Because
	}
	return ""
}

// PastRun is a recorded run beside the same run as another revision would have gone.
type PastRun struct {
	Run, Then, Now      string
	BegunAt             time.Time
	AskedThen, AskedNow int
	PartsAt             string // the first step where the path is another one; "" where it is the same
	Same                bool
}

// RehearsePast replays the newest recorded runs of the same runbook with a text.
func (a *App) RehearsePast(ctx context.Context, who *access.Principal, text string, most int) ([]PastRun, error) {
	b, _, err := parsed(text)
	if err != nil {
		return nil, err
	}
	if err := access.Can(who, access.Write, access.Object{Kind: "runbook", Name: b.Name,
		Service: b.Service}); err != nil {
		return nil, err
	}
	runs, err := a.store.In(ctx).OverOf(b.Name, max(1, most))
	if err != nil {
		return nil, err
	}
	out := []PastRun{}
	for _, r := range runs {
		old, err := a.engine.Read(ctx, r.ID)
		if errors.Is(err, flow.ErrNewer) {
			continue
		}
		if err != nil {
			return nil, err
		}
		log, err := a.store.Log(ctx, r.ID, 0)
		if err != nil {
			return nil, err
		}
		out = append(out, replayed(old.Book(), b, r, log))
	}
	return out, nil
}

func replayed(old, b *runbook.Book, r store.Run, log []flow.Event) PastRun {
	then, before := flow.Came(old, log)
	out := PastRun{Run: r.ID, BegunAt: r.BegunAt.UTC(), Then: then, AskedThen: flow.Asked(log)}
	stage, err := flow.Replay(b, log)
	if err != nil {
		out.Now = err.Error()
		return out
	}
	begun := &stage.Begun
	if begun.Inputs, err = b.AcceptAll(takenBy(b, begun.Inputs)); err != nil {
		out.Now = "would not start: " + err.Error()
		return out
	}
	played, stopped, err := stage.Play()
	if err != nil {
		out.Now = err.Error()
		return out
	}
	after := []string(nil)
	out.Now, after = flow.Came(b, played)
	if stopped != "" {
		out.Now = stopped
	}
	out.AskedNow, out.PartsAt = flow.Asked(played), parting(before, after)
	out.Same = out.PartsAt == "" && out.Now == then
	return out
}

// parting is the first step where two paths are not the same; "" where they are.
func parting(before, after []string) string {
	for i := range max(len(before), len(after)) {
		switch {
		case i >= len(after):
			return "it ends earlier, before " + before[i]
		case i >= len(before) || before[i] != after[i]:
			return after[i]
		}
	}
	return ""
}

// takenBy keeps the inputs that a revision has.
func takenBy(b *runbook.Book, given map[string]any) map[string]any {
	out := map[string]any{}
	for _, in := range b.Inputs {
		if v, ok := given[in.Name]; ok {
			out[in.Name] = v
		}
	}
	return out
}

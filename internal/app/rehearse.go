package app

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"urgentis/core/access"
	"urgentis/core/doc"
	"urgentis/core/flow"
	"urgentis/core/leave"
	"urgentis/core/runbook"
	"urgentis/internal/engine"
	"urgentis/internal/rehearsal"
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
	// Shown is what is done, Undo what would undo it, Says what came of it.
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
	Assumed rehearsal.Assumed
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
	if slices.ContainsFunc(steps, func(st *runbook.Step) bool { return st.OnlyReads != "" }) {
		if err := a.byItsWord(ctx, b.Service); err != nil {
			return err
		}
	}
	for _, st := range steps {
		switch {
		case len(st.Secrets()) > 0:
			role, why = access.Admin, "uses secrets, which what it prints could show"
		case st.OnlyReads != "":
			role, why = access.Admin, "is a look that is not known to be read-only (only_reads)"
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

// byItsWord refuses to carry out looks that are some only by their author's word where a run would not: while all
// changes are halted, and on a service with the stance suggest.
func (a *App) byItsWord(ctx context.Context, service string) error {
	tx := a.store.In(ctx)
	const one = "one of these is a look that is not known to be read-only (only_reads)"
	halted, _, err := tx.Halted()
	if err != nil {
		return err
	}
	if halted {
		return &Error{Kind: Conflict, Code: "halted", Says: one + ": none is taken while all changes are halted"}
	}
	s, err := tx.Service(service)
	if err != nil || s == nil || leave.Stance(s.Stance) != leave.Suggest {
		return err
	}
	return &Error{Kind: Conflict, Code: "stance", Says: one + ", and the stance of " + service +
		" is suggest: a run asks a person first"}
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
		snapshot = row.Snapshot()
		if len(given) == 0 {
			given = b.InputsFor(snapshot)
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
	list, err := flow.Render(b, begun, a.Now())
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
	played, err := a.rehearser().Rehearse(ctx, b, begun, p.Assumed)
	if err != nil {
		return nil, invalid("rehearse", "%s", err)
	}
	out := playedOut(b, played)
	out.Approvers, err = a.approvers(ctx, who, b)
	return out, err
}

// Sketched is what a text that is being written would be as a runbook.
type Sketched struct {
	Text string
	// Book is nil where nothing can be told apart in it; it is to be drawn only where Findings did not fail.
	Book     *runbook.Book
	Findings doc.Findings
}

// Sketch reads a text that is being written, after its picture was altered; edit nil is no alteration. Nothing is kept.
func (a *App) Sketch(who *access.Principal, text string, edit *runbook.Edit) (*Sketched, error) {
	if err := access.Can(who, access.Write, access.Object{Kind: "runbook"}); err != nil {
		return nil, err
	}
	src := []byte(text)
	if edit != nil {
		out, err := edit.Apply(src)
		if err != nil {
			return nil, invalid("edit", "%s", err)
		}
		src = out
	}
	out := &Sketched{Text: string(src)}
	out.Book, out.Findings = runbook.Sketch(src)
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
	step := b.Named(name)
	if step == nil {
		return nil, invalid("step", "there is no step %s; give its id or its path", name)
	}
	if run {
		if err := a.mayCarryOut(ctx, who, "try", b, []*runbook.Step{step}); err != nil {
			return nil, err
		}
	}
	lines, err := a.rehearser().Try(ctx, b, begun, step, readings, run)
	if err != nil {
		return nil, invalid("try", "%s", err)
	}
	return &Rehearsal{Lines: rendered(lines), Totals: totals(lines)}, nil
}

// foretell adds to each change what the service would say to it as everything stands now.
func (a *App) foretell(ctx context.Context, list []flow.Rendered, out *Rehearsal) error {
	for i := 0; i < len(list); i++ {
		x := list[i]
		if x.Step.Verb != runbook.Change || x.Step.Do == nil {
			continue
		}
		first, targets := i, []string{}
		for ; i < len(list) && list[i].Place == x.Place; i++ {
			if list[i].Target != "" {
				targets = append(targets, list[i].Target)
			}
		}
		i--
		given, err := a.engine.Leave(ctx, x.Book, flow.WouldAsk(x.Step, x.Place, targets))
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

func (a *App) rehearser() *rehearsal.Rehearser { return &rehearsal.Rehearser{Engine: a.engine} }

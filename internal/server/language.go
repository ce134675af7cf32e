package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"urgentis/api"
	"urgentis/core/flow"
	"urgentis/core/runbook"
	"urgentis/internal/access"
	"urgentis/internal/act"
	"urgentis/internal/engine"
	"urgentis/internal/intake"
	"urgentis/internal/store"
)

func apiGraph(b *runbook.Book, visits map[string]runbook.Visit) api.Graph {
	g := b.Graph(visits)
	out := api.Graph{Width: float32(g.Width), Height: float32(g.Height), Svg: g.SVG(), Text: b.Text(visits), Nodes: []api.Node{}, Edges: []api.Edge{}}
	for _, n := range g.Nodes {
		out.Nodes = append(out.Nodes, api.Node{Id: n.ID, Path: n.Path, Kind: n.Kind, Title: n.Title, State: n.State, Times: n.Times, TookMs: n.Took.Milliseconds(),
			X: float32(n.X), Y: float32(n.Y), Width: float32(n.Width), Height: float32(n.Height)})
	}
	for _, e := range g.Edges {
		out.Edges = append(out.Edges, api.Edge{From: e.From, To: e.To, Label: e.Label, Taken: e.Taken})
	}
	return out
}

// GetRunbookGraph implements api.StrictServerInterface.
func (s *Server) GetRunbookGraph(ctx context.Context, r api.GetRunbookGraphRequestObject) (api.GetRunbookGraphResponseObject, error) {
	row, err := s.Store.Newest(ctx, r.Name)
	if err != nil {
		return nil, err
	}
	b, err := s.Engine.Book(ctx, row.Revision)
	if err != nil {
		return nil, err
	}
	return api.GetRunbookGraph200JSONResponse(apiGraph(b, nil)), nil
}

// GetRunGraph implements api.StrictServerInterface.
func (s *Server) GetRunGraph(ctx context.Context, r api.GetRunGraphRequestObject) (api.GetRunGraphResponseObject, error) {
	state, err := s.Engine.Read(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	return api.GetRunGraph200JSONResponse(apiGraph(state.Book(), state.Visits(time.Now()))), nil
}

// GetRunbookSchema implements api.StrictServerInterface.
func (s *Server) GetRunbookSchema(context.Context, api.GetRunbookSchemaRequestObject) (api.GetRunbookSchemaResponseObject, error) {
	var doc map[string]any
	err := json.Unmarshal(runbook.Schema(), &doc)
	return api.GetRunbookSchema200JSONResponse(doc), err
}

// parsed checks a text that is to be played.
func parsed(text string) (*runbook.Book, error) {
	b, found := runbook.Parse([]byte(text))
	if b == nil {
		return nil, &Problem{http.StatusUnprocessableEntity, "runbook", "the runbook has mistakes: " + found.Error(), found}
	}
	return b, nil
}

// mayCarryOut judges a try or a rehearsal that looks at real targets with a text that nobody has reviewed. Its steps run
// with the rights of the installation: that needs an operator, and an administrator where they could show a secret or
// are looks only by their author's word. It is written down before anything runs.
func (s *Server) mayCarryOut(ctx context.Context, what string, b *runbook.Book, steps []*runbook.Step) error {
	p, role, why := who(ctx), access.Operator, "looks at targets"
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
	verdict := "carried out"
	if !p.May(string(role)) {
		verdict = "refused"
	}
	if err := store.Audit(s.Store.DB.WithContext(ctx), p.Name, "runbook."+what, b.Name, verdict+" on service "+b.Service+", revision "+b.Revision[:12]); err != nil {
		return err
	}
	if verdict == "refused" {
		return &Problem{http.StatusForbidden, "role", fmt.Sprintf("carrying this out %s: it needs the role %s; without carrying it out it can be rendered", why, role), nil}
	}
	return nil
}

// Rehearse implements api.StrictServerInterface.
func (s *Server) Rehearse(ctx context.Context, r api.RehearseRequestObject) (api.RehearseResponseObject, error) {
	b, err := parsed(r.Body.Text)
	if err != nil {
		return nil, err
	}
	out := api.Rehearsal{Lines: []api.RehearsedLine{}}
	if r.Body.How == api.AgainstThePast {
		out.Past, err = s.rehearsePast(ctx, b, int(r.Body.Past))
		return api.Rehearse200JSONResponse(out), err
	}
	begun, b, err := s.pretend(ctx, b, r.Body.Inputs, r.Body.Alert)
	if err != nil {
		return nil, err
	}
	if r.Body.How == api.LooksOnly {
		if err := s.mayCarryOut(ctx, "rehearse", b, everyStep(b)); err != nil {
			return nil, err
		}
		p, err := s.Engine.Rehearse(ctx, b, begun)
		if err != nil {
			return nil, bad("rehearse", "%s", err)
		}
		out.Lines, out.Because = playedLines(b, p.Log), p.Stopped
		out.Outcome, _ = flow.Came(b, p.Log)
		return api.Rehearse200JSONResponse(out), nil
	}
	list, err := flow.Render(b, begun, time.Now().UTC())
	if err != nil {
		return nil, err
	}
	for _, x := range list {
		out.Lines = append(out.Lines, renderedLine(x))
	}
	out.Outcome = "rendered; nothing ran"
	return api.Rehearse200JSONResponse(out), nil
}

func renderedLine(x flow.Rendered) api.RehearsedLine {
	l := api.RehearsedLine{Path: x.Path, Verb: string(x.Step.Verb), Title: x.Step.Title, Target: x.Target, Says: x.Says}
	if x.Request != nil {
		l.Shown = act.Show(*x.Request)
		if x.Request.Undo != nil {
			l.Says = "undo: " + act.Show(*x.Request.Undo)
		}
	}
	return l
}

// pretend makes the beginning of a run that is only played.
func (s *Server) pretend(ctx context.Context, b *runbook.Book, given map[string]any, alert string) (flow.Begun, *runbook.Book, error) {
	var snapshot map[string]any
	if alert != "" {
		var row store.Alert
		if err := s.Store.DB.WithContext(ctx).Where("id = ?", alert).Take(&row).Error; err != nil {
			return flow.Begun{}, nil, err
		}
		snapshot = intake.Snapshot(&row)
		if len(given) == 0 {
			given = s.Engine.InputsFrom(b, snapshot)
		}
	}
	inputs, err := b.AcceptAll(given)
	if err != nil {
		return flow.Begun{}, nil, bad("inputs", "%s", err)
	}
	begun, linked, err := s.Engine.Pretend(ctx, engine.Start{Book: b, Inputs: inputs, Alert: snapshot, StartedBy: who(ctx).Name})
	if err != nil {
		return flow.Begun{}, nil, bad("runbook", "%s", err)
	}
	return begun, linked, nil
}

// playedLines tells what happened on the stage, step by step.
func playedLines(b *runbook.Book, log []flow.Event) []api.RehearsedLine {
	out := []api.RehearsedLine{}
	targets := map[string]flow.Intent{}
	for _, e := range log {
		st, _ := flow.Find(b, e.Path)
		if st == nil {
			continue
		}
		l := api.RehearsedLine{Path: e.Path, Verb: string(st.Verb), Title: st.Title}
		switch x := e.Body.(type) {
		case flow.Intent:
			targets[x.Attempt] = x
			continue
		case flow.Outcome:
			in := targets[x.Attempt]
			l.Target, l.Shown, l.Says = in.Target, act.Show(in.Request), x.State
			if in.Change {
				l.Says = "assumed to have happened; nothing was changed"
			}
			if x.Error != "" {
				l.Says += ": " + x.Error
			}
			for _, k := range sortedKeys(x.Readings) {
				l.Says += fmt.Sprintf(", %s is %v", k, x.Readings[k].Value)
			}
			for _, k := range sortedKeys(x.Missing) {
				l.Says += fmt.Sprintf(", no %s (%s)", k, x.Missing[k])
			}
		case flow.Judged:
			l.Says = x.Result
			for _, v := range x.Values {
				l.Says += ", " + v.Part + " is " + v.Text
			}
			if x.Unsure != "" {
				l.Says += ": " + x.Unsure
			}
		case flow.Skipped:
			l.Says = "skipped: " + x.Expression + " does not hold"
		case flow.GateRaised:
			l.Says = "a gate would stand: " + strings.Join(x.Reasons, "; ")
		case flow.QuestionRaised:
			l.Says = "would be asked: " + x.Text
		case flow.QuestionAnswered:
			l.Says = "answered " + x.Choice + ", by " + x.By
		case flow.Told:
			l.Says = "would tell: " + x.Text + x.Source
		case flow.Noted:
			l.Says = x.Text
		case flow.Troubled:
			l.Says = x.Because
		case flow.Ended:
			l.Says = x.State + " " + x.Outcome + ": " + x.Because
		default:
			continue
		}
		out = append(out, l)
	}
	return out
}

// rehearsePast replays recorded runs of the same runbook with this revision.
func (s *Server) rehearsePast(ctx context.Context, b *runbook.Book, n int) ([]api.RehearsedRun, error) {
	var runs []store.Run
	if err := s.Store.DB.WithContext(ctx).Where("runbook = ? and ended_at is not null", b.Name).Order("begun_at desc").Limit(max(1, n)).Find(&runs).Error; err != nil {
		return nil, err
	}
	out := []api.RehearsedRun{}
	for _, r := range runs {
		old, err := s.Engine.Read(ctx, r.ID)
		if err != nil {
			if errors.Is(err, flow.ErrNewer) {
				continue
			}
			return nil, err
		}
		log, err := s.Store.Log(ctx, r.ID, 0)
		if err != nil {
			return nil, err
		}
		out = append(out, replayed(old.Book(), b, r, log))
	}
	return out, nil
}

func replayed(old, b *runbook.Book, r store.Run, log []flow.Event) api.RehearsedRun {
	then, before := flow.Came(old, log)
	out := api.RehearsedRun{Run: r.ID, BegunAt: r.BegunAt.UTC(), Then: then, AskedThen: flow.Asked(log)}
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
	now, after := flow.Came(b, played)
	if stopped != "" {
		now = stopped
	}
	out.Now, out.AskedNow = now, flow.Asked(played)
	for i := range max(len(before), len(after)) {
		if i >= len(before) || i >= len(after) || before[i] != after[i] {
			if i < len(after) {
				out.PartsAt = after[i]
			} else {
				out.PartsAt = "it ends earlier, before " + before[i]
			}
			break
		}
	}
	out.Same = out.PartsAt == "" && now == then
	return out
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

// TryStep implements api.StrictServerInterface.
func (s *Server) TryStep(ctx context.Context, r api.TryStepRequestObject) (api.TryStepResponseObject, error) {
	b, err := parsed(r.Body.Text)
	if err != nil {
		return nil, err
	}
	step := b.ByID(r.Body.Step)
	if step == nil {
		step = b.Step(r.Body.Step)
	}
	if step == nil {
		return nil, bad("step", "there is no step %s; give its id or its path", r.Body.Step)
	}
	begun, b, err := s.pretend(ctx, b, r.Body.Inputs, r.Body.Alert)
	if err != nil {
		return nil, err
	}
	if r.Body.Run {
		if err := s.mayCarryOut(ctx, "try", b, []*runbook.Step{step}); err != nil {
			return nil, err
		}
	}
	lines, err := s.Engine.Try(ctx, b, begun, step, r.Body.Readings, r.Body.Run)
	if err != nil {
		return nil, bad("try", "%s", err)
	}
	out := api.Rehearsal{Lines: []api.RehearsedLine{}}
	for _, l := range lines {
		out.Lines = append(out.Lines, renderedLine(l))
	}
	return api.TryStep200JSONResponse(out), nil
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

// ListInstances implements api.StrictServerInterface.
func (s *Server) ListInstances(ctx context.Context, _ api.ListInstancesRequestObject) (api.ListInstancesResponseObject, error) {
	var rows []store.Instance
	if err := s.Store.DB.WithContext(ctx).Where("beat_at > now() - interval '7 days'").Order("begun_at desc").Limit(200).Find(&rows).Error; err != nil {
		return nil, err
	}
	return api.ListInstances200JSONResponse(mapped(rows, func(i store.Instance) api.Instance {
		state := api.Alive
		switch {
		case i.GoneAt != nil:
			state = api.Gone
		case i.ReportedAt != nil:
			state = api.Left
		case i.FencedAt != nil || time.Since(i.BeatAt) > store.Lease:
			state = api.Silent
		}
		return api.Instance{Id: i.ID, Host: i.Host, Pid: i.PID, Version: i.Version, State: state, BegunAt: i.BegunAt.UTC(), BeatAt: i.BeatAt.UTC()}
	})), nil
}

// BuryInstance implements api.StrictServerInterface.
func (s *Server) BuryInstance(ctx context.Context, r api.BuryInstanceRequestObject) (api.BuryInstanceResponseObject, error) {
	var row store.Instance
	if err := s.Store.DB.WithContext(ctx).Where("id = ?", r.Id).Take(&row).Error; err != nil {
		return nil, err
	}
	if row.FencedAt == nil && time.Since(row.BeatAt) <= store.Lease {
		return nil, &Problem{http.StatusConflict, "alive", "this instance answers: it is not gone", nil}
	}
	if _, err := s.Store.Gone(ctx, r.Id, who(ctx).Name); err != nil {
		return nil, err
	}
	return api.BuryInstance204Response{}, nil
}

// estateFindings tells what only the service knows of a runbook: whether its selectors select anything, its secrets are
// set, and what it calls is there.
func (s *Server) estateFindings(ctx context.Context, b *runbook.Book) (runbook.Findings, error) {
	var found runbook.Findings
	warn := func(st *runbook.Step, format string, args ...any) {
		found = append(found, runbook.Finding{Line: st.Line, Column: 1, Warning: true, Message: fmt.Sprintf(format, args...)})
	}
	var targets []store.Target
	if err := s.Store.DB.WithContext(ctx).Where("service = ?", b.Service).Find(&targets).Error; err != nil {
		return nil, err
	}
	for _, st := range b.Everything() {
		selectors := []*runbook.Selector{st.Where}
		if st.Each != nil {
			selectors = append(selectors, st.Each.Where, st.Each.Peers)
		}
		for _, sel := range selectors {
			if sel != nil && !selects(sel, targets) {
				warn(st, "this selects no target of the service %s as it is now", b.Service)
			}
		}
		versions, err := store.SecretVersions(s.Store.DB.WithContext(ctx), st.Secrets())
		if err != nil {
			return nil, err
		}
		for _, n := range st.Secrets() {
			if versions[n] == 0 {
				warn(st, "the secret %s is not set", n)
			}
		}
	}
	_, linked, err := s.Engine.Pretend(ctx, engine.Start{Book: b})
	var missing runbook.Findings
	switch {
	case errors.As(err, &missing):
		found = append(found, missing...)
	case err != nil:
		return nil, err
	case linked == nil:
		return nil, errors.New("the runbook cannot be linked")
	}
	return found, nil
}

// selects reports whether a selector can select any of the targets; a label that is not written out may be anything.
func selects(sel *runbook.Selector, targets []store.Target) bool {
	for _, t := range targets {
		ok := sel.Name == nil || len(sel.Name.Holes()) > 0 || sel.Name.Source == t.Name
		for k, v := range sel.Labels {
			ok = ok && (len(v.Holes()) > 0 || t.Labels[k] == v.Source)
		}
		if ok {
			return true
		}
	}
	return false
}

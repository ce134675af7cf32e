package app

import (
	"context"
	"errors"
	"fmt"
	"time"

	"urgentis/core/access"
	"urgentis/core/flow"
	"urgentis/core/runbook"
	"urgentis/core/tell"
	"urgentis/internal/store"
)

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
	then, before := tell.Came(old, log)
	out := PastRun{Run: r.ID, BegunAt: r.BegunAt.UTC(), Then: then, AskedThen: tell.Asked(log)}
	stage, err := tell.Replay(b, log)
	if err != nil {
		out.Now = err.Error()
		return out
	}
	begun := &stage.Begun
	if begun.Inputs, err = b.AcceptAll(takenBy(old, b, begun.Inputs)); err != nil {
		out.Now = "would not start: " + err.Error()
		return out
	}
	played, stopped, err := stage.Play()
	if err != nil {
		out.Now = err.Error()
		return out
	}
	after := []string(nil)
	out.Now, after = tell.Came(b, played)
	if stopped != "" {
		out.Now = stopped
	}
	out.AskedNow, out.PartsAt = tell.Asked(played), parting(before, after)
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

// takenBy keeps the inputs that a revision has. What was the default of the old one is taken for not given, so that the
// default of the new one counts.
func takenBy(old, b *runbook.Book, given map[string]any) map[string]any {
	defaults := map[string]any{}
	for _, in := range old.Inputs {
		if in.Default != nil {
			defaults[in.Name] = in.Default
		}
	}
	out := map[string]any{}
	for _, in := range b.Inputs {
		v, ok := given[in.Name]
		if was, has := defaults[in.Name]; !ok || has && fmt.Sprint(was) == fmt.Sprint(v) {
			continue
		}
		out[in.Name] = v
	}
	return out
}

package server

import (
	"urgentis/api"
	"urgentis/core/expr"
	"urgentis/core/incident"
	"urgentis/core/tell"
	"urgentis/internal/app"
)

func apiBrief(b *app.Brief) *api.Brief {
	if b == nil {
		return nil
	}
	h := b.Headline
	out := &api.Brief{
		Headline: api.Headline{
			Says: h.Says(), What: h.What, How: h.How, Stops: h.Stops, Back: h.Back, Cannot: h.Cannot,
		},
		Harm: b.Harm, Service: b.Service, Answers: mapped(b.Answers, apiAnswer),
		Trends: mapped(b.Grounds, apiTrend), Parts: mapped(b.Parts, apiPart), Facts: mapped(b.Facts, apiFact),
		History: api.StepHistory{Says: b.History.Says(b.Service)}, Missing: b.Missing, Approved: b.Approved,
	}
	if n := len(out.Answers); n > 0 && out.Answers[n-1].Word == tell.Nobody {
		out.Answers[n-1].Later = mapped(b.Later, apiLater)
	}
	if l := b.History.Last; l != nil {
		out.History.Last = &api.LastTime{
			At: l.At, Fate: api.LastTimeFate(l.Fate), Service: l.Service, Incident: l.Incident, Run: l.Run,
		}
	}
	return out
}

func apiAnswer(a tell.Answer) api.AnswerRow {
	return api.AnswerRow{Word: a.Word, Says: filled(a.Says), At: a.At.UTC()}
}

func apiTrend(g tell.Ground) api.Trend {
	return api.Trend{
		Reading: g.Reading, Unit: g.Unit, Says: g.Says(), Trend: g.Trend(), Gone: g.Gone(),
		Wanted: apiLimit(g.Wanted), Held: apiLimit(g.Held),
		Points: mapped(g.Points, func(p tell.Point) api.TrendPoint {
			return api.TrendPoint{At: p.At, Target: p.Target, Value: p.Value, ForGate: p.ForGate}
		}),
	}
}

func apiLimit(l *expr.Limit) *api.ReadingLimit {
	if l == nil {
		return nil
	}
	return &api.ReadingLimit{Op: l.Op, Value: l.Value}
}

func apiPart(p app.Part) api.ChangePart {
	return api.ChangePart{
		Title: p.Title, Shown: p.Shown, Undo: p.Undo, NoUndo: p.NoUndo, CannotUndo: p.Cannot, Loses: p.Loses,
		Targets: filled(p.Targets),
		Columns: filled(p.Columns), Rows: filled(p.Rows), WhereColumns: p.WhereColumns, Where: p.Where,
		Bound: mapped(p.Bound, func(b app.Bound) api.BoundTo { return api.BoundTo{Name: b.Name, Value: b.Value} }),
	}
}

func apiFact(f app.Fact) api.EvidenceGroup {
	return api.EvidenceGroup{
		Reading: f.Reading, Value: f.Value, Unit: f.Unit, Targets: f.Targets, At: f.At, Stale: f.Stale,
	}
}

func apiHandedOver(h *app.HandedOver) *api.HandedOver {
	if h == nil {
		return nil
	}
	return &api.HandedOver{
		Run: h.Run.ID, Runbook: h.Run.Runbook, State: h.Ended.State, To: h.Ended.To, Because: h.Ended.Because,
		At: h.Run.EndedAt.UTC(), Harm: h.Harm, Trends: mapped(h.Grounds, apiTrend), Before: h.Before.Says(),
		Changed: mapped(h.Changed, func(w incident.Went) api.StepWent {
			return api.StepWent{Title: w.Title, Fate: string(w.Fate), Says: w.Fate.Says(), Targets: w.Targets}
		}),
	}
}

// filled is a list that is never null.
func filled[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

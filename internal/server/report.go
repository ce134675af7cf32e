package server

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"strings"
	"time"

	"urgentis/api"
	"urgentis/core/plain"
	"urgentis/core/worth"
	"urgentis/internal/app"
)

// ShowReport implements api.StrictServerInterface.
func (s *Server) ShowReport(ctx context.Context, r api.ShowReportRequestObject) (api.ShowReportResponseObject, error) {
	p := r.Params
	w, err := s.App.Worth(ctx, who(ctx), app.Worthy{Service: p.Service, From: p.From, Until: p.Until})
	if err != nil {
		return nil, err
	}
	return api.ShowReport200JSONResponse{
		From: w.From.UTC(), Until: w.Until.UTC(), Says: w.Says(), Incidents: w.Incidents,
		Spreads:       mapped(w.Spreads, apiSpread),
		WithoutPeople: apiCounted(w.Alone), CameBack: apiCounted(w.CameBack), Saved: apiCounted(w.Saved),
		FalseAlarms: apiCounted(w.FalseAlarms),
		Outcomes:    mapped(w.Outcomes, apiCounted), NoRunbook: mapped(w.NoRunbook, apiCounted),
		Months: mapped(w.Months, apiCountedGroup), Services: mapped(w.Services, apiCountedGroup),
		Sources: mapped(w.Sources, apiCountedGroup), Runbooks: mapped(w.Runbooks, apiRunbookWorth),
		ToDo: mapped(w.ToDo, func(x worth.ToDo) api.ToDo {
			return api.ToDo{Title: x.Title, Says: x.Says, Figure: api.FigureName(x.Figure), Of: x.Of,
				Incidents: x.Incidents}
		}),
	}, nil
}

// lasted says in words how long something took; nothing where it is not known.
func lasted(d time.Duration) string {
	if d == 0 {
		return ""
	}
	return plain.Lasted(d)
}

func apiSpread(s worth.Spread) api.Spread {
	return api.Spread{
		Figure: api.FigureName(s.Figure), Title: s.Title, Of: s.Of, Says: s.Says(),
		MedianS: s.Median.Seconds(), P90S: s.P90.Seconds(), Median: lasted(s.Median),
	}
}

func apiCounted(c worth.Count) api.Counted {
	return api.Counted{
		Figure: api.FigureName(c.Figure), Of: c.Of, Title: c.Title, Incidents: c.N, All: c.All,
		SavedS: c.Saved.Seconds(), Saved: lasted(c.Saved),
	}
}

func apiCountedGroup(g worth.Group) api.CountedGroup {
	c := apiCounted(g.Count)
	return api.CountedGroup{
		Figure: c.Figure, Of: c.Of, Title: c.Title, Incidents: c.Incidents, All: c.All,
		SavedS: c.SavedS, Saved: c.Saved,
		Evidence: apiSpread(g.Evidence), Decision: apiSpread(g.Decision), Recovery: apiSpread(g.Recovery),
		WithoutPeople: g.Alone, Assisted: g.Assisted, FalseAlarms: g.FalseAlarms, CameBack: g.CameBack,
	}
}

func apiRunbookWorth(b worth.Runbook) api.RunbookWorth {
	return api.RunbookWorth{
		Name: b.Name, Incidents: b.Incidents, Helped: b.Helped, HandedOver: b.HandedOver, Failed: b.Failed,
		CameBack: b.CameBack, SavedS: b.Saved.Seconds(), Saved: lasted(b.Saved), Verdict: b.Verdict, Says: b.Says,
		Last: b.Last,
	}
}

// mostCounted is how many incidents of a figure are listed.
const mostCounted = 1000

// ListCounted implements api.StrictServerInterface.
func (s *Server) ListCounted(
	ctx context.Context, r api.ListCountedRequestObject,
) (api.ListCountedResponseObject, error) {
	p := r.Params
	list, err := s.App.WorthOf(ctx, who(ctx), app.Worthy{Service: p.Service, From: p.From, Until: p.Until},
		string(p.Figure), p.Of)
	return api.ListCounted200JSONResponse(mapped(list[:min(len(list), mostCounted)], apiFacts)), err
}

func apiFacts(f worth.Facts) api.IncidentFacts {
	out := api.IncidentFacts{
		Number: f.Number, Title: f.Title, Service: f.Service, Severity: f.Severity, Outcome: f.Outcome,
		Opened: f.Opened, Closed: f.Closed, Source: f.Source, Signal: f.Signal, Evidence: f.Evidence, Asked: f.Asked,
		Decided: f.Decided, Changed: f.Changed, Recovered: f.Recovered, Proved: f.Proved, WaitedS: f.Waited.Seconds(),
		People: append([]string{}, f.People...), Called: f.Called, SavedS: f.Saved().Seconds(), CameBack: f.CameBack,
	}
	out.Runs = mapped(f.Runs, func(r worth.Run) api.RunOfFacts {
		return api.RunOfFacts{Run: r.ID, Runbook: r.Runbook, Outcome: r.Outcome, SavesS: r.Saves.Seconds()}
	})
	return out
}

// ExportFacts implements api.StrictServerInterface.
func (s *Server) ExportFacts(
	ctx context.Context, r api.ExportFactsRequestObject,
) (api.ExportFactsResponseObject, error) {
	p := r.Params
	list, err := s.App.WorthOf(ctx, who(ctx), app.Worthy{Service: p.Service, From: p.From, Until: p.Until},
		worth.OfAll, "")
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	if err := writeFacts(csv.NewWriter(&b), list); err != nil {
		return nil, err
	}
	return api.ExportFacts200TextcsvResponse{Body: &b, ContentLength: int64(b.Len())}, nil
}

// writeFacts writes a line for each incident. A cell is empty where something did not happen, or is not known.
func writeFacts(w *csv.Writer, list []worth.Facts) error {
	rows := [][]string{{"number", "title", "service", "severity", "outcome", "opened", "closed", "source", "signal",
		"evidence", "asked", "decided", "changed", "recovered", "proved", "waited_s", "people", "called", "runbooks",
		"saved_s", "came_back"}}
	at := func(t time.Time) string {
		if t.IsZero() {
			return ""
		}
		return t.UTC().Format(time.RFC3339)
	}
	for _, f := range list {
		var books []string
		for _, r := range f.Runs {
			books = append(books, r.Runbook)
		}
		rows = append(rows, []string{fmt.Sprint(f.Number), harmless(f.Title), harmless(f.Service), f.Severity,
			f.Outcome, at(f.Opened), at(f.Closed), harmless(f.Source), harmless(f.Signal), at(f.Evidence),
			at(f.Asked), at(f.Decided), at(f.Changed), at(f.Recovered), fmt.Sprint(f.Proved),
			fmt.Sprint(f.Waited.Seconds()), harmless(strings.Join(f.People, " ")), fmt.Sprint(f.Called),
			strings.Join(books, " "),
			fmt.Sprint(f.Saved().Seconds()), fmt.Sprint(f.CameBack)})
	}
	return w.WriteAll(rows)
}

// harmless keeps a text from being taken for a formula where it is opened.
func harmless(s string) string {
	if strings.HasPrefix(strings.TrimSpace(s), "=") || strings.ContainsAny(s[:min(1, len(s))], "+-@\t\r") {
		return "'" + s
	}
	return s
}

package server

import (
	"context"
	"encoding/base64"
	"strconv"
	"strings"
	"time"

	"urgentis/api"
	"urgentis/core/access"
	"urgentis/core/expr"
	"urgentis/core/incident"
	"urgentis/core/leave"
	"urgentis/core/story"
	"urgentis/core/tell"
	"urgentis/internal/act"
	"urgentis/internal/app"
	"urgentis/internal/signin"
	"urgentis/internal/store"
)

// From rows to answers.

func deref[T any](p *T) T {
	var zero T
	if p == nil {
		return zero
	}
	return *p
}

// utc is a row's time as answers give it.
func utc(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return t.UTC()
}

func mapped[A, B any](list []A, f func(A) B) []B {
	out := make([]B, len(list))
	for i, x := range list {
		out[i] = f(x)
	}
	return out
}

func apiRoles(roles []access.Role) []api.Role {
	return mapped(roles, func(r access.Role) api.Role { return api.Role(r) })
}

func accessRoles(roles []api.Role) []access.Role {
	return mapped(roles, func(r api.Role) access.Role { return access.Role(r) })
}

func apiPerson(p store.Person) api.Person {
	return api.Person{Name: p.Name, Roles: apiRoles(signin.Split(p.Roles)), AddedAt: p.AddedAt.UTC()}
}

func apiAlert(a store.Alert) api.Alert {
	labels := map[string]string(a.Labels)
	if labels == nil {
		labels = map[string]string{}
	}
	return api.Alert{
		Id:        a.ID,
		Source:    a.Source,
		Key:       a.Key,
		State:     api.AlertState(a.State),
		Severity:  a.Severity,
		Summary:   a.Summary,
		Service:   a.Service,
		Link:      a.Link,
		Labels:    labels,
		Count:     a.Count,
		FirstAt:   a.FirstAt.UTC(),
		LastAt:    a.LastAt.UTC(),
		FirstSaid: a.FirstSaid.UTC(),
		LastSaid:  a.LastSaid.UTC(),
		Incident:  deref(a.Incident),
	}
}

func apiIncident(i store.Incident) api.Incident {
	out := api.Incident{
		Number:    i.Number,
		Title:     i.Title,
		State:     api.IncidentState(i.State),
		WaitingOn: api.IncidentWaitingOn(i.WaitingOn),
		Outcome:   i.Outcome,
		Because:   i.Because,
		Severity:  i.Severity,
		Service:   i.Service,
		OpenedAt:  i.OpenedAt.UTC(),
		ClosedAt:  utc(i.ClosedAt),
		Entries:   i.Entries,
		Alerts:    i.Alerts, Holder: i.Holder, HeldAt: utc(i.HeldAt), TitleBy: i.TitleBy, SeverityBy: i.SeverityBy,
		Cause: i.Cause,
	}
	if i.MergedInto != nil {
		out.MergedInto = *i.MergedInto
	}
	return out
}

func apiEntry(e store.Entry) api.Entry {
	sealed := e.Sealed()
	return apiSealed(&sealed)
}

func apiSealed(e *incident.Entry) api.Entry {
	word, says := story.Line(e)
	return api.Entry{
		Seq: e.Seq, At: e.At.UTC(), Kind: string(e.Kind), Word: word, Actor: e.Actor, Run: e.Run, Step: e.Step,
		Title: e.Title, Says: mapped(says, apiText), Content: e.Content, Hash: e.Hash,
	}
}

func apiText(t story.Text) api.Text {
	return mapped(t, func(s story.Span) api.TextSpan {
		return api.TextSpan{Text: s.Text, Is: api.TextSpanIs(s.Is), At: s.At}
	})
}

func apiStoryRow(r story.Row) api.StoryRow {
	return api.StoryRow{
		First: r.First, Last: r.Last, At: r.At.UTC(), Until: r.Until.UTC(), Lane: api.StoryRowLane(r.Lane),
		State: api.StoryRowState(r.State), Weight: api.StoryRowWeight(r.Weight), Word: r.Word, Run: r.Run, Step: r.Step,
		Title: r.Title, Says: apiText(r.Says), Below: mapped(r.Below, apiText), Targets: append([]string{},
			r.Targets...),
		Rounds: r.Rounds, Entries: r.Entries, Courses: mapped(r.Courses, func(c story.Course) api.StoryCourse {
			return api.StoryCourse{Reading: c.Reading, Unit: c.Unit, Target: c.Target, First: c.First, Last: c.Last,
				Low: c.Low, High: c.High, Limit: c.Limit}
		}),
	}
}

func apiSum(s story.Sum) api.StorySum {
	return api.StorySum{
		Cause: apiText(s.Cause), Stated: s.Stated, Done: mapped(s.Done, apiText), Approved: mapped(s.Approved, apiText),
		Effect: apiText(s.Effect), Proved: s.Proved, Left: mapped(s.Left, apiText),
	}
}

// GetStory implements api.StrictServerInterface.
func (s *Server) GetStory(ctx context.Context, r api.GetStoryRequestObject) (api.GetStoryResponseObject, error) {
	t, err := s.App.Story(ctx, who(ctx), r.Number, r.Params.After)
	if err != nil {
		return nil, err
	}
	return api.GetStory200JSONResponse{Rows: mapped(t.Rows, apiStoryRow), Sum: apiSum(t.Sum), Last: t.Last}, nil
}

func apiHead(h app.Head) api.Incident {
	out := apiIncident(h.Incident)
	out.Strip = apiStrip(h.Strip)
	return out
}

func apiStrip(s incident.Strip) api.Strip {
	out := api.Strip{From: s.From, To: s.To, Lines: make([]api.ReadingLine, len(s.Lines)),
		Spans: mapped(s.Spans, func(x incident.Span) api.Span {
			return api.Span{
				Lane: api.SpanLane(
					x.Lane,
				), Title: x.Title, State: api.SpanState(x.State), From: x.From, To: x.To, Entry: x.Entry,
			}
		}),
		Marks: mapped(s.Marks, func(m incident.Mark) api.Mark {
			return api.Mark{At: m.At, Kind: string(m.Kind), Title: m.Title}
		}),
	}
	for n, l := range s.Lines {
		out.Lines[n].Reading, out.Lines[n].Unit = l.Reading, l.Unit
		for _, p := range l.Points {
			out.Lines[n].Points = append(out.Lines[n].Points, struct {
				At     time.Time `json:"at"`
				Target string    `json:"target"`
				Value  float64   `json:"value"`
			}{p.At, p.Target, p.Value})
		}
	}
	return out
}

func apiRun(r store.Run) api.Run {
	return api.Run{
		Id:        r.ID,
		Runbook:   r.Runbook,
		Title:     r.Title,
		Revision:  r.Revision,
		State:     api.RunState(r.State),
		WaitsOn:   r.WaitsOn,
		Incident:  deref(r.Incident),
		StartedBy: r.StartedBy,
		Because:   r.Because,
		Awaits:    r.Awaits,
		AgainOf:   r.AgainOf,
		BegunAt:   r.BegunAt.UTC(),
		EndedAt:   utc(r.EndedAt),
	}
}

func apiTreats(t store.TreatedAlert) api.Treats {
	return api.Treats{
		Alert: t.Alert, Severity: t.Severity, Summary: t.Summary, How: api.TreatsHow(t.How), Enough: t.Enough,
	}
}

func apiGate(g app.Gate) api.Gate {
	raised := g.Raised
	return api.Gate{
		Id: g.ID, Run: g.Gate.Run, Runbook: g.Run.Runbook, Incident: deref(g.Incident), Step: g.Path, Title: g.Title,
		Ask: raised.Ask, State: api.GateState(g.State), People: max(1, raised.People), CommentNeeded: raised.Comment,
		Digest: raised.Digest, Requester: g.Run.StartedBy, Reasons: raised.Reasons, Evidence: mapped(g.Evidence,
			apiEvidence),
		RaisedAt: g.RaisedAt.UTC(), Until: g.Until.UTC(), DecidedBy: g.DecidedBy, Comment: g.Comment,
		MayDecide: g.MayDecide,
		Requests:  apiRequests(raised.Proposal),
		Brief:     apiBrief(g.Brief),
	}
}

func apiEvidence(e app.Evidence) api.Evidence {
	return api.Evidence{Reading: e.Reading, Target: e.Target, Value: e.Value, Unit: e.Unit, At: e.At}
}

func apiRequests(p leave.Proposal) []api.Request {
	var out []api.Request
	for _, r := range p.Requests {
		x := api.Request{
			Target:         r.Target.Name,
			Address:        r.Target.Address,
			Account:        r.Target.Account,
			Shown:          act.Show(r),
			Words:          r.Words,
			TimeoutSeconds: r.Timeout,
		}
		if r.Undo != nil {
			x.Undo = act.Show(*r.Undo)
		}
		out = append(out, x)
	}
	return out
}

func apiWayPoint(a tell.Question) api.WayPoint {
	return api.WayPoint{Title: a.Title, Answer: a.Answer, By: a.By, At: a.At.UTC(), Open: a.Open}
}

func apiQuestion(q app.Question) api.Question {
	raised := q.Raised
	out := api.Question{
		Id: q.ID, Run: q.Question.Run, Runbook: q.Run.Runbook, Incident: deref(q.Incident), Text: raised.Text,
		Choices: raised.Choices, Ask: raised.Ask, Step: q.Path, Title: q.Title, Attempt: raised.Attempt,
		Round:    raised.Round,
		Evidence: mapped(q.Evidence, apiEvidence), RaisedAt: q.RaisedAt.UTC(), Until: q.Until.UTC(),
		Brief: apiBrief(q.Brief), Knowledge: q.Knowledge, Links: mapped(q.Links, apiLink),
		Way: mapped(q.Way, apiWayPoint),
	}
	for _, c := range raised.Choices {
		o := api.Option{Choice: c, Label: tell.LabelOf(c, raised.Labels), Barred: q.Barred[c], Says: q.Says[c]}
		if a, ok := raised.Approves[c]; ok {
			o.Approves, o.Requests = a.Place.String(), apiRequests(a.Proposal)
		}
		out.Options = append(out.Options, o)
	}
	for _, f := range raised.Fields {
		x := api.Field{Name: f.Name, Label: f.Label, Type: f.Type, Choices: f.Choices}
		if f.Suggest != nil {
			x.Suggest = expr.Say(f.Suggest)
		}
		out.Fields = append(out.Fields, x)
	}
	return out
}

// cursors name a place in a list that is ordered by time and id.

func cursor(at time.Time, id string) string {
	return base64.RawURLEncoding.EncodeToString([]byte(strconv.FormatInt(at.UnixMicro(), 10) + "|" + id))
}

func readCursor(c string) (time.Time, string, error) {
	b, err := base64.RawURLEncoding.DecodeString(c)
	at, id, ok := strings.Cut(string(b), "|")
	us, nerr := strconv.ParseInt(at, 10, 64)
	if err != nil || nerr != nil || !ok {
		return time.Time{}, "", notOurs
	}
	return time.UnixMicro(us).UTC(), id, nil
}

// readPage reads which part of a list is wanted.
func readPage(c string, l int) (app.Page, error) {
	p := app.Page{Limit: limit(l)}
	if c == "" {
		return p, nil
	}
	at, id, err := readCursor(c)
	p.From = store.Place{At: at, ID: id}
	return p, err
}

// readNumber reads the cursor of a list that is ordered by numbers; 0 for its beginning.
func readNumber(c string) (int64, error) {
	if c == "" {
		return 0, nil
	}
	_, id, err := readCursor(c)
	if err != nil {
		return 0, err
	}
	n, err := strconv.ParseInt(id, 10, 64)
	if err != nil {
		return 0, notOurs
	}
	return n, nil
}

// next is the cursor of what follows a page; "" where nothing does.
func next[T any](rows []T, more bool, at func(T) string) string {
	if !more || len(rows) == 0 {
		return ""
	}
	return at(rows[len(rows)-1])
}

// notOurs refuses a cursor that was not given out here.
var notOurs = bad("cursor", "the cursor is not one of ours; give next of the page before")

func itoa(n int64) string { return strconv.FormatInt(n, 10) }

func limit(l int) int {
	if l == 0 {
		return 50
	}
	return l
}

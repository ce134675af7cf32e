package server

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"urgentis/api"
	"urgentis/core/expr"
	"urgentis/core/flow"
	"urgentis/core/incident"
	"urgentis/core/leave"
	"urgentis/internal/access"
	"urgentis/internal/act"
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
	return api.Person{Name: p.Name, Roles: apiRoles(access.Split(p.Roles)), AddedAt: p.AddedAt.UTC()}
}

func apiAlert(a store.Alert) api.Alert {
	labels := map[string]string(a.Labels)
	if labels == nil {
		labels = map[string]string{}
	}
	return api.Alert{Id: a.ID, Source: a.Source, Key: a.Key, State: api.AlertState(a.State), Severity: a.Severity, Summary: a.Summary,
		Service: a.Service, Link: a.Link, Labels: labels, Count: a.Count, FirstAt: a.FirstAt.UTC(), LastAt: a.LastAt.UTC(), Incident: deref(a.Incident)}
}

func apiIncident(i store.Incident) api.Incident {
	return api.Incident{Number: i.Number, Title: i.Title, State: api.IncidentState(i.State), WaitingOn: api.IncidentWaitingOn(i.WaitingOn), Outcome: i.Outcome,
		Because: i.Because, Severity: i.Severity, Service: i.Service, OpenedAt: i.OpenedAt.UTC(), ResolvedAt: utc(i.ResolvedAt), Entries: i.Entries}
}

func apiEntry(e store.Entry) api.Entry {
	out := api.Entry{Seq: e.Seq, At: e.At.UTC(), Kind: e.Kind, Actor: e.Actor, Run: e.Run, Step: e.Step, Title: e.Title, Hash: e.Hash}
	if e.Content != nil {
		_ = json.Unmarshal([]byte(*e.Content), &out.Content) // it was written by us
	}
	return out
}

func coreEntry(e store.Entry) incident.Entry {
	out := incident.Entry{Seq: e.Seq, At: e.At.UTC(), Kind: e.Kind, Actor: e.Actor, Run: e.Run, Step: e.Step, Title: e.Title}
	if e.Content != nil {
		out.Content = json.RawMessage(*e.Content)
	}
	return out
}

func apiStrip(i store.Incident, entries []store.Entry) api.Strip {
	s := incident.Draw(mapped(entries, coreEntry), i.OpenedAt.UTC(), utc(i.ResolvedAt), time.Now().UTC())
	out := api.Strip{From: s.From, To: s.To,
		Spans: mapped(s.Spans, func(x incident.Span) api.Span {
			return api.Span{Lane: api.SpanLane(x.Lane), Title: x.Title, State: api.SpanState(x.State), From: x.From, To: x.To, Entry: x.Entry}
		}),
		Marks: mapped(s.Marks, func(m incident.Mark) api.Mark { return api.Mark{At: m.At, Kind: m.Kind, Title: m.Title} }),
		Lines: make([]api.ReadingLine, len(s.Lines)),
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
	return api.Run{Id: r.ID, Runbook: r.Runbook, Title: r.Title, Revision: r.Revision, State: api.RunState(r.State), WaitsOn: r.WaitsOn, Incident: deref(r.Incident),
		StartedBy: r.StartedBy, Because: r.Because, Awaits: r.Awaits, AgainOf: r.AgainOf, BegunAt: r.BegunAt.UTC(), EndedAt: utc(r.EndedAt)}
}

func apiGate(g store.Gate, run store.Run, evidence []api.Evidence, p *access.Principal) api.Gate {
	var raised flow.GateRaised
	_ = json.Unmarshal(g.Raised, &raised) // it was written by us
	out := api.Gate{Id: g.ID, Run: g.Run, Runbook: run.Runbook, Incident: deref(g.Incident), Step: g.Path, Title: g.Title, Ask: raised.Ask, State: api.GateState(g.State),
		People: max(1, raised.People), CommentWanted: raised.Comment, Digest: raised.Digest, Requester: run.StartedBy, Reasons: raised.Reasons, Evidence: evidence,
		RaisedAt: g.RaisedAt.UTC(), Until: g.Until.UTC(), DecidedBy: g.DecidedBy, Comment: g.Comment,
		MayDecide: p.May(string(access.Approver)) && run.StartedBy != p.Name && run.StartedBy != p.Behind()}
	out.Requests = apiRequests(raised.Proposal)
	return out
}

func apiRequests(p leave.Proposal) []api.Request {
	var out []api.Request
	for _, r := range p.Requests {
		x := api.Request{Target: r.Target.Name, Address: r.Target.Address, Account: r.Target.Account, Shown: act.Show(r), Words: r.Words, TimeoutSeconds: r.Timeout}
		if r.Undo != nil {
			x.Undo = act.Show(*r.Undo)
		}
		out = append(out, x)
	}
	return out
}

// newestReadings are the evidence shown at a gate: per reading and target the newest taking.
func newestReadings(log []flow.Event) []api.Evidence {
	newest := map[string]int{}
	out := []api.Evidence{}
	for _, e := range log {
		o, ok := e.Body.(flow.Outcome)
		if !ok {
			continue
		}
		for name, t := range o.Readings {
			x := api.Evidence{Reading: name, Target: t.Target, Value: expr.Say(t.Value), Unit: t.Unit, At: t.At.UTC()}
			if i, ok := newest[name+"/"+t.Target]; ok {
				out[i] = x
				continue
			}
			newest[name+"/"+t.Target] = len(out)
			out = append(out, x)
		}
	}
	return out
}

func (s *Server) apiQuestion(ctx context.Context, q store.Question, run store.Run, log []flow.Event) api.Question {
	var raised flow.QuestionRaised
	_ = json.Unmarshal(q.Raised, &raised) // it was written by us
	out := api.Question{Id: q.ID, Run: q.Run, Runbook: run.Runbook, Incident: deref(q.Incident), Text: raised.Text, Choices: raised.Choices, Ask: raised.Ask,
		Step: q.Path, Title: q.Title, Attempt: raised.Attempt, Round: raised.Round, Evidence: newestReadings(log), RaisedAt: q.RaisedAt.UTC(), Until: q.Until.UTC()}
	for _, c := range raised.Choices {
		o := api.Option{Choice: c, Label: raised.Labels[c]}
		if o.Label == "" {
			o.Label = strings.ReplaceAll(c, "-", " ")
		}
		if a, ok := raised.Approves[c]; ok {
			o.Approves, o.Requests = a.Path, apiRequests(a.Proposal)
		}
		if flow.SaysNotBegun(c) && raised.By != "" {
			if may, host, err := store.MayBegin(s.Store.DB.WithContext(ctx), raised.By); err == nil && may {
				o.Barred = fmt.Sprintf("instance %s on %s may still begin it", raised.By, host)
			}
		}
		if flow.SaysNotBegun(c) && o.Barred == "" {
			o.Barred = s.knownMeanwhile(raised.Attempt, log)
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

// knownMeanwhile says why a change whose outcome was unknown cannot count as not begun any more; "" where it can.
func (s *Server) knownMeanwhile(attempt string, log []flow.Event) string {
	for _, e := range slices.Backward(log) {
		switch b := e.Body.(type) {
		case flow.Outcome:
			if b.Attempt == attempt && b.State == flow.OK {
				return "it was reported meanwhile: " + b.Says()
			}
		case flow.Intent:
			if b.Attempt == attempt && attempt != "" && s.Engine.StillRuns(b) {
				return "it still runs on " + b.Request.Target.Name
			}
		}
	}
	return ""
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
		return time.Time{}, "", bad("cursor", "the cursor is not one of ours; give next of the page before")
	}
	return time.UnixMicro(us).UTC(), id, nil
}

func limit(l int) int {
	if l == 0 {
		return 50
	}
	return l
}

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

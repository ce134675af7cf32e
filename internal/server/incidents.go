package server

import (
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"urgentis/api"
	"urgentis/core/source"
	"urgentis/core/trigger"
	"urgentis/internal/app"
	"urgentis/internal/intake"
	"urgentis/internal/store"
)

// postAlert is POST /in/{source}, and /in/{source}/{key}.
func (s *Server) postAlert(c *gin.Context) {
	name := c.Param("source")
	body, err := c.GetRawData()
	if err != nil {
		says := fmt.Sprintf("the body is larger than %d kB", source.MaxBody>>10)
		problem(c, &Problem{http.StatusRequestEntityTooLarge, "too-large", says, nil})
		return
	}
	proof := app.Proof{
		Authorization: c.GetHeader("Authorization"), Address: c.Param("key"), Header: c.Request.Header,
		From: senderOf(c),
	}
	got, err := s.App.TakeAlerts(c.Request.Context(), name, proof, payload(c, body))
	if err != nil {
		s.problem(c, err)
		return
	}
	out := s.received(got)
	if got.Many {
		c.JSON(http.StatusAccepted, out)
		return
	}
	c.JSON(http.StatusAccepted, out[0])
}

// senderOf is the address that a request came from; none where it cannot be told.
func senderOf(c *gin.Context) netip.Addr {
	a, err := netip.ParseAddr(c.ClientIP())
	if err != nil {
		return netip.Addr{}
	}
	return a.Unmap()
}

// received is what was taken, and last what was kept unparsed.
func (s *Server) received(got *app.Received) []api.Taken {
	out := mapped(got.Taken, func(t intake.Taken) api.Taken {
		link := s.Link + "/api/v1/alerts"
		if t.Alert != "" {
			link += "/" + t.Alert
		}
		return api.Taken{Alert: t.Alert, Change: api.TakenChange(t.Change), Link: link, Incident: t.Incident}
	})
	for _, id := range got.Deployments {
		out = append(
			out,
			api.Taken{Change: api.TakenChangeDeployment, Deployment: id, Link: s.Link + "/api/v1/deployments"},
		)
	}
	if got.Unparsed != "" {
		out = append(out, api.Taken{Change: api.TakenChangeUnparsed, Unparsed: got.Unparsed, Says: got.Finding,
			Link: s.Link + "/api/v1/unparsed"})
	}
	return out
}

// hidden are headers that prove who posts; they are no part of what was said.
var hidden = []string{"authorization", "cookie", "proxy-authorization"}

// payload is what was posted, without what proved it.
func payload(c *gin.Context, body []byte) source.Payload {
	p := source.Payload{
		ContentType: asText([]byte(c.GetHeader("Content-Type"))), Body: body, Headers: map[string]string{},
		Query: map[string]string{},
	}
	for k, v := range c.Request.Header {
		if k = strings.ToLower(k); !slices.Contains(hidden, k) {
			p.Headers[asText([]byte(k))] = asText([]byte(v[0]))
		}
	}
	for k, v := range c.Request.URL.Query() {
		p.Query[asText([]byte(k))] = asText([]byte(v[0]))
	}
	return p
}

// ListAlerts implements api.StrictServerInterface.
func (s *Server) ListAlerts(ctx context.Context, r api.ListAlertsRequestObject) (api.ListAlertsResponseObject, error) {
	p, err := readPage(r.Params.Cursor, r.Params.Limit)
	if err != nil {
		return nil, err
	}
	list, more, err := s.App.Alerts(ctx, who(ctx), store.WhichAlerts{
		State: string(r.Params.State), Service: r.Params.Service, Source: r.Params.Source,
	}, p)
	out := api.ListAlerts200JSONResponse{Items: mapped(list, apiAlert)}
	out.Next = next(list, more, func(a store.Alert) string { return cursor(a.FirstAt.Time, a.ID) })
	return out, err
}

// GetAlert implements api.StrictServerInterface.
func (s *Server) GetAlert(ctx context.Context, r api.GetAlertRequestObject) (api.GetAlertResponseObject, error) {
	row, err := s.App.Alert(ctx, who(ctx), r.Id)
	if err != nil {
		return nil, err
	}
	a := apiAlert(row.Alert)
	out := api.GetAlert200JSONResponse{
		Id: a.Id, Source: a.Source, Key: a.Key, State: api.AlertDetailState(a.State), Severity: a.Severity,
		Summary: a.Summary,
		Service: a.Service, Link: a.Link, Labels: a.Labels, Count: a.Count, FirstAt: a.FirstAt, LastAt: a.LastAt,
		FirstSaid: a.FirstSaid, LastSaid: a.LastSaid,
		Incident: a.Incident, Verdicts: mapped(row.Verdicts, apiVerdict), Next: place(app.PageOfVerdicts, row.More),
		Meant: row.Meant,
	}
	out.Payload = apiPayload(row.Payload)
	return out, nil
}

// apiPayload is what was sent; empty where that is not kept.
func apiPayload(p *store.Payload) api.Payload {
	if p == nil {
		return api.Payload{}
	}
	return api.Payload{At: p.At.UTC(), ContentType: p.ContentType, Headers: p.Headers, Query: p.Query,
		Body: asText(p.Body)}
}

// ListAlertTriggers implements api.StrictServerInterface.
func (s *Server) ListAlertTriggers(
	ctx context.Context, r api.ListAlertTriggersRequestObject,
) (api.ListAlertTriggersResponseObject, error) {
	from, err := readNumber(r.Params.Cursor)
	if err != nil {
		return nil, err
	}
	n := limit(r.Params.Limit)
	list, more, err := s.App.AlertTriggers(ctx, who(ctx), r.Id, int(from), n)
	return api.ListAlertTriggers200JSONResponse{
		Items: mapped(list, apiVerdict), Next: place(int(from)+n, more),
	}, err
}

// place is the cursor of a list that is counted through.
func place(n int, more bool) string {
	if !more {
		return ""
	}
	return cursor(time.Unix(0, 0), itoa(int64(n)))
}

func apiVerdict(v trigger.Verdict) api.Verdict {
	x := api.Verdict{Runbook: v.Runbook, Name: v.Name, Started: v.Started, Error: v.Error, Run: v.Run}
	if v.HoursAt != nil {
		x.HoursAt = *v.HoursAt
	}
	if v.StartsAt != nil {
		x.StartsAt = *v.StartsAt
	}
	for _, p := range v.Values {
		x.Values = append(x.Values, api.Value{Part: p.Part, Text: p.Text})
	}
	return x
}

// ListIncidents implements api.StrictServerInterface.
func (s *Server) ListIncidents(
	ctx context.Context,
	r api.ListIncidentsRequestObject,
) (api.ListIncidentsResponseObject, error) {
	before, err := readNumber(r.Params.Cursor)
	if err != nil {
		return nil, err
	}
	p := r.Params
	if err := wellFormed("label", p.Label); err != nil {
		return nil, err
	}
	list, more, err := s.App.Incidents(ctx, who(ctx), store.WhichIncidents{
		State: string(
			p.State,
		), Service: p.Service, Severity: p.Severity, Outcome: p.Outcome, Holder: p.Holder, Text: p.Text,
		Label: p.Label, Source: p.Source, From: given(p.From), To: given(p.To),
	}, before, limit(p.Limit))
	out := api.ListIncidents200JSONResponse{Items: mapped(list, apiHead)}
	out.Next = next(list, more, func(i app.Head) string { return cursor(i.OpenedAt, itoa(i.Number)) })
	return out, err
}

// wellFormed refuses a label to look for that is none.
func wellFormed(field, value string) error {
	if value != "" && !strings.Contains(value, "=") {
		return bad(field, "%s must be NAME=VALUE", field)
	}
	return nil
}

// GetIncident implements api.StrictServerInterface.
func (s *Server) GetIncident(
	ctx context.Context,
	r api.GetIncidentRequestObject,
) (api.GetIncidentResponseObject, error) {
	i, err := s.App.IncidentWith(ctx, who(ctx), r.Number, r.Params.Entries == nil || *r.Params.Entries)
	if err != nil {
		return nil, err
	}
	return api.GetIncident200JSONResponse{
		Deployments: mapped(i.Deployments, apiDeployment), Tickets: mapped(i.Tickets, apiTicket),
		Harm: i.Harm, HandedOver: apiHandedOver(i.HandedOver),
		Incident: apiHead(i.Head), Entries: mapped(i.Entries, apiEntry), Alerts: mapped(i.Alerts, apiAlert),
		Runs: mapped(i.Runs, apiRun), Gates: mapped(i.Gates, apiGate), Questions: mapped(i.Questions, apiQuestion),
	}, nil
}

// ListEntries implements api.StrictServerInterface.
func (s *Server) ListEntries(
	ctx context.Context,
	r api.ListEntriesRequestObject,
) (api.ListEntriesResponseObject, error) {
	list, err := s.App.Entries(ctx, who(ctx), r.Number, r.Params.After)
	return api.ListEntries200JSONResponse(mapped(list, apiEntry)), err
}

// VerifyIncident implements api.StrictServerInterface.
func (s *Server) VerifyIncident(
	ctx context.Context,
	r api.VerifyIncidentRequestObject,
) (api.VerifyIncidentResponseObject, error) {
	v, err := s.App.Verify(ctx, who(ctx), r.Number)
	return api.VerifyIncident200JSONResponse{Whole: v.Whole, Says: v.Says, Entries: v.Entries}, err
}

// AddNote implements api.StrictServerInterface.
func (s *Server) AddNote(ctx context.Context, r api.AddNoteRequestObject) (api.AddNoteResponseObject, error) {
	row, err := s.App.AddNote(ctx, who(ctx), r.Number, r.Body.Text, r.Body.Outward)
	if err != nil {
		return nil, err
	}
	return api.AddNote201JSONResponse(apiEntry(*row)), nil
}

// CloseIncident implements api.StrictServerInterface.
func (s *Server) CloseIncident(
	ctx context.Context,
	r api.CloseIncidentRequestObject,
) (api.CloseIncidentResponseObject, error) {
	i, err := s.App.CloseIncident(ctx, who(ctx), r.Number, string(r.Body.Outcome), r.Body.Because)
	if err != nil {
		return nil, err
	}
	return api.CloseIncident200JSONResponse(apiIncident(*i)), nil
}

// GetArtifact implements api.StrictServerInterface.
func (s *Server) GetArtifact(
	ctx context.Context,
	r api.GetArtifactRequestObject,
) (api.GetArtifactResponseObject, error) {
	text, err := s.App.Artifact(ctx, who(ctx), r.Id)
	return api.GetArtifact200TextResponse(text), err
}

func apiDeployment(d store.Deployment) api.Deployment {
	return api.Deployment{
		Id: d.ID, Source: d.Source, Service: d.Service, Version: d.Version, Environment: d.Environment,
		Summary: d.Summary,
		By:      d.By, Link: d.Link, At: d.At.UTC(),
	}
}

// ListDeployments implements api.StrictServerInterface.
func (s *Server) ListDeployments(
	ctx context.Context, r api.ListDeploymentsRequestObject,
) (api.ListDeploymentsResponseObject, error) {
	list, err := s.App.Deployments(ctx, who(ctx), r.Params.Service)
	return api.ListDeployments200JSONResponse(mapped(list, apiDeployment)), err
}

func apiTicket(t store.Ticket) api.Ticket {
	return api.Ticket{Desk: t.Connection, Number: t.Number, Link: t.Link, State: t.State}
}

package server

import (
	"bytes"
	"context"
	"time"

	ics "github.com/arran4/golang-ical"

	"urgentis/api"
	"urgentis/core/calendar"
	"urgentis/internal/app"
	"urgentis/internal/store"
	"urgentis/internal/telling"
)

// ListOnCall implements api.StrictServerInterface.
func (s *Server) ListOnCall(ctx context.Context, r api.ListOnCallRequestObject) (api.ListOnCallResponseObject, error) {
	at := r.Params.At
	if at.IsZero() {
		at = s.App.Now()
	}
	list, err := s.App.OnCallAt(ctx, who(ctx), r.Params.Team, at)
	return api.ListOnCall200JSONResponse(mapped(list, apiOnCall)), err
}

func apiOnCall(x app.OnCall) api.OnCall {
	out := api.OnCall{
		Team: x.Team.Name, Title: x.Team.Title, Members: filled(x.Team.Members),
		Duties: []api.Duty{}, Holes: mapped(x.Holes, func(d calendar.Duty) api.Duty { return apiDuty(0, d) }),
		Twice: mapped(x.Twice, func(d calendar.Twice) api.TwiceOnCall {
			return api.TwiceOnCall{Person: d.Person, Lines: []int{d.Line + 1, d.Other + 1}, From: d.From.UTC(),
				Until: d.Until.UTC()}
		}),
	}
	if x.Team.Rota != nil {
		out.Zone = x.Team.Rota.Zone.String()
	}
	for line := range len(x.Duties) {
		if f := x.Team.Feeds[line]; f != nil {
			out.Calendars = append(
				out.Calendars,
				api.RotaCalendar{Line: line + 1, ReadAt: f.ReadAt, Trouble: f.Trouble},
			)
		}
	}
	for line, d := range x.Duties {
		out.Duties = append(out.Duties, apiDuty(line, d))
	}
	return out
}

func apiDuty(line int, d calendar.Duty) api.Duty {
	return api.Duty{
		Line: line + 1, Person: d.Person, InsteadOf: d.Instead, From: d.From.UTC(), Until: d.Until.UTC(),
	}
}

// ListDuties implements api.StrictServerInterface.
func (s *Server) ListDuties(ctx context.Context, r api.ListDutiesRequestObject) (api.ListDutiesResponseObject, error) {
	lines, err := s.App.Duties(ctx, who(ctx), r.Name, r.Params.From, r.Params.Until)
	out := api.ListDuties200JSONResponse{}
	for line, duties := range lines {
		for _, d := range duties {
			out = append(out, apiDuty(line, d))
		}
	}
	return out, err
}

// feedDays is for how many days the feed of a rota looks ahead.
const feedDays = 90

// FeedRota implements api.StrictServerInterface.
func (s *Server) FeedRota(ctx context.Context, r api.FeedRotaRequestObject) (api.FeedRotaResponseObject, error) {
	from := s.App.Now().UTC().Truncate(time.Hour)
	lines, err := s.App.Duties(ctx, who(ctx), r.Name, from, from.AddDate(0, 0, feedDays))
	if err != nil {
		return nil, err
	}
	body := []byte(rotaFeed(r.Name, lines, s.App.Now()))
	return api.FeedRota200TextcalendarResponse{Body: bytes.NewReader(body), ContentLength: int64(len(body))}, nil
}

// rotaFeed writes duties as events of an iCalendar (RFC 5545).
func rotaFeed(team string, lines [][]calendar.Duty, stamp time.Time) string {
	c := ics.NewCalendarFor("Urgentis")
	c.SetName("On call for " + team)
	for line, duties := range lines {
		for _, d := range duties {
			if d.Person == "" {
				continue
			}
			e := c.AddEvent(d.From.UTC().Format("20060102T150405Z") + "-" + string(rune('1'+line)) + "@" + team)
			e.SetDtStampTime(stamp)
			e.SetStartAt(d.From)
			e.SetEndAt(d.Until)
			e.SetSummary(d.Person + " is on call for " + team)
			if line > 0 {
				e.SetDescription("line " + string(rune('1'+line)))
			}
		}
	}
	return c.Serialize()
}

// ListStandIns implements api.StrictServerInterface.
func (s *Server) ListStandIns(
	ctx context.Context, r api.ListStandInsRequestObject,
) (api.ListStandInsResponseObject, error) {
	list, err := s.App.StandIns(ctx, who(ctx), r.Name)
	return api.ListStandIns200JSONResponse(mapped(list, apiStandIn)), err
}

func apiStandIn(x store.StandIn) api.StandIn {
	return api.StandIn{
		Id: x.ID, Person: x.Person, From: x.FromAt.UTC(), Until: x.UntilAt.UTC(), Line: x.Line + 1,
		InsteadOf: x.InsteadOf, Why: x.Why, EnteredBy: x.EnteredBy, Swap: x.Swap != "",
	}
}

// SwapDuties implements api.StrictServerInterface.
func (s *Server) SwapDuties(ctx context.Context, r api.SwapDutiesRequestObject) (api.SwapDutiesResponseObject, error) {
	b := r.Body
	list, err := s.App.Swap(ctx, who(ctx), r.Name, app.Swap{Line: max(1, b.Line) - 1, At: b.At, For: b.For, Why: b.Why})
	return api.SwapDuties201JSONResponse(mapped(list, apiStandIn)), err
}

// ReadCalendars implements api.StrictServerInterface.
func (s *Server) ReadCalendars(
	ctx context.Context, r api.ReadCalendarsRequestObject,
) (api.ReadCalendarsResponseObject, error) {
	x, err := s.App.ReadCalendars(ctx, who(ctx), r.Name)
	if err != nil {
		return nil, err
	}
	return api.ReadCalendars200JSONResponse(apiOnCall(*x)), nil
}

// AddStandIn implements api.StrictServerInterface.
func (s *Server) AddStandIn(ctx context.Context, r api.AddStandInRequestObject) (api.AddStandInResponseObject, error) {
	b := r.Body
	x, err := s.App.StandIn(ctx, who(ctx), store.StandIn{
		Team: r.Name, Line: max(1, b.Line) - 1, FromAt: b.From, UntilAt: b.Until, Person: b.Person,
		InsteadOf: b.InsteadOf, Why: b.Why,
	})
	if err != nil {
		return nil, err
	}
	return api.AddStandIn201JSONResponse(apiStandIn(*x)), nil
}

// RemoveStandIn implements api.StrictServerInterface.
func (s *Server) RemoveStandIn(
	ctx context.Context, r api.RemoveStandInRequestObject,
) (api.RemoveStandInResponseObject, error) {
	return api.RemoveStandIn204Response{}, s.App.RemoveStandIn(ctx, who(ctx), r.Name, r.Id)
}

// HandOverShift implements api.StrictServerInterface.
func (s *Server) HandOverShift(
	ctx context.Context, r api.HandOverShiftRequestObject,
) (api.HandOverShiftResponseObject, error) {
	list, err := s.App.HandOverShift(ctx, who(ctx), r.Name)
	return api.HandOverShift200JSONResponse(mapped(list, func(o store.OpenIncident) api.OpenIncident {
		return api.OpenIncident{Number: o.Number, Title: o.Title, Severity: o.Severity, Holder: o.Holder,
			WaitingOn: o.WaitingOn, Promised: o.Promised, OpenedAt: o.OpenedAt.UTC(), Says: telling.HandedOn(o)}
	})), err
}

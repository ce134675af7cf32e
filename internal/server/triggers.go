package server

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"urgentis/api"
	"urgentis/core/source"
	"urgentis/internal/app"
	"urgentis/internal/intake"
	"urgentis/internal/store"
)

// triggerName is the name of a trigger as it stands in a path, where RUNBOOK/START is RUNBOOK.START.
func triggerName(inPath string) string { return strings.Replace(inPath, ".", "/", 1) }

func apiTrigger(t app.Trigger) api.Trigger {
	out := api.Trigger{
		Name: t.Full(), Runbook: t.Runbook, Document: strings.HasPrefix(t.Start, intake.BesidePrefix), Says: t.Says,
		NextAt: utc(t.NextAt), LastAt: utc(t.LastAt), Lately: t.Lately,
	}
	if t.Off != nil {
		out.Off = api.Off{By: t.Off.By, Because: t.Off.Because, At: t.Off.At.UTC()}
	}
	return out
}

// ListTriggers implements api.StrictServerInterface.
func (s *Server) ListTriggers(
	ctx context.Context, _ api.ListTriggersRequestObject,
) (api.ListTriggersResponseObject, error) {
	list, err := s.App.Triggers(ctx, who(ctx))
	return api.ListTriggers200JSONResponse(mapped(list, apiTrigger)), err
}

// GetTrigger implements api.StrictServerInterface.
func (s *Server) GetTrigger(ctx context.Context, r api.GetTriggerRequestObject) (api.GetTriggerResponseObject, error) {
	t, err := s.App.Trigger(ctx, who(ctx), triggerName(r.Trigger))
	if err != nil {
		return nil, err
	}
	return api.GetTrigger200JSONResponse(apiTrigger(*t)), nil
}

// ListFirings implements api.StrictServerInterface.
func (s *Server) ListFirings(
	ctx context.Context,
	r api.ListFiringsRequestObject,
) (api.ListFiringsResponseObject, error) {
	list, more, err := s.App.Firings(ctx, who(ctx), triggerName(r.Trigger), r.Params.Before, limit(r.Params.Limit))
	if err != nil {
		return nil, err
	}
	return api.ListFirings200JSONResponse{More: more, Items: mapped(list, apiFiring)}, nil
}

func apiFiring(f store.Firing) api.Firing {
	return api.Firing{
		Id: f.ID, At: f.At.UTC(), Result: api.FiringResult(f.Result), Why: f.Why, Alert: f.Alert, Run: f.Run,
		Incident: deref(f.Incident),
	}
}

// GetFiring implements api.StrictServerInterface.
func (s *Server) GetFiring(ctx context.Context, r api.GetFiringRequestObject) (api.GetFiringResponseObject, error) {
	f, p, err := s.App.Firing(ctx, who(ctx), triggerName(r.Trigger), r.Firing)
	if err != nil {
		return nil, err
	}
	out := api.GetFiring200JSONResponse(apiFiring(*f))
	out.Payload = apiPayload(p)
	return out, nil
}

// SwitchTrigger implements api.StrictServerInterface.
func (s *Server) SwitchTrigger(
	ctx context.Context, r api.SwitchTriggerRequestObject,
) (api.SwitchTriggerResponseObject, error) {
	err := s.App.Switch(ctx, who(ctx), triggerName(r.Trigger), r.Body.On, r.Body.Because)
	return api.SwitchTrigger204Response{}, err
}

// ListStartKeys implements api.StrictServerInterface.
func (s *Server) ListStartKeys(
	ctx context.Context, r api.ListStartKeysRequestObject,
) (api.ListStartKeysResponseObject, error) {
	list, err := s.App.StartKeys(ctx, who(ctx), triggerName(r.Trigger))
	return api.ListStartKeys200JSONResponse(mapped(list, func(k store.StartKey) api.StartKey {
		return api.StartKey{Id: k.ID, AddedBy: k.AddedBy, AddedAt: k.AddedAt.UTC(), EndsAt: k.EndsAt.UTC(),
			LastUsedAt: utc(k.LastUsedAt)}
	})), err
}

// AddStartKey implements api.StrictServerInterface.
func (s *Server) AddStartKey(
	ctx context.Context,
	r api.AddStartKeyRequestObject,
) (api.AddStartKeyResponseObject, error) {
	key, ends, err := s.App.AddStartKey(ctx, who(ctx), triggerName(r.Trigger), time.Duration(r.Body.Days)*24*time.Hour,
		time.Duration(r.Body.KeepMinutes)*time.Minute)
	return api.AddStartKey201JSONResponse{Key: key, Address: s.Link + "/start/" + key, EndsAt: ends.UTC()}, err
}

// EndStartKey implements api.StrictServerInterface.
func (s *Server) EndStartKey(
	ctx context.Context,
	r api.EndStartKeyRequestObject,
) (api.EndStartKeyResponseObject, error) {
	return api.EndStartKey204Response{}, s.App.EndStartKey(ctx, who(ctx), triggerName(r.Trigger), r.Id)
}

// ListSeen implements api.StrictServerInterface.
func (s *Server) ListSeen(ctx context.Context, r api.ListSeenRequestObject) (api.ListSeenResponseObject, error) {
	list, err := s.App.Seen(ctx, who(ctx), r.Params.Field)
	return api.ListSeen200JSONResponse(mapped(list, func(v store.Seen) api.Seen {
		return api.Seen{Field: v.Field, Value: v.Value, At: v.At.UTC()}
	})), err
}

// postStart is POST /start/{key}: it begins what the key opens.
func (s *Server) postStart(c *gin.Context) {
	body, err := c.GetRawData()
	if err != nil {
		says := fmt.Sprintf("the body is larger than %d kB", source.MaxBody>>10)
		problem(c, &Problem{http.StatusRequestEntityTooLarge, "too-large", says, nil})
		return
	}
	run, err := s.App.StartByKey(c.Request.Context(), c.Param("key"), payload(c, body))
	if err != nil {
		s.problem(c, err)
		return
	}
	c.JSON(http.StatusAccepted, api.Started{Run: run, Link: s.Link + "/runs/" + run})
}

// getStart is GET /start/{key}: it tells how the address is used, to whoever has its key.
func (s *Server) getStart(c *gin.Context) {
	d, err := s.App.OpenedBy(c.Request.Context(), c.Param("key"))
	if err != nil {
		s.problem(c, err)
		return
	}
	made := map[string]string{}
	for name, t := range d.Start.Inputs {
		made[name] = t.Says()
	}
	c.JSON(http.StatusOK, api.StartAddress{
		Trigger: d.Name, Runbook: d.Runbook.Name, Title: d.Runbook.Title, EndsAt: d.EndsAt.UTC(),
		How: "POST JSON, XML, a form or text to this address. It is answered 202 with the id of the run and a link, " +
			"or with the reason why none began.",
		Inputs: d.InputNames(), MadeOfTheRequest: made,
	})
}

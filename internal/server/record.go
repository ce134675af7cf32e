package server

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"

	"github.com/gin-gonic/gin"
	"gorm.io/gorm"

	"urgentis/api"
	"urgentis/core/alert"
	"urgentis/core/trigger"
	"urgentis/internal/intake"
	"urgentis/internal/store"
)

// postAlert is POST /in/{source}.
func (s *Server) postAlert(c *gin.Context) {
	source := c.Param("source")
	ok, err := s.Access.SourceMay(c.Request.Context(), source, bearer(c))
	if err != nil {
		s.problem(c, err)
		return
	}
	if !ok {
		problem(c, &Problem{http.StatusUnauthorized, "source-token", "the source or its token is unknown", nil})
		return
	}
	body, err := c.GetRawData()
	if err != nil {
		problem(c, &Problem{http.StatusRequestEntityTooLarge, "too-large", fmt.Sprintf("the body is larger than %d kB", alert.MaxBody>>10), nil})
		return
	}
	reports, many, err := alert.Read(c.GetHeader, body, time.Now().UTC())
	if err != nil {
		problem(c, bad("alert", "%s", err))
		return
	}
	taken, err := s.Intake.TakeAll(c.Request.Context(), source, reports)
	if err != nil {
		s.problem(c, err)
		return
	}
	out := mapped(taken, func(t intake.Taken) api.Taken {
		return api.Taken{Alert: t.Alert, Change: api.TakenChange(t.Change), Link: s.Link + "/api/v1/alerts/" + t.Alert, Incident: t.Incident}
	})
	if many {
		c.JSON(http.StatusAccepted, out)
		return
	}
	c.JSON(http.StatusAccepted, out[0])
}

// ListAlerts implements api.StrictServerInterface.
func (s *Server) ListAlerts(ctx context.Context, r api.ListAlertsRequestObject) (api.ListAlertsResponseObject, error) {
	q := s.Store.DB.WithContext(ctx).Order("first_at desc, id").Limit(limit(r.Params.Limit) + 1)
	if r.Params.Cursor != "" {
		at, id, err := readCursor(r.Params.Cursor)
		if err != nil {
			return nil, err
		}
		q = q.Where("first_at < ? or first_at = ? and id > ?", at, at, id)
	}
	var rows []store.Alert
	if err := q.Find(&rows).Error; err != nil {
		return nil, err
	}
	out := api.ListAlerts200JSONResponse{}
	rows, out.Next = page(rows, limit(r.Params.Limit), func(a store.Alert) string { return cursor(a.FirstAt, a.ID) })
	out.Items = mapped(rows, apiAlert)
	return out, nil
}

// GetAlert implements api.StrictServerInterface.
func (s *Server) GetAlert(ctx context.Context, r api.GetAlertRequestObject) (api.GetAlertResponseObject, error) {
	var row store.Alert
	if err := s.Store.DB.WithContext(ctx).Where("id = ?", r.Id).Take(&row).Error; err != nil {
		return nil, err
	}
	var verdicts []trigger.Verdict
	if err := json.Unmarshal(row.Verdicts, &verdicts); err != nil {
		return nil, err
	}
	a := apiAlert(row)
	out := api.GetAlert200JSONResponse{Id: a.Id, Source: a.Source, Key: a.Key, State: api.AlertDetailState(a.State), Severity: a.Severity, Summary: a.Summary,
		Service: a.Service, Link: a.Link, Labels: a.Labels, Count: a.Count, FirstAt: a.FirstAt, LastAt: a.LastAt, Incident: a.Incident, Verdicts: []api.Verdict{}}
	for _, v := range verdicts {
		x := api.Verdict{Runbook: v.Runbook, Name: v.Name, Started: v.Started, Error: v.Error}
		if v.StartsAt != nil {
			x.StartsAt = *v.StartsAt
		}
		for _, p := range v.Values {
			x.Values = append(x.Values, api.Value{Part: p.Part, Text: p.Text})
		}
		out.Verdicts = append(out.Verdicts, x)
	}
	return out, nil
}

// ListIncidents implements api.StrictServerInterface.
func (s *Server) ListIncidents(ctx context.Context, r api.ListIncidentsRequestObject) (api.ListIncidentsResponseObject, error) {
	q := s.Store.DB.WithContext(ctx).Order("number desc").Limit(limit(r.Params.Limit) + 1)
	if r.Params.State != "" {
		q = q.Where("state = ?", string(r.Params.State))
	}
	if r.Params.Cursor != "" {
		_, id, err := readCursor(r.Params.Cursor)
		if err != nil {
			return nil, err
		}
		q = q.Where("number < ?::text::bigint", id)
	}
	var rows []store.Incident
	if err := q.Find(&rows).Error; err != nil {
		return nil, err
	}
	out := api.ListIncidents200JSONResponse{}
	rows, out.Next = page(rows, limit(r.Params.Limit), func(i store.Incident) string { return cursor(i.OpenedAt, itoa(i.Number)) })
	strips, err := s.strips(ctx, rows)
	if err != nil {
		return nil, err
	}
	out.Items = mapped(rows, func(i store.Incident) api.Incident {
		x := apiIncident(i)
		x.Strip = strips[i.Number]
		return x
	})
	return out, nil
}

// stripKinds are the entries that the strip is drawn from.
const stripKinds = `(kind like 'look.%' or kind like 'check.%' or kind like 'gate.%' or kind like 'change.%' or kind like 'question.%'
	or kind like 'alert.%' or kind in ('incident.closed', 'run.handed-over', 'run.failed', 'attempt.lost'))`

// strips draws the small strips of a page. Records of many entries are drawn from their newest part only.
func (s *Server) strips(ctx context.Context, rows []store.Incident) (map[int64]api.Strip, error) {
	out := map[int64]api.Strip{}
	for _, i := range rows {
		var entries []store.Entry
		err := s.Store.DB.WithContext(ctx).Where("incident = ? and seq > ? and "+stripKinds, i.Number, i.Entries-200).Order("seq").Find(&entries).Error
		if err != nil {
			return nil, err
		}
		out[i.Number] = apiStrip(i, entries)
	}
	return out, nil
}

// GetIncident implements api.StrictServerInterface.
func (s *Server) GetIncident(ctx context.Context, r api.GetIncidentRequestObject) (api.GetIncidentResponseObject, error) {
	db := s.Store.DB.WithContext(ctx)
	var head store.Incident
	if err := db.Where("number = ?", r.Number).Take(&head).Error; err != nil {
		return nil, err
	}
	var entries []store.Entry
	var alerts []store.Alert
	var runs []store.Run
	for _, err := range []error{
		db.Where("incident = ?", r.Number).Order("seq").Find(&entries).Error,
		db.Where("incident = ?", r.Number).Order("first_at").Find(&alerts).Error,
		db.Where("incident = ?", r.Number).Order("begun_at").Find(&runs).Error,
	} {
		if err != nil {
			return nil, err
		}
	}
	out := api.GetIncident200JSONResponse{Incident: apiIncident(head), Entries: mapped(entries, apiEntry), Alerts: mapped(alerts, apiAlert), Runs: mapped(runs, apiRun)}
	out.Incident.Strip = apiStrip(head, entries)
	var err error
	if out.Gates, err = s.gates(ctx, "incident = ? and state = 'open'", r.Number); err != nil {
		return nil, err
	}
	out.Questions, err = s.questions(ctx, "incident = ? and state = 'open'", r.Number)
	return out, err
}

// ListEntries implements api.StrictServerInterface.
func (s *Server) ListEntries(ctx context.Context, r api.ListEntriesRequestObject) (api.ListEntriesResponseObject, error) {
	var rows []store.Entry
	err := s.Store.DB.WithContext(ctx).Where("incident = ? and seq > ?", r.Number, r.Params.After).Order("seq").Limit(1000).Find(&rows).Error
	return api.ListEntries200JSONResponse(mapped(rows, apiEntry)), err
}

// VerifyIncident implements api.StrictServerInterface.
func (s *Server) VerifyIncident(ctx context.Context, r api.VerifyIncidentRequestObject) (api.VerifyIncidentResponseObject, error) {
	n, err := s.Store.Verify(ctx, r.Number)
	var broken *store.Broken
	if errors.As(err, &broken) {
		return api.VerifyIncident200JSONResponse{Whole: false, Says: broken.Reason, Entries: n}, nil
	}
	if err != nil {
		return nil, err
	}
	return api.VerifyIncident200JSONResponse{Whole: true, Says: fmt.Sprintf("the record is whole: %d entries, each sealed to the one before", n), Entries: n}, nil
}

// write appends an entry to an incident by hand of the person who asks.
func (s *Server) write(ctx context.Context, number int64, alter func(tx *gorm.DB, i *store.Incident) (store.NewEntry, error)) (*store.Incident, *store.Entry, error) {
	var i *store.Incident
	var row *store.Entry
	err := s.Store.Tx(ctx, func(tx *gorm.DB) error {
		r := store.NewRecord(tx)
		var err error
		if i, err = r.Incident(number); err != nil {
			return err
		}
		entry, err := alter(tx, i)
		if err != nil {
			return err
		}
		if err := r.Write(i, entry); err != nil {
			return err
		}
		row = r.Last()
		r.Changed(store.Feed{Topic: "incident", Ref: itoa(number), Incident: &number})
		if err := store.Audit(tx, who(ctx).Name, entry.Kind, "incident "+itoa(number), ""); err != nil {
			return err
		}
		return r.Flush()
	})
	return i, row, err
}

// AddNote implements api.StrictServerInterface.
func (s *Server) AddNote(ctx context.Context, r api.AddNoteRequestObject) (api.AddNoteResponseObject, error) {
	_, row, err := s.write(ctx, r.Number, func(*gorm.DB, *store.Incident) (store.NewEntry, error) {
		return store.NewEntry{At: time.Now(), Kind: "note", Actor: who(ctx).Name, Title: "Note", Content: map[string]any{"text": r.Body.Text}}, nil
	})
	if err != nil {
		return nil, err
	}
	return api.AddNote201JSONResponse(apiEntry(*row)), nil
}

// CloseIncident implements api.StrictServerInterface.
func (s *Server) CloseIncident(ctx context.Context, r api.CloseIncidentRequestObject) (api.CloseIncidentResponseObject, error) {
	i, _, err := s.write(ctx, r.Number, func(tx *gorm.DB, i *store.Incident) (store.NewEntry, error) {
		if i.State != "open" {
			return store.NewEntry{}, &Problem{http.StatusConflict, "not-open", "the incident is closed already", nil}
		}
		var active int64
		if err := tx.Model(&store.Run{}).Where("incident = ? and ended_at is null", i.Number).Count(&active).Error; err != nil {
			return store.NewEntry{}, err
		}
		if active > 0 {
			return store.NewEntry{}, &Problem{http.StatusConflict, "run-active", "a runbook still works on it; let it end first", nil}
		}
		now := time.Now().UTC()
		i.State, i.WaitingOn, i.Outcome, i.Because, i.ResolvedAt = "resolved", "nobody", string(r.Body.Outcome), r.Body.Because, &now
		return store.NewEntry{At: now, Kind: "incident.closed", Actor: who(ctx).Name, Title: "Closed: " + i.Outcome, Content: map[string]any{"outcome": i.Outcome, "because": i.Because}}, nil
	})
	if err != nil {
		return nil, err
	}
	return api.CloseIncident200JSONResponse(apiIncident(*i)), nil
}

// GetArtifact implements api.StrictServerInterface.
func (s *Server) GetArtifact(ctx context.Context, r api.GetArtifactRequestObject) (api.GetArtifactResponseObject, error) {
	var row store.Artifact
	if err := s.Store.DB.WithContext(ctx).Where("id = ?", r.Id).Take(&row).Error; err != nil {
		return nil, err
	}
	z, err := gzip.NewReader(bytes.NewReader(row.Body))
	if err != nil {
		return nil, err
	}
	text, err := io.ReadAll(z)
	return api.GetArtifact200TextResponse(text), err
}

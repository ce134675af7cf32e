package server

import (
	"bytes"
	"context"
	"io"
	"mime"
	"net/http"
	"strconv"
	"time"

	"urgentis/api"
	"urgentis/internal/app"
	"urgentis/internal/store"
)

// given is a time that was given; nil where none was.
func given(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// OpenIncident implements api.StrictServerInterface.
func (s *Server) OpenIncident(
	ctx context.Context, r api.OpenIncidentRequestObject,
) (api.OpenIncidentResponseObject, error) {
	i, err := s.App.OpenIncident(ctx, who(ctx), app.NewIncident{
		Title: r.Body.Title, Service: r.Body.Service, Severity: string(r.Body.Severity)})
	if err != nil {
		return nil, err
	}
	return api.OpenIncident201JSONResponse(apiIncident(*i)), nil
}

// HoldIncident implements api.StrictServerInterface.
func (s *Server) HoldIncident(
	ctx context.Context, r api.HoldIncidentRequestObject,
) (api.HoldIncidentResponseObject, error) {
	to := r.Body.To
	if to == "" && !r.Body.GiveBack {
		to = who(ctx).Behind()
	}
	i, err := s.App.Hold(ctx, who(ctx), r.Number, to, r.Body.Because)
	if err != nil {
		return nil, err
	}
	return api.HoldIncident200JSONResponse(apiIncident(*i)), nil
}

// EditIncident implements api.StrictServerInterface.
func (s *Server) EditIncident(
	ctx context.Context, r api.EditIncidentRequestObject,
) (api.EditIncidentResponseObject, error) {
	i, err := s.App.EditIncident(ctx, who(ctx), r.Number, r.Body.Title, string(r.Body.Severity))
	if err != nil {
		return nil, err
	}
	return api.EditIncident200JSONResponse(apiIncident(*i)), nil
}

// ReopenIncident implements api.StrictServerInterface.
func (s *Server) ReopenIncident(
	ctx context.Context, r api.ReopenIncidentRequestObject,
) (api.ReopenIncidentResponseObject, error) {
	i, err := s.App.Reopen(ctx, who(ctx), r.Number, r.Body.Because)
	if err != nil {
		return nil, err
	}
	return api.ReopenIncident200JSONResponse(apiIncident(*i)), nil
}

// MergeIncident implements api.StrictServerInterface.
func (s *Server) MergeIncident(
	ctx context.Context, r api.MergeIncidentRequestObject,
) (api.MergeIncidentResponseObject, error) {
	i, err := s.App.Merge(ctx, who(ctx), r.Number, r.Body.Into, r.Body.Because)
	if err != nil {
		return nil, err
	}
	return api.MergeIncident200JSONResponse(apiIncident(*i)), nil
}

// SplitIncident implements api.StrictServerInterface.
func (s *Server) SplitIncident(
	ctx context.Context, r api.SplitIncidentRequestObject,
) (api.SplitIncidentResponseObject, error) {
	i, err := s.App.Split(ctx, who(ctx), r.Number, r.Body.Alerts, r.Body.Because)
	if err != nil {
		return nil, err
	}
	return api.SplitIncident201JSONResponse(apiIncident(*i)), nil
}

func apiAttachment(a store.Attachment) api.Attachment {
	return api.Attachment{
		Id: a.ID, Kind: api.AttachmentKind(a.Kind), Name: a.Name, Url: a.URL, Type: a.Type, Size: a.Size,
		Digest:  a.Digest,
		AddedBy: a.AddedBy, AddedAt: a.AddedAt.UTC(),
	}
}

// AddLink implements api.StrictServerInterface.
func (s *Server) AddLink(ctx context.Context, r api.AddLinkRequestObject) (api.AddLinkResponseObject, error) {
	row, err := s.App.AddLink(ctx, who(ctx), r.Number, r.Body.Name, r.Body.Url)
	if err != nil {
		return nil, err
	}
	return api.AddLink201JSONResponse(apiAttachment(*row)), nil
}

// ListAttachments implements api.StrictServerInterface.
func (s *Server) ListAttachments(
	ctx context.Context, r api.ListAttachmentsRequestObject,
) (api.ListAttachmentsResponseObject, error) {
	list, err := s.App.Attachments(ctx, who(ctx), r.Number)
	return api.ListAttachments200JSONResponse(mapped(list, apiAttachment)), err
}

// AddFile implements api.StrictServerInterface.
func (s *Server) AddFile(ctx context.Context, r api.AddFileRequestObject) (api.AddFileResponseObject, error) {
	row, err := s.App.AddFile(ctx, who(ctx), r.Number, r.Params.Name, "", r.Body)
	if err != nil {
		return nil, err
	}
	return api.AddFile201JSONResponse(apiAttachment(*row)), nil
}

// file is a file of a record on its way to a browser, which must save and never show it: it may be anything.
type file struct {
	row  *store.Attachment
	body io.Reader
}

// VisitGetFileResponse implements api.GetFileResponseObject.
func (f file) VisitGetFileResponse(w http.ResponseWriter) error {
	h := w.Header()
	h.Set("Content-Type", "application/octet-stream")
	h.Set("Content-Length", strconv.FormatInt(f.row.Size, 10))
	h.Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": f.row.Name}))
	w.WriteHeader(http.StatusOK)
	_, err := io.Copy(w, f.body)
	return err
}

// GetFile implements api.StrictServerInterface.
func (s *Server) GetFile(ctx context.Context, r api.GetFileRequestObject) (api.GetFileResponseObject, error) {
	row, body, err := s.App.File(ctx, who(ctx), r.Number, r.Id)
	if err != nil {
		return nil, err
	}
	return file{row, body}, nil
}

// page is a report as HTML.
type page string

// VisitReportIncidentResponse implements api.ReportIncidentResponseObject.
func (p page) VisitReportIncidentResponse(w http.ResponseWriter) error {
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	// The page stands alone: it needs its own style and nothing else.
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
	w.WriteHeader(http.StatusOK)
	_, err := io.WriteString(w, string(p))
	return err
}

// ReportIncident implements api.StrictServerInterface.
func (s *Server) ReportIncident(
	ctx context.Context, r api.ReportIncidentRequestObject,
) (api.ReportIncidentResponseObject, error) {
	report, err := s.App.Report(ctx, who(ctx), r.Number)
	if err != nil {
		return nil, err
	}
	if r.Params.Form != api.Html {
		return api.ReportIncident200TextResponse(report.Markdown()), nil
	}
	text, err := report.HTML()
	return page(text), err
}

// ExportIncident implements api.StrictServerInterface.
func (s *Server) ExportIncident(
	ctx context.Context, r api.ExportIncidentRequestObject,
) (api.ExportIncidentResponseObject, error) {
	x, err := s.App.Export(ctx, who(ctx), r.Number)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	if err := x.Write(&b); err != nil {
		return nil, err
	}
	return api.ExportIncident200ApplicationxNdjsonResponse{Body: &b, ContentLength: int64(b.Len())}, nil
}

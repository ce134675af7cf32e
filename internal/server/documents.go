package server

import (
	"context"
	"strings"

	"urgentis/api"
	"urgentis/core/estate"
	"urgentis/core/source"
	"urgentis/internal/app"
	"urgentis/internal/store"
)

// Push implements api.StrictServerInterface.
func (s *Server) Push(ctx context.Context, r api.PushRequestObject) (api.PushResponseObject, error) {
	b := r.Body
	p := app.Pushing{
		Prune: b.Prune, Check: b.Check, Expect: b.Expect, Message: b.Message, Commit: b.Commit, Origin: b.Origin,
		Files: mapped(b.Files, func(f api.PushFile) estate.File { return estate.File{Name: f.Name, Text: f.Text} }),
	}
	out, err := s.App.Push(ctx, who(ctx), p)
	if err != nil {
		return nil, err
	}
	return api.Push200JSONResponse{
		Steps: mapped(out.Steps, apiStep), Plan: out.Plan, Findings: mapped(out.Found, apiFound), Push: out.Push,
	}, nil
}

func apiStep(s estate.Step) api.PushStep {
	fields := s.Fields
	if fields == nil {
		fields = []string{}
	}
	return api.PushStep{
		Kind: api.DocumentKind(s.Kind), Name: s.Name, What: api.PushStepWhat(s.What), Fields: fields, KeptAt: s.KeptAt,
	}
}

func apiFound(f estate.Found) api.Finding {
	out := apiFinding(f.Finding)
	out.File = f.File
	return out
}

func apiDocument(d store.Document) api.EstateDocument {
	return api.EstateDocument{
		Kind: api.DocumentKind(d.Kind), Name: d.Name, Number: d.Number, Digest: d.Digest, Origin: d.Origin,
		PushedBy: d.PushedBy, PushedAt: d.PushedAt.UTC(), Message: d.Message,
	}
}

// ListDocuments implements api.StrictServerInterface.
func (s *Server) ListDocuments(
	ctx context.Context, r api.ListDocumentsRequestObject,
) (api.ListDocumentsResponseObject, error) {
	list, err := s.App.Documents(ctx, who(ctx), string(r.Params.Kind))
	return api.ListDocuments200JSONResponse(mapped(list, apiDocument)), err
}

// GetDocument implements api.StrictServerInterface.
func (s *Server) GetDocument(
	ctx context.Context, r api.GetDocumentRequestObject,
) (api.GetDocumentResponseObject, error) {
	d, err := s.App.Document(ctx, who(ctx), string(r.Kind), r.Name, r.Params.Number)
	if err != nil {
		return nil, err
	}
	out := apiDocument(*d)
	out.Text = d.Text
	return api.GetDocument200JSONResponse(out), nil
}

// RemoveDocument implements api.StrictServerInterface.
func (s *Server) RemoveDocument(
	ctx context.Context, r api.RemoveDocumentRequestObject,
) (api.RemoveDocumentResponseObject, error) {
	return api.RemoveDocument204Response{}, s.App.RemoveDocument(ctx, who(ctx), estate.Kind(r.Kind), r.Name)
}

// ListDocumentRevisions implements api.StrictServerInterface.
func (s *Server) ListDocumentRevisions(
	ctx context.Context, r api.ListDocumentRevisionsRequestObject,
) (api.ListDocumentRevisionsResponseObject, error) {
	list, err := s.App.DocumentRevisions(ctx, who(ctx), string(r.Kind), r.Name)
	return api.ListDocumentRevisions200JSONResponse(mapped(list, apiDocument)), err
}

// TrySource implements api.StrictServerInterface.
func (s *Server) TrySource(ctx context.Context, r api.TrySourceRequestObject) (api.TrySourceResponseObject, error) {
	out, err := s.App.TrySource(ctx, who(ctx), r.Name,
		app.SourceTry{Text: r.Body.Text, Payload: sample(r.Body), At: r.Body.At})
	if err != nil {
		return nil, err
	}
	return api.TrySource200JSONResponse{Finding: out.Finding, Items: mapped(out.Items, apiTried)}, nil
}

// sample is a payload that somebody gave.
func sample(b *api.NewSourceTry) source.Payload {
	return source.Payload{ContentType: b.ContentType, Headers: b.Headers, Query: b.Query, Body: []byte(b.Body)}
}

// TakeSample implements api.StrictServerInterface.
func (s *Server) TakeSample(
	ctx context.Context, r api.TakeSampleRequestObject,
) (api.TakeSampleResponseObject, error) {
	if r.Body.Text != "" {
		return nil, bad("text", "a sample is taken with the document that is there; push the other one first")
	}
	got, err := s.App.TakeSample(ctx, who(ctx), r.Name, sample(r.Body))
	if err != nil {
		return nil, err
	}
	return api.TakeSample202JSONResponse(s.received(got)), nil
}

func apiTried(t app.TriedItem) api.SourceTryItem {
	out := api.SourceTryItem{
		Unparsed: t.Unparsed, Meant: t.Meant, Verdicts: mapped(t.Verdicts, apiVerdict),
		Made: mapped(t.Made(), func(m source.Made) api.Made {
			return api.Made{Field: m.Field, Value: m.Value, From: m.From}
		}),
	}
	switch e := t.Event.(type) {
	case source.Ignored, source.Echo:
		out.Ignored = true
	case *source.Deployment:
		out.Reports = source.OfDeployments
	case *source.TicketNews:
		out.Reports = source.OfTickets
	case *source.Alert:
		out.Reports = source.OfAlerts
		out.Report = api.Report{
			Key: e.Key, Severity: api.ReportSeverity(e.Severity), Summary: e.Summary, Service: e.Service, Link: e.Link,
			Labels: e.Labels, At: e.At.UTC(),
		}
	}
	return out
}

// ListUnparsed implements api.StrictServerInterface.
func (s *Server) ListUnparsed(ctx context.Context, r api.ListUnparsedRequestObject) (api.ListUnparsedResponseObject,
	error) {
	list, err := s.App.UnparsedPayloads(ctx, who(ctx), r.Params.Source)
	return api.ListUnparsed200JSONResponse(mapped(list, func(u store.Unparsed) api.Unparsed {
		return api.Unparsed{
			Id: u.ID, Source: u.Source, At: u.At.UTC(), Finding: u.Finding, ContentType: u.ContentType,
			Headers: u.Headers, Query: u.Query, Body: asText(u.Body),
		}
	})), err
}

// asText is a body as text; what is no UTF-8 in it is replaced.
func asText(body []byte) string { return strings.ToValidUTF8(string(body), "\uFFFD") }

// ReadAgain implements api.StrictServerInterface.
func (s *Server) ReadAgain(ctx context.Context, r api.ReadAgainRequestObject) (api.ReadAgainResponseObject, error) {
	got, err := s.App.ReadAgain(ctx, who(ctx), r.Id)
	if err != nil {
		return nil, err
	}
	return api.ReadAgain200JSONResponse(s.received(got)), nil
}

package server

import (
	"context"
	"io"
	"net/http"

	"urgentis/api"
	"urgentis/internal/store"
)

// ListStored implements api.StrictServerInterface.
func (s *Server) ListStored(ctx context.Context, _ api.ListStoredRequestObject) (api.ListStoredResponseObject, error) {
	list, err := s.App.StoredFiles(ctx, who(ctx))
	return api.ListStored200JSONResponse(mapped(list, apiAttachment)), err
}

// PutStored implements api.StrictServerInterface.
func (s *Server) PutStored(ctx context.Context, r api.PutStoredRequestObject) (api.PutStoredResponseObject, error) {
	row, err := s.App.PutStored(ctx, who(ctx), r.Name, r.Body)
	if err != nil {
		return nil, err
	}
	return api.PutStored200JSONResponse(apiAttachment(*row)), nil
}

// stored is a file of the store on its way.
type stored struct{ file }

// VisitGetStoredResponse implements api.GetStoredResponseObject.
func (f stored) VisitGetStoredResponse(w http.ResponseWriter) error { return f.VisitGetFileResponse(w) }

// GetStored implements api.StrictServerInterface.
func (s *Server) GetStored(ctx context.Context, r api.GetStoredRequestObject) (api.GetStoredResponseObject, error) {
	var row *store.Attachment
	var body io.Reader
	row, body, err := s.App.Stored(ctx, who(ctx), r.Name)
	if err != nil {
		return nil, err
	}
	return stored{file{row, body}}, nil
}

// RemoveStored implements api.StrictServerInterface.
func (s *Server) RemoveStored(
	ctx context.Context, r api.RemoveStoredRequestObject,
) (api.RemoveStoredResponseObject, error) {
	if err := s.App.RemoveStored(ctx, who(ctx), r.Name); err != nil {
		return nil, err
	}
	return api.RemoveStored204Response{}, nil
}

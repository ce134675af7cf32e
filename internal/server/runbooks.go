package server

import (
	"context"
	"encoding/json"
	"strings"

	"urgentis/api"
	"urgentis/core/expr"
	"urgentis/core/runbook"
	"urgentis/internal/app"
	"urgentis/internal/rehearsal"
)

// ListRunbooks implements api.StrictServerInterface.
func (s *Server) ListRunbooks(
	ctx context.Context,
	r api.ListRunbooksRequestObject,
) (api.ListRunbooksResponseObject, error) {
	list, err := s.App.Runbooks(ctx, who(ctx), app.WhichRunbooks{
		Service: r.Params.Service, Tag: r.Params.Tag, Text: r.Params.Text,
	})
	return api.ListRunbooks200JSONResponse(mapped(list, apiRunbook)), err
}

func apiRunbook(r app.Runbook) api.Runbook {
	out := api.Runbook{
		Name: r.Name, Title: r.Title, Owner: r.Owner, Service: r.Service, About: r.About, Tags: r.Tags,
		Number:   r.Number,
		Revision: r.Revision.Revision, PushedBy: r.PushedBy, PushedAt: r.PushedAt.UTC(), Starts: []string{},
		Links: mapped(r.Book.Links, apiLink),
	}
	for _, st := range r.Book.Starts {
		out.Starts = append(out.Starts, strings.Join(st.Says(), "; "))
	}
	return out
}

func runbookDetail(r app.Runbook) api.RunbookDetail {
	h := apiRunbook(r)
	out := api.RunbookDetail{
		Name: h.Name, Title: h.Title, Owner: h.Owner, Service: h.Service, About: h.About, Tags: h.Tags,
		Number:   h.Number,
		Revision: h.Revision, PushedBy: h.PushedBy, PushedAt: h.PushedAt, Starts: h.Starts, Text: r.Text,
		Links:     h.Links,
		Unchanged: r.Unchanged,
		Findings:  []api.Finding{}, Inputs: []api.Input{}, Steps: []api.Step{},
	}
	out.Findings = append(out.Findings, mapped(r.Findings, apiFinding)...)
	out.Inputs = append(out.Inputs, mapped(r.Book.Inputs, apiInput)...)
	out.Steps = stepsOf(r.Book)
	return out
}

// PushRunbook implements api.StrictServerInterface.
func (s *Server) PushRunbook(
	ctx context.Context,
	r api.PushRunbookRequestObject,
) (api.PushRunbookResponseObject, error) {
	push := s.App.PushRunbook
	if r.Body.CheckOnly {
		push = s.App.CheckRunbook
	}
	row, err := push(ctx, who(ctx), r.Body.Text)
	if err != nil {
		return nil, err
	}
	return api.PushRunbook201JSONResponse(runbookDetail(*row)), nil
}

// GetRunbook implements api.StrictServerInterface.
func (s *Server) GetRunbook(ctx context.Context, r api.GetRunbookRequestObject) (api.GetRunbookResponseObject, error) {
	row, err := s.App.Runbook(ctx, who(ctx), r.Name)
	if err != nil {
		return nil, err
	}
	return api.GetRunbook200JSONResponse(runbookDetail(*row)), nil
}

// GetRunbookGraph implements api.StrictServerInterface.
func (s *Server) GetRunbookGraph(
	ctx context.Context,
	r api.GetRunbookGraphRequestObject,
) (api.GetRunbookGraphResponseObject, error) {
	b, err := s.App.Book(ctx, who(ctx), r.Name)
	if err != nil {
		return nil, err
	}
	return api.GetRunbookGraph200JSONResponse(*api.GraphOf(b, nil)), nil
}

// GetRunbookSchema implements api.StrictServerInterface.
func (s *Server) GetRunbookSchema(
	context.Context,
	api.GetRunbookSchemaRequestObject,
) (api.GetRunbookSchemaResponseObject, error) {
	var doc map[string]any
	err := json.Unmarshal(runbook.Schema(), &doc)
	return api.GetRunbookSchema200JSONResponse(doc), err
}

// SketchRunbook implements api.StrictServerInterface.
func (s *Server) SketchRunbook(
	ctx context.Context, r api.SketchRunbookRequestObject,
) (api.SketchRunbookResponseObject, error) {
	var edit *runbook.Edit
	if e := r.Body.Edit; e != nil {
		edit = &runbook.Edit{Op: runbook.EditOp(e.Op), Path: e.Path, Title: e.Title, Verb: runbook.Verb(e.Verb)}
	}
	x, err := s.App.Sketch(who(ctx), r.Body.Text, edit)
	if err != nil {
		return nil, err
	}
	out := api.SketchRunbook200JSONResponse{Text: x.Text, Steps: []api.Step{}, Inputs: []api.Input{},
		Findings: mapped(x.Findings, apiFinding)}
	if x.Book != nil {
		out.Steps, out.Inputs = stepsOf(x.Book), mapped(x.Book.Inputs, apiInput)
		if !x.Findings.Failed() {
			out.Graph = api.GraphOf(x.Book, nil)
		}
	}
	return out, nil
}

func stepsOf(b *runbook.Book) []api.Step {
	return mapped(b.All(), func(st *runbook.Step) api.Step {
		return api.Step{Path: st.Path, Verb: string(st.Verb), Title: st.Title, Id: st.ID, Line: st.Line}
	})
}

// Rehearse implements api.StrictServerInterface.
func (s *Server) Rehearse(ctx context.Context, r api.RehearseRequestObject) (api.RehearseResponseObject, error) {
	if r.Body.How == api.AgainstThePast {
		past, err := s.App.RehearsePast(ctx, who(ctx), r.Body.Text, int(r.Body.Past))
		out := api.Rehearse200JSONResponse{Lines: []api.RehearsedLine{}, Past: mapped(past, apiPastRun)}
		if len(past) == 0 {
			out.Outcome = "there is no recorded run of this runbook to compare with"
		}
		return out, err
	}
	rehearse := s.App.RenderRunbook
	if r.Body.How == api.LooksOnly {
		rehearse = s.App.RehearseLooks
	}
	out, err := rehearse(ctx, who(ctx), app.Play{
		Text: r.Body.Text, Inputs: r.Body.Inputs, Alert: r.Body.Alert,
		Assumed: rehearsal.Assumed{Made: r.Body.Assume, Answers: r.Body.Answers},
	})
	if err != nil {
		return nil, err
	}
	return api.Rehearse200JSONResponse(apiRehearsal(out)), nil
}

// TryStep implements api.StrictServerInterface.
func (s *Server) TryStep(ctx context.Context, r api.TryStepRequestObject) (api.TryStepResponseObject, error) {
	play := app.Play{Text: r.Body.Text, Inputs: r.Body.Inputs, Alert: r.Body.Alert}
	out, err := s.App.TryStep(ctx, who(ctx), play, r.Body.Step, r.Body.Readings, r.Body.Run)
	if err != nil {
		return nil, err
	}
	return api.TryStep200JSONResponse(apiRehearsal(out)), nil
}

func apiRehearsal(r *app.Rehearsal) api.Rehearsal {
	return api.Rehearsal{
		State: r.State, Outcome: r.Outcome, Because: r.Because, Approvers: r.Approvers,
		Totals: api.RehearsalTotals{
			Looks: r.Totals.Looks, Changes: r.Totals.Changes, Gates: r.Totals.Gates, Questions: r.Totals.Questions,
			Targets: append([]string{}, r.Totals.Targets...),
		},
		Lines: mapped(r.Lines, func(l app.Line) api.RehearsedLine {
			return api.RehearsedLine{
				Path: l.Path, Verb: l.Verb, Title: l.Title, Depth: l.Depth, Branch: l.Branch, Target: l.Target,
				On:    l.On,
				Shown: l.Shown, Undo: l.Undo, Says: l.Says, Notes: append([]string{}, l.Notes...),
			}
		}),
	}
}

func apiPastRun(r app.PastRun) api.RehearsedRun {
	return api.RehearsedRun{
		Run: r.Run, BegunAt: r.BegunAt, Then: r.Then, Now: r.Now, AskedThen: r.AskedThen, AskedNow: r.AskedNow,
		PartsAt: r.PartsAt, Same: r.Same,
	}
}

// RemoveRunbook implements api.StrictServerInterface.
func (s *Server) RemoveRunbook(
	ctx context.Context, r api.RemoveRunbookRequestObject,
) (api.RemoveRunbookResponseObject, error) {
	return api.RemoveRunbook204Response{}, s.App.RemoveRunbook(ctx, who(ctx), r.Name)
}

// ListRevisions implements api.StrictServerInterface.
func (s *Server) ListRevisions(
	ctx context.Context, r api.ListRevisionsRequestObject,
) (api.ListRevisionsResponseObject, error) {
	list, err := s.App.Revisions(ctx, who(ctx), r.Name)
	return api.ListRevisions200JSONResponse(mapped(list, apiRunbook)), err
}

// GetRevision implements api.StrictServerInterface.
func (s *Server) GetRevision(
	ctx context.Context,
	r api.GetRevisionRequestObject,
) (api.GetRevisionResponseObject, error) {
	row, err := s.App.RevisionOf(ctx, who(ctx), r.Name, r.Number)
	if err != nil {
		return nil, err
	}
	return api.GetRevision200JSONResponse(runbookDetail(*row)), nil
}

func apiInput(in runbook.Input) api.Input {
	x := api.Input{Name: in.Name, Label: in.Label, Type: string(in.Type), Choices: in.Choices}
	if in.Default != nil {
		x.Default = expr.Say(in.Default)
	}
	if in.Pattern != nil {
		x.Pattern = in.Pattern.String()
	}
	return x
}

// ListLibrary implements api.StrictServerInterface.
func (s *Server) ListLibrary(
	ctx context.Context, _ api.ListLibraryRequestObject,
) (api.ListLibraryResponseObject, error) {
	list, err := s.App.Library(ctx, who(ctx))
	return api.ListLibrary200JSONResponse(mapped(list, apiShelved)), err
}

// GetLibraryRunbook implements api.StrictServerInterface.
func (s *Server) GetLibraryRunbook(
	ctx context.Context, r api.GetLibraryRunbookRequestObject,
) (api.GetLibraryRunbookResponseObject, error) {
	x, err := s.App.LibraryRunbook(ctx, who(ctx), r.Name)
	if err != nil {
		return nil, err
	}
	return api.GetLibraryRunbook200JSONResponse{
		Runbook: apiShelved(*x), Text: x.Text, Inputs: append([]api.Input{}, mapped(x.Book.Inputs, apiInput)...),
		Graph: *api.GraphOf(x.Book, nil), Binding: x.Beginning(),
	}, nil
}

func apiShelved(x app.Shelved) api.LibraryRunbook {
	return api.LibraryRunbook{
		Name: x.Book.Name, Title: x.Book.Title, About: x.Book.About, Harm: x.Book.Harm,
		Tags: append([]string{}, x.Book.Tags...), Roles: append([]string{}, x.Roles...), Changes: x.Book.ChangesMade(),
		Cases: x.Cases, Revision: x.Book.Revision, Bound: append([]string{}, x.Bound...),
	}
}

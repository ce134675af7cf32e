package server

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"

	"github.com/gin-gonic/gin"

	"urgentis/api"
	outward "urgentis/core/message"
	"urgentis/core/route"
	"urgentis/internal/app"
	"urgentis/internal/store"
)

// ListConnections implements api.StrictServerInterface.
func (s *Server) ListConnections(
	ctx context.Context, _ api.ListConnectionsRequestObject,
) (api.ListConnectionsResponseObject, error) {
	list, err := s.App.Connections(ctx, who(ctx))
	return api.ListConnections200JSONResponse(mapped(list, func(c app.Connection) api.Connection {
		return api.Connection{Name: c.Name, Kind: c.Kind, Where: c.Where}
	})), err
}

// AddConnection implements api.StrictServerInterface.
func (s *Server) AddConnection(
	ctx context.Context, r api.AddConnectionRequestObject,
) (api.AddConnectionResponseObject, error) {
	err := s.App.AddConnection(ctx, who(ctx), r.Body.Name, outward.Room, r.Body.Url)
	return api.AddConnection200JSONResponse{Name: r.Body.Name, Kind: outward.Room, Where: r.Body.Url}, err
}

// RemoveConnection implements api.StrictServerInterface.
func (s *Server) RemoveConnection(
	ctx context.Context, r api.RemoveConnectionRequestObject,
) (api.RemoveConnectionResponseObject, error) {
	return api.RemoveConnection204Response{}, s.App.RemoveConnection(ctx, who(ctx), r.Name)
}

// TryConnection implements api.StrictServerInterface.
func (s *Server) TryConnection(
	ctx context.Context, r api.TryConnectionRequestObject,
) (api.TryConnectionResponseObject, error) {
	out, err := s.App.TryConnection(ctx, who(ctx), r.Name, r.Params.To)
	return api.TryConnection200JSONResponse{Ok: out.OK, Says: out.Says}, err
}

// ShowMessage implements api.StrictServerInterface.
func (s *Server) ShowMessage(
	ctx context.Context, r api.ShowMessageRequestObject,
) (api.ShowMessageResponseObject, error) {
	m, err := s.App.ShowMessage(ctx, who(ctx), r.Name, r.Params.Incident, r.Params.Kind)
	if err != nil {
		return nil, err
	}
	return api.ShowMessage200JSONResponse{Kind: string(m.Message.Kind), Text: m.Text, Short: m.Short}, nil
}

// ListMessages implements api.StrictServerInterface.
func (s *Server) ListMessages(
	ctx context.Context, r api.ListMessagesRequestObject,
) (api.ListMessagesResponseObject, error) {
	before, err := readNumber(r.Params.Cursor)
	if err != nil {
		return nil, err
	}
	p := r.Params
	list, more, err := s.App.Deliveries(ctx, who(ctx), string(p.State), p.Incident, before, limit(p.Limit))
	out := api.ListMessages200JSONResponse{Items: mapped(list, apiMessage)}
	out.Next = next(list, more, func(d store.Delivery) string { return cursor(d.QueuedAt, itoa(d.ID)) })
	return out, err
}

// GetMessage implements api.StrictServerInterface.
func (s *Server) GetMessage(
	ctx context.Context, r api.GetMessageRequestObject,
) (api.GetMessageResponseObject, error) {
	d, err := s.App.Delivery(ctx, who(ctx), r.Id)
	if err != nil {
		return nil, err
	}
	return api.GetMessage200JSONResponse(apiMessage(*d)), nil
}

// SendAgain implements api.StrictServerInterface.
func (s *Server) SendAgain(ctx context.Context, r api.SendAgainRequestObject) (api.SendAgainResponseObject, error) {
	d, err := s.App.SendAgain(ctx, who(ctx), r.Id)
	if err != nil {
		return nil, err
	}
	return api.SendAgain200JSONResponse(apiMessage(*d)), nil
}

func apiMessage(d store.Delivery) api.Message {
	out := api.Message{
		Id: d.ID, To: d.Kind + "/" + d.Connection, State: api.MessageState(d.State), Tries: d.Tries, Urgent: d.Urgent,
		Error: d.Error, Answer: d.Answer, Incident: deref(d.Incident), QueuedAt: d.QueuedAt.UTC(),
		SentAt: utc(d.SentAt),
	}
	if d.Address != "" {
		out.To = d.Receiver + " by " + d.Connection
	}
	switch d.Kind {
	case store.DeliverySource, store.DeliveryDesk:
		var body struct{ Do string }
		_ = json.Unmarshal([]byte(d.Body), &body) // it was written by us
		out.Text = body.Do
	default:
		var m outward.Message
		_ = json.Unmarshal([]byte(d.Body), &m) // it was written by us
		out.Text = m.Text()
	}
	return out
}

// WhoIsTold implements api.StrictServerInterface.
func (s *Server) WhoIsTold(ctx context.Context, r api.WhoIsToldRequestObject) (api.WhoIsToldResponseObject, error) {
	p := r.Params
	if p.At.IsZero() {
		p.At = s.App.Now()
	}
	f, err := s.App.WhoIsTold(ctx, who(ctx), app.Asked{
		Kind: p.Kind, Severity: p.Severity, Service: p.Service, To: p.To, At: p.At})
	if err != nil {
		return nil, err
	}
	return api.WhoIsTold200JSONResponse{
		Nobody: f.Nobody, Silent: f.Silent, None: filled(f.None),
		Tells: mapped(f.Sends, func(t route.SentAt) api.Tell {
			return api.Tell{AfterSeconds: int(t.At.Sub(p.At).Seconds()), To: t.To, Connection: t.Contact.Connection,
				Address: t.Contact.Address, Why: t.Why}
		}),
	}, nil
}

// ListEscalations implements api.StrictServerInterface.
func (s *Server) ListEscalations(
	ctx context.Context, r api.ListEscalationsRequestObject,
) (api.ListEscalationsResponseObject, error) {
	list, err := s.App.Escalations(ctx, who(ctx), r.Params.Incident)
	return api.ListEscalations200JSONResponse(mapped(list, func(n app.Escalation) api.Escalation {
		return api.Escalation{Id: n.ID, Kind: string(n.Kind), Text: n.Text, Incident: deref(n.Incident),
			Rung: n.Rung + 1,
			At:   n.At.UTC(), Later: mapped(n.Later, apiLater), Missed: n.Missed, Thing: n.Thing}
	})), err
}

func apiLater(l route.Later) api.CalledLater {
	return api.CalledLater{At: l.At.UTC(), People: l.People}
}

// GetReach implements api.StrictServerInterface.
func (s *Server) GetReach(ctx context.Context, r api.GetReachRequestObject) (api.GetReachResponseObject, error) {
	x, err := s.App.Reach(ctx, who(ctx), r.Name)
	if err != nil {
		return nil, err
	}
	return api.GetReach200JSONResponse{
		Person: x.Name, Quiet: x.Quiet, QuietZone: x.QuietZone, Contacts: mapped(x.Contacts, apiContact)}, nil
}

func apiContact(w store.Contact) api.Contact {
	return api.Contact{Id: w.ID, Connection: w.Connection, Address: w.Address, Verified: w.VerifiedAt != nil}
}

// SetQuiet implements api.StrictServerInterface.
func (s *Server) SetQuiet(ctx context.Context, r api.SetQuietRequestObject) (api.SetQuietResponseObject, error) {
	return api.SetQuiet204Response{}, s.App.SetQuiet(ctx, who(ctx), r.Name, r.Body.Hours, r.Body.Zone)
}

// AddContact implements api.StrictServerInterface.
func (s *Server) AddContact(ctx context.Context, r api.AddContactRequestObject) (api.AddContactResponseObject, error) {
	w, err := s.App.AddContact(ctx, who(ctx), r.Name, r.Body.Connection, r.Body.Address)
	if err != nil {
		return nil, err
	}
	return api.AddContact201JSONResponse(apiContact(*w)), nil
}

// OrderContacts implements api.StrictServerInterface.
func (s *Server) OrderContacts(ctx context.Context,
	r api.OrderContactsRequestObject) (api.OrderContactsResponseObject, error) {
	return api.OrderContacts204Response{}, s.App.OrderContacts(ctx, who(ctx), r.Name, *r.Body)
}

// RemoveContact implements api.StrictServerInterface.
func (s *Server) RemoveContact(ctx context.Context,
	r api.RemoveContactRequestObject) (api.RemoveContactResponseObject, error) {
	return api.RemoveContact204Response{}, s.App.RemoveContact(ctx, who(ctx), r.Name, r.Id)
}

// SendCode implements api.StrictServerInterface.
func (s *Server) SendCode(ctx context.Context, r api.SendCodeRequestObject) (api.SendCodeResponseObject, error) {
	return api.SendCode204Response{}, s.App.SendCode(ctx, who(ctx), r.Name, r.Id)
}

// VerifyContact implements api.StrictServerInterface.
func (s *Server) VerifyContact(ctx context.Context,
	r api.VerifyContactRequestObject) (api.VerifyContactResponseObject, error) {
	return api.VerifyContact204Response{}, s.App.VerifyContact(ctx, who(ctx), r.Name, r.Id, r.Body.Code)
}

// OpenLink implements api.StrictServerInterface.
func (s *Server) OpenLink(ctx context.Context, r api.OpenLinkRequestObject) (api.OpenLinkResponseObject, error) {
	o, err := s.App.OpenLink(ctx, who(ctx), r.Body.Key)
	if err != nil {
		return nil, err
	}
	out := api.OpenLink200JSONResponse{Person: o.Person, May: apiRoles(o.May), EndsAt: o.EndsAt.UTC(), Used: o.Used,
		Happened: o.Happened}
	if i := o.Incident; i != nil {
		out.Incident, out.Title, out.Severity, out.OpenedAt = i.Number, i.Title, i.Severity, i.OpenedAt.UTC()
	}
	if o.Gate != nil {
		out.Gate = apiGate(*o.Gate)
	}
	if o.Question != nil {
		out.Question = apiQuestion(*o.Question)
	}
	return out, nil
}

// ActByLink implements api.StrictServerInterface.
func (s *Server) ActByLink(ctx context.Context, r api.ActByLinkRequestObject) (api.ActByLinkResponseObject, error) {
	b := r.Body
	return api.ActByLink204Response{}, s.App.ActByLink(ctx, who(ctx), b.Key, app.Act{
		Do: string(b.Do), Digest: b.Digest, Comment: b.Comment, Choice: b.Choice, Fields: b.Fields})
}

// maxBack bounds a call-back, in bytes.
const maxBack = 64 << 10

// postBack is POST /back/{connection}: a room calls back as somebody presses something on a message there.
func (s *Server) postBack(c *gin.Context) {
	c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, maxBack)
	body, err := c.GetRawData()
	if err != nil {
		problem(c, &Problem{http.StatusRequestEntityTooLarge, "too-large",
			fmt.Sprintf("the body is larger than %d kB", maxBack>>10), nil})
		return
	}
	said, err := s.App.HearBack(c.Request.Context(), c.Param("connection"), c.Request.Header, body)
	if err != nil {
		s.problem(c, err)
		return
	}
	c.JSON(http.StatusOK, gin.H{"said": said})
}

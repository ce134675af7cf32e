package app

import (
	"context"
	"fmt"
	"time"

	"urgentis/core/access"
	"urgentis/core/route"
	"urgentis/internal/store"
)

// Deliveries lists messages of a state ("": of all) and an incident (0: of all) before an id, newest first, and says
// whether there are more.
func (a *App) Deliveries(
	ctx context.Context, who *access.Principal, state string, incident, before int64, limit int,
) ([]store.Delivery, bool, error) {
	if _, err := see(who); err != nil {
		return nil, false, err
	}
	list, err := a.store.In(ctx).Deliveries(state, incident, before, limit+1)
	list, more := pageOf(list, limit)
	return list, more, err
}

// Delivery reads one message.
func (a *App) Delivery(ctx context.Context, who *access.Principal, id int64) (*store.Delivery, error) {
	if _, err := see(who); err != nil {
		return nil, err
	}
	d, err := a.store.In(ctx).Delivery(id)
	return d, named(err, "message %d", id)
}

// SendAgain queues a message anew that did not arrive.
func (a *App) SendAgain(ctx context.Context, who *access.Principal, id int64) (*store.Delivery, error) {
	if err := access.Can(who, access.Respond, access.Installation); err != nil {
		return nil, err
	}
	err := a.tx(ctx, func(tx *store.Tx) error {
		d, err := tx.Delivery(id)
		if err != nil {
			return named(err, "message %d", id)
		}
		if err := tx.SendAgain(id); err != nil {
			return &Error{Kind: Conflict, Code: "not-failed", Says: fmt.Sprintf(
				"message %d is %s: only what failed or was dropped is sent again", id, d.State)}
		}
		if err := tx.Enqueue(store.Deliver{ID: id}); err != nil {
			return err
		}
		return tx.Audit(who.Name, "message.send-again", fmt.Sprintf("message %d", id), d.Kind+"/"+d.Connection)
	})
	if err != nil {
		return nil, err
	}
	return a.Delivery(ctx, who, id)
}

// Asked is something that somebody might be told, to ask who that would be.
type Asked struct {
	Kind, Severity, Service, To string
	Labels                      map[string]string
	At                          time.Time
}

// WhoIsTold tells who would be told of something at a moment, in which order, if nobody took it. It plays core/route
// on; nothing is sent.
func (a *App) WhoIsTold(ctx context.Context, who *access.Principal, x Asked) (*route.Forecast, error) {
	if _, err := see(who); err != nil {
		return nil, err
	}
	tx := a.store.In(ctx)
	w, err := a.engine.World(tx)
	if err != nil {
		return nil, err
	}
	n := &route.Notice{Kind: route.Kind(x.Kind), To: x.To, Severity: x.Severity, Service: x.Service, Labels: x.Labels,
		At: x.At}
	if n.Kind == "" {
		n.Kind = route.HandOver
	}
	n.Urgent = n.Kind.Calls(x.Severity)
	s, err := tx.Service(x.Service)
	if err != nil {
		return nil, err
	}
	if s != nil {
		n.Owner = s.Owner
	}
	f := route.Foretell(n, route.Stood{}, nil, w.World, x.At, time.Time{})
	return &f, nil
}

// Escalation is something urgent that nobody has taken yet, and who will be called if nobody does.
type Escalation struct {
	store.Notice
	Later []route.Later
}

// escalatesWithin is how far ahead it is told who will be called, and mostLater of how many of a list: each page asks
// for it again and again.
const (
	escalatesWithin = time.Hour
	mostLater       = 20
)

// Escalations lists the urgent things that nobody has taken yet.
func (a *App) Escalations(ctx context.Context, who *access.Principal, incident int64) ([]Escalation, error) {
	if _, err := see(who); err != nil {
		return nil, err
	}
	tx := a.store.In(ctx)
	list, err := tx.OpenNotices(incident, "")
	if err != nil {
		return nil, err
	}
	later, err := a.teller.Later(tx, list[:min(len(list), mostLater)], a.Now().Add(escalatesWithin))
	if err != nil {
		return nil, err
	}
	out := make([]Escalation, len(list))
	for i, n := range list {
		if out[i].Notice = n; i < len(later) {
			out[i].Later = later[i]
		}
	}
	return out, nil
}

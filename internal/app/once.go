package app

import (
	"context"

	"urgentis/core/access"
	"urgentis/core/doc"
	"urgentis/internal/store"
)

// Once is what somebody asks for under an identity of their own, so that it is done once however often it is sent.
type Once struct {
	app  *App
	once store.Once
}

// Asked notes what somebody asks for, and gives what was answered where they asked for it before; nil where it is new.
// What was begun and left without an answer is not done again, and the error says so.
func (a *App) Asked(ctx context.Context, who *access.Principal, id string, what []byte) (*Once, *string, error) {
	if who == nil {
		return nil, nil, access.Can(who, access.See, access.Object{})
	}
	o := &Once{a, store.Once{Door: "api/" + who.Name, ID: id, Digest: doc.Sum(what)}}
	before, err := a.store.In(ctx).HearOnce(o.once)
	return o, before, onceError(err)
}

// Answered notes what was answered.
func (o *Once) Answered(ctx context.Context, answer string) error {
	return o.app.store.In(context.WithoutCancel(ctx)).Answered(o.once, answer)
}

// Refused forgets what was asked for: nothing was done, and it may be asked for again.
func (o *Once) Refused(ctx context.Context) error {
	return o.app.store.In(context.WithoutCancel(ctx)).Unheard(o.once)
}

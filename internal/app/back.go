package app

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"strings"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"urgentis/core/access"
	"urgentis/core/doc"
	"urgentis/core/expr"
	"urgentis/core/message"
	"urgentis/core/source"
	"urgentis/internal/store"
)

// HearBack takes a call-back of a room: somebody pressed something on a message there. It is signed as
// https://www.standardwebhooks.com says, counts once, and is done with the rights of the person whose proven way it
// came from. It says in a sentence what was done.
func (a *App) HearBack(ctx context.Context, connection string, headers http.Header, body []byte) (string, error) {
	unknown := &Error{Kind: Nobody, Code: "signature", Says: "the call-back is not signed as this connection asks"}
	tx := a.store.In(ctx)
	c, err := a.engine.Connection(tx, connection)
	if err != nil {
		return "", err
	}
	if c == nil || c.Back == nil {
		return "", unknown // whether there is such a connection is nobody's business
	}
	key, err := a.opened(ctx, c.Sign)
	if err != nil {
		return "", err
	}
	hook, err := standardwebhooks.NewWebhook(key)
	if err != nil {
		return "", invalid("sign", "the signing secret of %s cannot be used; it is whsec_ and base64", connection)
	}
	if err := hook.Verify(body, headers); err != nil {
		return "", unknown
	}
	said, err := readBack(c.Back, body)
	if err != nil {
		return "", err
	}
	person, err := tx.PersonAt(connection, said.person)
	if err != nil {
		return "", err
	}
	if person == "" {
		person = c.Back.People[said.person]
	}
	var who *access.Principal
	if person != "" {
		if who, err = a.accounts.ByName(ctx, person); err != nil {
			return "", err
		}
	}
	if who == nil {
		return "", &Error{Kind: Denied, Code: "unmapped", Says: "nobody has verified that " + said.person + " of " +
			connection + " is theirs: urgentis contact add"}
	}
	once := store.Once{Door: "back/" + connection, ID: headers.Get(standardwebhooks.HeaderWebhookID),
		Digest: doc.Sum(body)}
	before, err := tx.Hear(once)
	if err != nil {
		return "", onceError(err)
	}
	if before != nil {
		return *before, nil
	}
	says, err := a.doPressed(ctx, connection, who, said)
	ctx = context.WithoutCancel(ctx) // it is done, or it is not: what is noted of it says so
	if err != nil {
		return "", errors.Join(err, a.store.In(ctx).Unheard(once))
	}
	return says, a.store.In(ctx).Answered(once, says)
}

// onceIn is what a sender calls a payload at a door.
func onceIn(door string, p source.Payload) store.Once {
	return store.Once{Door: door, ID: p.ID(), Digest: doc.Sum(p.Body)}
}

// onceError says what a sender made of an identity.
func onceError(err error) error {
	switch {
	case errors.Is(err, store.ErrOtherwise):
		return &Error{Kind: Unsound, Code: "identity", Says: err.Error()}
	case errors.Is(err, store.ErrUnderWay):
		return &Error{Kind: Conflict, Code: "under-way", Says: err.Error() + "; ask again in a minute"}
	case errors.Is(err, store.ErrUnknown):
		return &Error{Kind: Conflict, Code: "unknown", Says: err.Error() +
			": look whether it is there before you ask for it anew, under another identity"}
	}
	return err
}

// doPressed does what somebody pressed.
func (a *App) doPressed(ctx context.Context, connection string, who *access.Principal, said *pressed) (string, error) {
	incident, err := a.incidentOf(ctx, said.refers)
	if err != nil {
		return "", err
	}
	if err := a.act(ctx, who, said.refers, incident, said.Act, "in "+connection); err != nil {
		return "", err
	}
	return who.Behind() + ": " + said.Do + " " + said.refers, nil
}

// pressed is what is read of a call-back.
type pressed struct {
	person, refers string
	Act
}

func readBack(b *message.Back, body []byte) (*pressed, error) {
	var parsed any
	if err := json.Unmarshal(body, &parsed); err != nil {
		return nil, invalid("body", "the call-back is no JSON")
	}
	scope := &expr.Scope{Names: map[string]any{"body": parsed}}
	read := func(what string, p *expr.Program, must bool) (string, error) {
		if p == nil {
			return "", nil
		}
		v, err := p.Eval(scope)
		if err != nil && must {
			return "", invalid(what, "the call-back has no %s: %s", what, err)
		} else if err != nil {
			return "", nil
		}
		return expr.Say(v), nil
	}
	out := &pressed{}
	var err error
	for _, f := range []struct {
		into *string
		what string
		p    *expr.Program
		must bool
	}{
		{&out.person, "person", b.Person, true}, {&out.Do, "do", b.Do, true}, {&out.refers, "refers", b.Refers, true},
		{&out.Digest, "digest", b.Digest, false}, {&out.Comment, "comment", b.Comment, false},
	} {
		if *f.into, err = read(f.what, f.p, f.must); err != nil {
			return nil, err
		}
	}
	if choice, ok := strings.CutPrefix(out.Do, DoAnswer+":"); ok {
		out.Do, out.Choice = DoAnswer, choice
	}
	return out, nil
}

// incidentOf is the incident of what a message referred to; nil for none.
func (a *App) incidentOf(ctx context.Context, refers string) (*int64, error) {
	if n, ok := numberOf(refers); ok {
		return &n, nil
	}
	tx := a.store.In(ctx)
	kind, id, _ := strings.Cut(refers, "/")
	switch kind {
	case "gate":
		g, err := tx.Gate(id)
		if err != nil {
			return nil, named(err, "gate %s", id)
		}
		return g.Incident, nil
	case "question":
		q, err := tx.Question(id)
		if err != nil {
			return nil, named(err, "question %s", id)
		}
		return q.Incident, nil
	case "run":
		r, err := tx.Run(id)
		if err != nil {
			return nil, named(err, "run %s", id)
		}
		return r.Incident, nil
	}
	return nil, nil
}

// opened renders a text that is a secret.
func (a *App) opened(ctx context.Context, t *expr.Template) (string, error) {
	text, err := t.Text(&expr.Scope{})
	if err != nil {
		return "", err
	}
	return expr.FillSecrets(text, func(_, name string) (string, error) { return a.secrets.Value(ctx, name) })
}

package app

import (
	"context"
	"fmt"
	"time"

	"urgentis/core/access"
	"urgentis/internal/signin"
	"urgentis/internal/store"
)

// SetUp makes the first administrator, once, by the code that the service printed.
func (a *App) SetUp(ctx context.Context, code, name, password string) (*store.Person, error) {
	return a.accounts.SetUp(ctx, code, name, password)
}

// SetupCode gives the code for SetUp; "" where there is somebody already.
func (a *App) SetupCode(ctx context.Context) (string, error) { return a.accounts.SetupCode(ctx) }

// SignIn checks a password and begins a session. from is the address it came from.
func (a *App) SignIn(
	ctx context.Context,
	name, password, from string,
) (session string, who *access.Principal, err error) {
	return a.accounts.SignIn(ctx, name, password, from)
}

// SignOut ends a session.
func (a *App) SignOut(ctx context.Context, session string) error {
	return a.accounts.SignOut(ctx, session)
}

// Who finds out who asks, by a token or by a session; nil for nobody. A token goes before a session.
func (a *App) Who(ctx context.Context, token, session string) (*access.Principal, error) {
	switch {
	case token != "":
		return a.accounts.ByToken(ctx, token)
	case session != "":
		return a.accounts.BySession(ctx, session)
	}
	return nil, nil
}

// People lists those who sign in.
func (a *App) People(ctx context.Context, who *access.Principal) ([]store.Person, error) {
	if err := administer(who, "person", ""); err != nil {
		return nil, err
	}
	return a.store.In(ctx).People()
}

// SetPerson adds somebody, or sets the password and roles of one, whose sessions end.
func (a *App) SetPerson(
	ctx context.Context,
	who *access.Principal,
	name, password string,
	roles []access.Role,
) (*store.Person, error) {
	if err := administer(who, "person", name); err != nil {
		return nil, err
	}
	p, err := signin.NewPerson(name, password, roles, a.Now())
	if err != nil {
		return nil, err
	}
	return p, a.tx(ctx, func(tx *store.Tx) error {
		if err := tx.SetPerson(p); err != nil {
			return err
		}
		return tx.Audit(who.Name, "person.set", name, p.Roles)
	})
}

// RemovePerson removes somebody, with their sessions and the tokens that they answer for.
func (a *App) RemovePerson(ctx context.Context, who *access.Principal, name string) error {
	if err := administer(who, "person", name); err != nil {
		return err
	}
	if name == who.Behind() {
		return invalid("yourself", "nobody can remove themselves")
	}
	return a.tx(ctx, func(tx *store.Tx) error {
		tokens, err := tx.RemovePerson(name)
		if err != nil {
			return named(err, "person %s", name)
		}
		return tx.Audit(who.Name, "person.remove", name, fmt.Sprintf("with %d token(s)", tokens))
	})
}

// Tokens lists the tokens.
func (a *App) Tokens(ctx context.Context, who *access.Principal) ([]store.Token, error) {
	if err := administer(who, "token", ""); err != nil {
		return nil, err
	}
	return a.store.In(ctx).Tokens()
}

// AddToken makes a token that whoever acts answers for, and shows its value once.
func (a *App) AddToken(ctx context.Context, who *access.Principal, name string, roles []access.Role, life time.Duration,
) (value string, ends time.Time, err error) {
	if err := administer(who, "token", name); err != nil {
		return "", time.Time{}, err
	}
	value, t := signin.NewToken(name, roles, a.Now().Add(life), who.Behind())
	t.OnMachine = who.Machine
	return value, t.ExpiresAt, a.tx(ctx, func(tx *store.Tx) error {
		if err := tx.AddToken(t); err != nil {
			return err
		}
		return tx.Audit(who.Behind(), "token.add", name, t.Roles)
	})
}

// RemoveToken removes a token.
func (a *App) RemoveToken(ctx context.Context, who *access.Principal, name string) error {
	return a.remove(ctx, who, &store.Token{}, "token", name)
}

// Acts lists lines of the audit log of an actor ("": of all) before an id, newest first, and says whether there are
// more; 0: from the newest.
func (a *App) Acts(
	ctx context.Context,
	who *access.Principal,
	actor string,
	before int64,
	limit int,
) ([]store.Act, bool, error) {
	if err := administer(who, "audit", ""); err != nil {
		return nil, false, err
	}
	list, err := a.store.In(ctx).Acts(actor, before, limit+1)
	list, more := pageOf(list, limit)
	return list, more, err
}

package app

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"fmt"
	"math/big"
	"strings"
	"time"

	"golang.org/x/time/rate"

	"urgentis/core/access"
	"urgentis/core/message"
	"urgentis/core/route"
	"urgentis/internal/store"
)

// Reach is how somebody can be reached, and when not for what can wait.
type Reach struct {
	store.PersonQuiet
	Contacts []store.Contact
}

// What a code that verifies a contact method is worth.
const (
	codeLife  = 15 * time.Minute
	codeTries = 5
)

// itself asks whether somebody is a person who may say how a person can be reached: that person, or an administrator.
func (a *App) itself(who *access.Principal, person string) error {
	if who != nil && who.Behind() == person {
		return nil
	}
	return administer(who, "person", person)
}

// Reach tells how a person can be reached; whoever sees the installation sees it too: it is how colleagues are called.
func (a *App) Reach(ctx context.Context, who *access.Principal, person string) (*Reach, error) {
	if _, err := see(who); err != nil {
		return nil, err
	}
	tx := a.store.In(ctx)
	people, err := tx.PeopleQuiet()
	if err != nil {
		return nil, err
	}
	for _, p := range people {
		if p.Name == person {
			contacts, err := tx.Contacts(person)
			return &Reach{PersonQuiet: p, Contacts: contacts}, err
		}
	}
	return nil, named(store.ErrNotFound, "person %s", person)
}

// AddContact adds a contact method and sends a code there; it is used once that was verified.
func (a *App) AddContact(ctx context.Context, who *access.Principal, person, connection, address string,
) (*store.Contact, error) {
	if err := a.itself(who, person); err != nil {
		return nil, err
	}
	tx := a.store.In(ctx)
	c, err := a.engine.Connection(tx, connection)
	if err != nil {
		return nil, err
	}
	if c == nil {
		return nil, named(store.ErrNotFound, "connection %s", connection)
	}
	if !c.Is().Personal {
		return nil, invalid("connection", "%s is a %s: people are reached by %s", connection, c.Kind,
			strings.Join(message.KindNames(message.Reaching), ", "))
	}
	if address, err = soundAddress(c, address); err != nil {
		return nil, err
	}
	contacts, err := tx.Contacts(person)
	if err != nil {
		return nil, err
	}
	if len(contacts) >= store.MostContacts {
		return nil, invalid("contact", "%s has %d contact methods already; remove one first", person, len(contacts))
	}
	for _, w := range contacts {
		if w.Connection == connection && w.Address == address {
			return nil, invalid("contact", "%s is reached at %s by %s already", person, address, connection)
		}
	}
	w := &store.Contact{Person: person, Connection: connection, Address: address}
	err = a.tx(ctx, func(tx *store.Tx) error {
		if p, err := tx.Person(person); err != nil || p == nil {
			return named(orMissing(err), "person %s", person)
		}
		if err := tx.AddContact(w); err != nil {
			return err
		}
		return tx.Audit(who.Name, "contact.add", person, connection+" "+address)
	})
	if err != nil {
		return nil, err
	}
	return w, a.SendCode(ctx, who, person, w.ID)
}

func orMissing(err error) error {
	if err == nil {
		return store.ErrNotFound
	}
	return err
}

// maxAddress bounds an address, in bytes.
const maxAddress = 250

// soundAddress refuses what cannot be an address of a kind of connection.
func soundAddress(c *message.Connection, address string) (string, error) {
	address = strings.TrimSpace(address)
	switch {
	case address == "" || len(address) > maxAddress || strings.ContainsAny(address, "\x00\r\n"):
		return "", invalid("address", "an address has from 1 to %d characters, on one line", maxAddress)
	case c.Is().Address == nil:
		return address, nil
	}
	kept, err := c.Is().Address(address)
	if err != nil {
		return "", invalid("address", "%s", err)
	}
	return kept, nil
}

// SendCode sends a new code to a contact method. The code before is worth nothing any more.
func (a *App) SendCode(ctx context.Context, who *access.Principal, person string, id int64) error {
	if err := a.itself(who, person); err != nil {
		return err
	}
	n, err := rand.Int(rand.Reader, big.NewInt(1_000_000))
	if err != nil {
		return fmt.Errorf("make a code: %w", err)
	}
	code := fmt.Sprintf("%06d", n.Int64())
	var w *store.Contact
	err = a.tx(ctx, func(tx *store.Tx) error {
		if w, err = tx.ContactLocked(person, id); err != nil {
			return named(err, "contact method %d of %s", id, person)
		}
		// Nobody floods an address with codes.
		if w.CodeEndsAt != nil && time.Until(*w.CodeEndsAt) > codeLife-20*time.Second {
			return invalid("code", "a code was sent a moment ago; wait 20 seconds for another one")
		}
		ends := a.Now().Add(codeLife)
		w.CodeHash, w.CodeEndsAt, w.CodeTries = codeHash(id, code), &ends, 0
		return tx.Save(w)
	})
	if err != nil {
		return err
	}
	c, err := a.engine.Connection(a.store.In(ctx), w.Connection)
	if err != nil {
		return err
	}
	if c == nil {
		return named(store.ErrNotFound, "connection %s any more", w.Connection)
	}
	m := &message.Message{
		Key: store.NewID("code"), Subject: "Your code is " + code, To: person, Address: w.Address, At: a.Now(),
		Lines: []message.Line{{Name: "For", Text: fmt.Sprintf(
			"verifying that %s is reached here, within %s. Ignore it if you did not ask for it.", person,
			"15 minutes")}},
	}
	if err := a.mayCode(person, w.Connection); err != nil {
		return err
	}
	if _, err := a.outbox.Send(ctx, c, m); err != nil {
		return &Error{Kind: Conflict, Code: "not-sent",
			Says: "the contact method is kept, and its code could not be sent: " +
				err.Error()}
	}
	return nil
}

// How many codes go out: of one person, and over one connection, in an hour. Whoever pays for messages pays for those.
const (
	codesOfPerson     = 5
	codesOfConnection = 60
)

// mayCode refuses more codes than may go out.
func (a *App) mayCode(person, connection string) error {
	for _, of := range []struct {
		key  string
		most int
	}{{"code of " + person, codesOfPerson}, {"code by " + connection, codesOfConnection}} {
		l, ok := a.rates.Get(of.key)
		if !ok {
			l = rate.NewLimiter(rate.Every(time.Hour/time.Duration(of.most)), of.most)
			a.rates.Add(of.key, l)
		}
		if !l.AllowN(a.Now(), 1) {
			return &Error{Kind: Full, Code: "codes", Says: fmt.Sprintf(
				"the contact method is kept, and its code was not sent: %d an hour go out, and no more (%s)", of.most,
				of.key)}
		}
	}
	return nil
}

func codeHash(contact int64, code string) []byte {
	h := sha256.Sum256(fmt.Appendf(nil, "contact %d %s", contact, code))
	return h[:]
}

// VerifyContact verifies a contact method by the code that was sent there. After five wrong ones another code is
// needed.
func (a *App) VerifyContact(ctx context.Context, who *access.Principal, person string, id int64, code string) error {
	if err := a.itself(who, person); err != nil {
		return err
	}
	var refused error
	err := a.tx(ctx, func(tx *store.Tx) error {
		w, err := tx.ContactLocked(person, id)
		if err != nil {
			return named(err, "contact method %d of %s", id, person)
		}
		switch {
		case w.VerifiedAt != nil:
			return nil
		case w.CodeHash == nil || a.Now().After(*w.CodeEndsAt) || w.CodeTries >= codeTries:
			return invalid("code", "there is no code that counts any more; ask for another one")
		}
		if subtle.ConstantTimeCompare(w.CodeHash, codeHash(id, strings.TrimSpace(code))) != 1 {
			w.CodeTries++
			refused = invalid("code", "this is not the code that was sent; %d tries are left", codeTries-w.CodeTries)
			return tx.Save(w)
		}
		at := a.Now()
		w.VerifiedAt, w.CodeHash, w.CodeEndsAt = &at, nil, nil
		if err := tx.Save(w); err != nil {
			return err
		}
		return tx.Audit(who.Name, "contact.verify", person, w.Connection+" "+w.Address)
	})
	if err == nil {
		err = refused
	}
	return err
}

// RemoveContact forgets a contact method.
func (a *App) RemoveContact(ctx context.Context, who *access.Principal, person string, id int64) error {
	if err := a.itself(who, person); err != nil {
		return err
	}
	return a.tx(ctx, func(tx *store.Tx) error {
		if err := tx.RemoveContact(person, id); err != nil {
			return named(err, "contact method %d of %s", id, person)
		}
		return tx.Audit(who.Name, "contact.remove", person, fmt.Sprint(id))
	})
}

// OrderContacts puts the contact methods of a person into another order: all of them, by their numbers.
func (a *App) OrderContacts(ctx context.Context, who *access.Principal, person string, order []int64) error {
	if err := a.itself(who, person); err != nil {
		return err
	}
	return a.tx(ctx, func(tx *store.Tx) error {
		contacts, err := tx.Contacts(person)
		if err != nil {
			return err
		}
		have := map[int64]bool{}
		for _, w := range contacts {
			have[w.ID] = true
		}
		for _, id := range order {
			if !have[id] {
				return invalid("order", "%d is no contact method of %s, or is named twice", id, person)
			}
			delete(have, id)
		}
		if len(have) > 0 {
			return invalid("order", "the order names %d of %d contact methods", len(order), len(contacts))
		}
		if err := tx.OrderContacts(person, order); err != nil {
			return err
		}
		return tx.Audit(who.Name, "contact.order", person, fmt.Sprint(order))
	})
}

// SetQuiet sets the hours of each day in which a person is not told of what can wait; "" for none.
func (a *App) SetQuiet(ctx context.Context, who *access.Principal, person, hours, zone string) error {
	if err := a.itself(who, person); err != nil {
		return err
	}
	if _, err := route.ParseQuiet(hours, zone); err != nil {
		return invalid("quiet", "%s", err)
	}
	return a.tx(ctx, func(tx *store.Tx) error {
		if err := tx.SetQuiet(person, hours, zone); err != nil {
			return named(err, "person %s", person)
		}
		return tx.Audit(who.Name, "contact.quiet", person, hours+" "+zone)
	})
}

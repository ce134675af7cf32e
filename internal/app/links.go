package app

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"urgentis/core/access"
	"urgentis/internal/connect"
	"urgentis/internal/store"
)

// Opened is what a link that was sent to somebody shows. Opening it decides nothing.
type Opened struct {
	Person   string
	May      []access.Role
	Incident *store.Incident // nil for none
	EndsAt   time.Time
	Used     string // what it was used for; "" where it still counts
	Gate     *Gate
	Question *Question
}

// byLink finds whom a link was sent to, and what about. seated is who is signed in in the same browser, if anybody: a
// link of somebody else shows nothing.
func (a *App) byLink(
	ctx context.Context,
	seated *access.Principal,
	key string,
) (*store.Link, *access.Principal, error) {
	l, err := a.store.In(ctx).Link(connect.LinkHash(key))
	if err != nil {
		return nil, nil, named(err, "such link: it is worth nothing, or a newer one was sent")
	}
	switch {
	case seated != nil && seated.Behind() != l.Person:
		return nil, nil, &Error{Kind: Denied, Code: "another", Says: fmt.Sprintf(
			"this link was sent to %s, and %s is signed in here", l.Person, seated.Name)}
	case time.Now().After(l.EndsAt):
		return nil, nil, &Error{Kind: Denied, Code: "ended", Says: "this link has ended; sign in instead"}
	}
	who, err := a.door.ByName(ctx, l.Person)
	if err != nil {
		return nil, nil, err
	}
	if who == nil {
		return nil, nil, &Error{Kind: Denied, Code: "gone", Says: l.Person + " cannot sign in here any more"}
	}
	return l, who, nil
}

// OpenLink shows what a link is about.
func (a *App) OpenLink(ctx context.Context, seated *access.Principal, key string) (*Opened, error) {
	l, who, err := a.byLink(ctx, seated, key)
	if err != nil {
		return nil, err
	}
	o := &Opened{Person: l.Person, May: who.All(), EndsAt: l.EndsAt, Used: l.UsedFor}
	d, err := a.store.In(ctx).Delivery(l.Delivery)
	if err != nil {
		return nil, err
	}
	if d.Incident != nil {
		if o.Incident, err = a.store.In(ctx).Incident(*d.Incident); err != nil {
			return nil, err
		}
	}
	kind, id, _ := strings.Cut(l.Refers, "/")
	switch kind {
	case "gate":
		o.Gate, err = a.Gate(ctx, who, id)
	case "question":
		// One that is over has nothing to show here; the incident tells how it was answered.
		if o.Question, err = a.Question(ctx, who, id); err == nil && o.Question.State != "open" {
			o.Question = nil
		}
	}
	return o, err
}

// What is done by a link or a call-back.
const (
	DoTake    = "take"
	DoApprove = "approve"
	DoRefuse  = "refuse"
	DoAnswer  = "answer"
)

// Act is something that a person says without being signed in: by a link that was sent to them, or by a room that
// calls back.
type Act struct {
	Do, Digest, Comment, Choice string
	Fields                      map[string]any
}

// ActByLink does something for whom a link was sent to, with their rights. A link decides once; taking an incident does
// not use it up.
func (a *App) ActByLink(ctx context.Context, seated *access.Principal, key string, act Act) error {
	l, who, err := a.byLink(ctx, seated, key)
	if err != nil {
		return err
	}
	d, err := a.store.In(ctx).Delivery(l.Delivery)
	if err != nil {
		return err
	}
	if act.Do == DoTake {
		return a.act(ctx, who, l.Refers, d.Incident, act, fmt.Sprintf("by the link of message %d", d.ID))
	}
	used, err := a.store.In(ctx).UseLink(l.Hash, act.Do)
	if err != nil {
		return err
	}
	if !used {
		return &Error{Kind: Denied, Code: "used", Says: "this link was used already; sign in instead"}
	}
	err = a.act(ctx, who, l.Refers, d.Incident, act, fmt.Sprintf("by the link of message %d", d.ID))
	if err != nil {
		// What was refused was not used. Where this fails too the link is spent, and its person signs in.
		return errors.Join(err, a.store.In(context.WithoutCancel(ctx)).UnuseLink(l.Hash))
	}
	return nil
}

// act does something about what a message referred to.
func (a *App) act(
	ctx context.Context,
	who *access.Principal,
	refers string,
	incident *int64,
	act Act,
	how string,
) error {
	kind, id, _ := strings.Cut(refers, "/")
	comment := strings.TrimSpace(act.Comment)
	switch {
	case act.Do == DoTake && incident == nil:
		return invalid("take", "the message is about no incident that could be taken")
	case act.Do == DoTake:
		_, err := a.Hold(ctx, who, *incident, who.Behind(), how)
		return err
	case (act.Do == DoApprove || act.Do == DoRefuse) && kind == "gate":
		if act.Digest == "" {
			return invalid("digest", "say which exact change is meant: its digest, as it was shown")
		}
		_, err := a.DecideGate(
			ctx,
			who,
			id,
			Decision{Approve: act.Do == DoApprove, Digest: act.Digest, Comment: comment},
		)
		return err
	case act.Do == DoAnswer && kind == "question":
		return a.AnswerQuestion(ctx, who, id, Reply{Choice: act.Choice, Comment: comment, Fields: act.Fields})
	}
	return invalid("do", "%q cannot be done with what the message is about (%s)", act.Do, refers)
}

// numberOf reads incident/NUMBER.
func numberOf(refers string) (int64, bool) {
	text, ok := strings.CutPrefix(refers, "incident/")
	n, err := strconv.ParseInt(text, 10, 64)
	return n, ok && err == nil
}

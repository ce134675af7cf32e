package app

import (
	"cmp"
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
	// Happened says in a sentence what came of that; "" where it was not used.
	Happened string
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
	case a.Now().After(l.EndsAt):
		return nil, nil, &Error{Kind: Denied, Code: "ended", Says: "this link has ended; sign in instead"}
	}
	who, err := a.accounts.ByName(ctx, l.Person)
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
	if err == nil && l.UsedFor != "" {
		o.Happened = happened(l, o.Gate)
	}
	return o, err
}

// happened says what came of a link that was used. g is the gate that it was about; nil for none.
func happened(l *store.Link, g *Gate) string {
	at := ""
	if l.UsedAt != nil {
		at = l.UsedAt.UTC().Format("15:04 MST")
	}
	did := map[string]string{
		DoApprove: "You approved it at " + at, DoRefuse: "You refused it at " + at, DoAnswer: "You answered at " + at,
	}[l.UsedFor]
	switch {
	case l.UsedFor == DoAnswer:
		return did + ". Your answer was taken; the incident tells what came of it."
	case g == nil:
		return did + "."
	case l.UsedFor == DoRefuse:
		return did + ". Your no was taken; the incident tells what the run did then."
	case g.State == "open":
		return did + ". Your yes was taken, and the gate is still open: somebody else's yes is wanted as well."
	case g.State == "approved":
		return did + ". Your yes was taken; the incident tells what came of it."
	}
	return fmt.Sprintf("%s. It is %s now, by %s.", did, g.State, cmp.Or(g.DecidedBy, "nobody"))
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
		return a.usedBefore(ctx, l.Hash, act)
	}
	err = a.act(ctx, who, l.Refers, d.Incident, act, fmt.Sprintf("by the link of message %d", d.ID))
	if err != nil {
		// What was refused was not used. Where this fails too the link is spent, and its person signs in.
		return errors.Join(err, a.store.In(context.WithoutCancel(ctx)).UnuseLink(l.Hash))
	}
	return nil
}

// usedBefore answers whoever uses a link again: the same word, whose answer may have been lost on its way, is no error.
func (a *App) usedBefore(ctx context.Context, hash []byte, act Act) error {
	l, err := a.store.In(ctx).Link(hash)
	if err != nil {
		return err
	}
	if l.UsedFor == act.Do && act.Do != DoAnswer && act.Digest == l.Digest {
		return nil
	}
	return &Error{Kind: Denied, Code: "used", Says: "this link was used already (" + l.UsedFor +
		"), and decides once; sign in to say more"}
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

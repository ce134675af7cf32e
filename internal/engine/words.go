package engine

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"urgentis/core/flow"
	"urgentis/core/incident"
	"urgentis/core/leave"
	"urgentis/core/runbook"
	"urgentis/internal/store"
)

// Refusals of a person's word. Each is one sentence for that person. Those of an approval are in core/leave.
var (
	ErrNotOpen     = errors.New("it is no longer open")
	ErrOtherDigest = errors.New("what would run is no longer what was shown; look at it again")
	ErrNoChoice    = errors.New("that is none of the choices")
	ErrTooLate     = errors.New("a start may be set 7 days ahead at most")
	ErrNoRight     = errors.New("this answer approves a change: it needs the role approver")
	ErrMayBegin    = errors.New("it cannot be done again yet")
	ErrField       = errors.New("the answer is not accepted")
)

// turnedAway are the refusals that stand in the record: those for who said it, or for what had changed.
var turnedAway = []error{ErrOtherDigest, ErrNoRight, leave.ErrOnlyAuthor, leave.ErrOwnRequest, leave.ErrTwice}

// Word is a person's decision on a gate.
type Word struct {
	Approve bool
	By      string
	Person  string // who answers for the token By; "" where By is a person
	Comment string
	Digest  string // of what was shown
	// StartAt is when the change may begin at the earliest; nil: at once.
	StartAt *time.Time
}

// maxDelay bounds how far ahead an approver may set the start.
const maxDelay = 7 * 24 * time.Hour

// Decide gives a person's decision on a gate to its run. Where it is not taken, refused says why in one sentence; the
// sheet is to be written all the same, for some refusals stand in the record.
func (s *Sheet) Decide(gate *store.Gate, w Word) (refused, err error) {
	err = s.speak(gate.Run, func(st *flow.State) (flow.Place, []flow.Body, error) {
		g, place, before := st.OpenGate(gate.ID)
		d := flow.GateDecided{
			Gate: gate.ID, Approved: w.Approve, By: w.By, Person: w.Person, Comment: w.Comment, Digest: w.Digest,
			StartAt: w.StartAt,
		}
		switch {
		case g == nil || !s.e.Clock().Before(g.Until):
			return flow.Place{}, nil, ErrNotOpen
		case g.Digest != w.Digest:
			return flow.Place{}, nil, ErrOtherDigest
		case w.StartAt != nil && w.StartAt.After(s.e.Clock().Add(maxDelay)):
			return flow.Place{}, nil, ErrTooLate
		case !w.Approve && g.Comment && w.Comment == "":
			return flow.Place{}, nil, leave.ErrNoComment
		case !w.Approve:
			return place, []flow.Body{d}, nil
		}
		author, senders, err := s.authors(g.Proposal)
		if err != nil {
			return flow.Place{}, nil, err
		}
		return place, []flow.Body{d}, leave.Approval{
			Person: d.Decider(), Requester: st.Begun.Requester(), Author: author, Senders: senders, Before: before,
			People:  g.People,
			Comment: w.Comment, CommentNeeded: g.Comment,
		}.Refused()
	})
	said := map[bool]string{true: "approve", false: "refuse"}[w.Approve]
	return s.word(gate.Run, gate.ID, gate.Title, w.By, said, err)
}

// word tells a refusal of a person's word from a failure, and writes down the refusals that belong into the record.
func (s *Sheet) word(run, id, title, by, said string, err error) (refused, failed error) {
	if err == nil || !isWord(err) {
		return nil, err
	}
	if !slices.ContainsFunc(turnedAway, func(is error) bool { return errors.Is(err, is) }) {
		return err, nil
	}
	r, failed := s.tx.Lock(run)
	if failed != nil {
		return nil, failed
	}
	if failed := s.tx.Audit(by, "word.turned-away", id, said+": "+err.Error()); failed != nil {
		return nil, failed
	}
	return err, s.enter(r, func(*store.Incident) {}, store.NewEntry{
		Kind: incident.GateTurnedAway, Actor: by, Title: "Not taken (" + said + "): " + title,
		Content: incident.DecidedContent{Gate: id, Because: err.Error(), Said: said},
	})
}

// isWord reports whether an error refuses a person's word, and is no failure.
func isWord(err error) bool {
	return slices.ContainsFunc(
		[]error{ErrNotOpen, ErrOtherDigest, ErrNoChoice, ErrTooLate, ErrNoRight, ErrMayBegin, ErrField,
			leave.ErrOwnRequest, leave.ErrTwice, leave.ErrNoComment, leave.ErrOnlyAuthor},
		func(is error) bool { return errors.Is(err, is) },
	)
}

// Reply is a person's answer to a question.
type Reply struct {
	Choice  string
	By      string
	Person  string // see Word
	Comment string
	Fields  map[string]any
	// MayApprove says that the person has the right to approve changes.
	MayApprove bool
}

// Answer gives a person's answer to a question to its run; see Decide. Whoever calls it asks StillRunning first,
// outside of any transaction.
func (s *Sheet) Answer(question *store.Question, r Reply) (refused, err error) {
	err = s.speak(question.Run, func(st *flow.State) (flow.Place, []flow.Body, error) {
		q, place := st.OpenQuestion(question.ID)
		switch {
		case q == nil || !s.e.Clock().Before(q.Until):
			return flow.Place{}, nil, ErrNotOpen
		case len(q.Choices) > 0 && !slices.Contains(q.Choices, r.Choice):
			return flow.Place{}, nil, ErrNoChoice
		case r.Choice == flow.DoItAgain && q.Attempt != "" && !r.MayApprove:
			return flow.Place{}, nil, ErrNoRight
		}
		var say []flow.Body
		if flow.SaysNotBegun(r.Choice) && q.Attempt != "" {
			if err := s.notBegun(st, q); err != nil {
				return flow.Place{}, nil, err
			}
			// Whoever calls this saw that it does not run, or that nobody can see it.
			say = append(say, flow.Rested{Attempt: q.Attempt})
		}
		if a, approves := q.Approves[r.Choice]; approves {
			if err := s.mayApprove(st, a, r); err != nil {
				return flow.Place{}, nil, err
			}
		}
		fields, err := accepted(st, place, q, r)
		return place, append(say, flow.QuestionAnswered{
			Question: question.ID, Choice: r.Choice, By: r.By, Person: r.Person, Comment: r.Comment, Fields: fields,
		}), err
	})
	return s.word(question.Run, question.ID, question.Title, r.By, r.Choice, err)
}

// notBegun refuses to let a change count as not begun that was reported meanwhile, or that somebody may still begin.
func (s *Sheet) notBegun(st *flow.State, q *flow.QuestionRaised) error {
	if late := st.Late(q.Attempt); late != nil && late.State == flow.OK {
		return fmt.Errorf("%w: it was reported meanwhile, and %s", ErrMayBegin, late.Says())
	}
	if q.Attempt == "" {
		return nil
	}
	may, host, err := s.tx.MayBegin(q.By)
	if err != nil || !may {
		return err
	}
	return fmt.Errorf("%w: instance %s on %s may still begin it; stop it there, or wait until it reports, "+
		"or say that it is gone with urgentis instance gone %s", ErrMayBegin, q.By, host, q.By)
}

// authors tells who wrote what would run: who pushed the revision, and who put the files into the store that it sends.
func (s *Sheet) authors(p leave.Proposal) (author string, senders []string, err error) {
	if author, err = s.tx.PushedBy(p.Revision); err != nil {
		return "", nil, fmt.Errorf("read who pushed the revision: %w", err)
	}
	for _, r := range p.Requests {
		if r.File == nil || r.File.Digest == "" {
			continue
		}
		f, err := s.tx.Stored(r.File.Digest)
		if errors.Is(err, store.ErrNotFound) {
			continue // what is gone cannot be sent
		}
		if err != nil {
			return "", nil, fmt.Errorf("read who put a file into the store: %w", err)
		}
		if !slices.Contains(senders, f.AddedBy) {
			senders = append(senders, f.AddedBy)
		}
	}
	return author, senders, nil
}

// mayApprove judges an answer that lets a change happen as the gate of that change would be judged.
func (s *Sheet) mayApprove(st *flow.State, a flow.Approvable, r Reply) error {
	if !r.MayApprove {
		return ErrNoRight
	}
	author, senders, err := s.authors(a.Proposal)
	if err != nil {
		return err
	}
	return leave.Approval{
		Person: flow.GateDecided{By: r.By, Person: r.Person}.Decider(), Requester: st.Begun.Requester(), Author: author,
		Senders: senders, Comment: r.Comment, CommentNeeded: a.Comment,
	}.Refused()
}

// accepted checks the fields of an answer as the runbook wants them.
func accepted(s *flow.State, place flow.Place, q *flow.QuestionRaised, r Reply) (map[string]any, error) {
	if r.Choice == runbook.Back || r.Choice == runbook.NoneOfThese || q.Attempt != "" {
		return nil, nil
	}
	step, _ := flow.Find(s.Book(), place)
	if step == nil || step.Ask == nil {
		return nil, nil
	}
	fields, err := step.Ask.AcceptFields(r.Fields)
	if err != nil {
		return nil, fmt.Errorf("%w: %w", ErrField, err)
	}
	return fields, nil
}

// Cancel stops a run: what is under way is ended, the changes are undone first where that is asked. ErrNotOpen says
// that it is over already.
func (s *Sheet) Cancel(run string, c flow.CancelAsked) error {
	if was, err := s.endQuarantined(run, c.By, c.Because); was || err != nil {
		return err
	}
	return s.speak(run, func(st *flow.State) (flow.Place, []flow.Body, error) {
		if st.Ended != nil || st.Cancelled() && !(c.Undo && st.MayAskUndo()) {
			return flow.Place{}, nil, ErrNotOpen
		}
		return flow.Place{}, []flow.Body{c}, nil
	})
}

// Resume tells the runs that wait because all was halted that changes go on. Those that it cannot tell find it out by
// themselves within minutes.
func (e *Engine) Resume(ctx context.Context, by string) error {
	runs, err := e.Store.In(ctx).HaltedRuns()
	if err != nil {
		return fmt.Errorf("find the runs that wait: %w", err)
	}
	var failed error
	for _, id := range runs {
		err := e.speakTo(ctx, id, func(s *flow.State) (flow.Place, []flow.Body, error) {
			if s.Ended != nil {
				return flow.Place{}, nil, errNothing
			}
			return flow.Place{}, []flow.Body{flow.Resumed{By: by}}, nil
		})
		if err != nil && !errors.Is(err, errNothing) && !errors.Is(err, ErrNotOpen) {
			failed = err
		}
	}
	return failed
}

// AlertChanged tells the runs that an alert started how it is now; the sheet is that of the alert's own transaction.
func (s *Sheet) AlertChanged(alert string, c flow.AlertChanged) error {
	runs, err := s.tx.RunsOfAlert(alert)
	if err != nil {
		return err
	}
	for _, id := range runs {
		err := s.speak(id, func(st *flow.State) (flow.Place, []flow.Body, error) {
			if st.Ended != nil {
				return flow.Place{}, nil, errNothing
			}
			return flow.Place{}, []flow.Body{c}, nil
		})
		switch {
		case err == nil, errors.Is(err, errNothing), errors.Is(err, flow.ErrNewer):
		case errors.Is(err, ErrUnsound), errors.Is(err, errLog):
			// Whoever drives the run next ends it with a sentence; its alert must not wait for that.
			s.e.Log.Error("a run cannot hear of its alert", "run", id, "error", err)
		default:
			return err
		}
	}
	return nil
}

// judge says what is to be added to a log, as it is, and where; or why nothing is.
type judge func(*flow.State) (place flow.Place, say []flow.Body, err error)

// speakTo appends events to a run's log without owning it, in a transaction of its own.
func (e *Engine) speakTo(ctx context.Context, run string, j judge) error {
	return e.Write(ctx, func(s *Sheet) error { return s.speak(run, j) })
}

// speak appends events to a run's log without owning it, judged on the log as it is. Whoever drives the run is told
// once it is on disk.
func (s *Sheet) speak(run string, j judge) error {
	r, err := s.tx.Lock(run)
	if err != nil {
		return err
	}
	log, err := s.tx.Log(run, 0)
	if err != nil {
		return err
	}
	book, err := s.e.BookOf(s.tx.Context(), log)
	if err != nil {
		return err
	}
	m, err := flow.Open(book, log)
	if errors.Is(err, flow.ErrNewer) {
		return err
	} else if err != nil {
		return fmt.Errorf("%w: %w", errLog, err)
	}
	place, say, err := j(m.State())
	if err != nil {
		return err
	}
	if r.EndedAt != nil && slices.ContainsFunc(say, func(b flow.Body) bool { return !isLate(b) }) {
		return ErrNotOpen // it was ended without its log, which may still show something open
	}
	events := make([]flow.Event, len(say))
	for i, b := range say {
		if events[i], err = m.Append(flow.Event{At: s.e.Now(), Place: place, Body: b}); err != nil {
			return err
		}
	}
	if err := s.Bulk.Speak(r, events, headOf(m.State(), s.e.Now())); err != nil {
		return err
	}
	s.tx.After(func(committed bool) {
		if committed {
			s.e.poke(run)
		}
	})
	return s.project(r, book, m.State(), events)
}

// isLate reports whether something is still taken in of a run that is over: how an attempt ended, and what its job is
// known by.
func isLate(b flow.Body) bool {
	switch b.(type) {
	case flow.Outcome, flow.Followed:
		return true
	}
	return false
}

package app

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"urgentis/core/access"
	"urgentis/core/expr"
	"urgentis/core/flow"
	"urgentis/core/leave"
	"urgentis/core/links"
	"urgentis/core/tell"
	"urgentis/internal/engine"
	"urgentis/internal/store"
)

// Gate is a gate with what would run and on which evidence.
type Gate struct {
	store.Gate
	Raised   flow.GateRaised
	Run      store.Run
	Evidence []Evidence
	// Brief is what somebody needs to decide it; nil in lists.
	Brief *Brief
	// MayDecide says that whoever looks at it may decide it.
	MayDecide bool
}

// Evidence is one reading as it was taken last.
type Evidence struct {
	Reading, Target, Value, Unit string
	At                           time.Time
}

// Gates lists the open gates.
func (a *App) Gates(ctx context.Context, who *access.Principal) ([]Gate, error) {
	scope, err := see(who)
	if err != nil {
		return nil, err
	}
	list, err := a.store.In(ctx).OpenGates(scope)
	if err != nil {
		return nil, err
	}
	return a.showGates(ctx, who, list)
}

// Gate reads one gate, open or not.
func (a *App) Gate(ctx context.Context, who *access.Principal, id string) (*Gate, error) {
	row, err := a.store.In(ctx).Gate(id)
	if err != nil {
		return nil, named(err, "gate %s", id)
	}
	list, err := a.showGates(ctx, who, []store.Gate{*row})
	if err != nil {
		return nil, err
	}
	if err := access.Can(who, access.See, ofRun(&list[0].Run)); err != nil {
		return nil, err
	}
	log, err := a.store.In(ctx).Log(row.Run, 0)
	if err != nil {
		return nil, err
	}
	list[0].Brief, err = a.brief(ctx, who, &list[0], log)
	return &list[0], err
}

func (a *App) showGates(ctx context.Context, who *access.Principal, list []store.Gate) ([]Gate, error) {
	out := make([]Gate, len(list))
	tx := a.store.In(ctx)
	for i, g := range list {
		run, err := tx.Run(g.Run)
		if err != nil {
			return nil, err
		}
		log, err := tx.Log(g.Run, 0)
		if err != nil {
			return nil, err
		}
		out[i] = Gate{Gate: g, Run: *run, Evidence: newestReadings(log)}
		if err := json.Unmarshal(g.Raised, &out[i].Raised); err != nil {
			return nil, fmt.Errorf("read gate %s: %w", g.ID, err)
		}
		out[i].MayDecide = access.Can(who, access.Decide, ofRun(run)) == nil && mayDecide(who, log)
	}
	return out, nil
}

// mayDecide reports whether somebody who has the right may decide the gates of a run: not who asked for its changes.
func mayDecide(who *access.Principal, log []flow.Event) bool {
	if len(log) == 0 {
		return false
	}
	begun, _ := log[0].Body.(flow.Begun)
	asked := leave.Approval{Person: who.Behind(), Requester: begun.Requester()}
	return !errors.Is(asked.Refused(), leave.ErrOwnRequest)
}

// newestReadings are the evidence shown at a gate: per reading and target the newest taking.
func newestReadings(log []flow.Event) []Evidence {
	newest := map[string]int{}
	out := []Evidence{}
	for _, e := range log {
		o, ok := e.Body.(flow.Outcome)
		if !ok {
			continue
		}
		for name, t := range o.Readings {
			x := Evidence{Reading: name, Target: t.Target, Value: expr.Say(t.Value), Unit: t.Unit, At: t.At.UTC()}
			key := name + "/" + t.Target
			if i, ok := newest[key]; ok {
				out[i] = x
				continue
			}
			newest[key] = len(out)
			out = append(out, x)
		}
	}
	return out
}

// Decision is what a person says about a gate.
type Decision struct {
	Approve         bool
	Comment, Digest string
	// StartAt is when the change may begin at the earliest; nil: at once.
	StartAt *time.Time
}

// DecideGate gives a person's decision to the run that waits for it.
func (a *App) DecideGate(ctx context.Context, who *access.Principal, id string, d Decision) (*Gate, error) {
	var refused error
	err := a.write(ctx, func(s *engine.Sheet) error {
		g, err := s.Tx().Gate(id)
		if err != nil {
			return named(err, "gate %s", id)
		}
		if _, err := a.canRun(s.Tx(), who, access.Decide, g.Run); err != nil {
			return err
		}
		refused, err = s.Decide(g, engine.Word{
			Approve: d.Approve, By: who.Name, Person: who.Owner, Comment: d.Comment, Digest: d.Digest,
			StartAt: d.StartAt,
		})
		if errors.Is(refused, engine.ErrNotOpen) {
			refused = overAlready(g)
		}
		return err
	})
	if err == nil {
		err = refused
	}
	if err != nil {
		return nil, err
	}
	return a.Gate(ctx, who, id)
}

// overAlready says how a gate ended that somebody decides too late.
func overAlready(g *store.Gate) error {
	if g.DecidedBy == "" {
		return engine.ErrNotOpen
	}
	return fmt.Errorf("%w: it was %s by %s", engine.ErrNotOpen, g.State, g.DecidedBy)
}

// Question is a question with what there is to choose, and on which evidence.
type Question struct {
	store.Question
	Raised   flow.QuestionRaised
	Run      store.Run
	Evidence []Evidence
	// Brief is what somebody needs to answer it.
	Brief *Brief
	// Barred says why a choice cannot be taken now; "" where it can.
	Barred map[string]string
	// Way is how the procedure came here, question by question.
	Way []tell.Question
	// Knowledge is what whoever is asked may need to know, in Markdown; Says what a choice comes to in the author's
	// words, by choice.
	Knowledge string
	Says      map[string]string
	// Links are pages outside that tell more.
	Links []links.Link
}

// Questions lists the open questions.
func (a *App) Questions(ctx context.Context, who *access.Principal) ([]Question, error) {
	scope, err := see(who)
	if err != nil {
		return nil, err
	}
	list, err := a.store.In(ctx).OpenQuestions(scope)
	if err != nil {
		return nil, err
	}
	return a.showQuestions(ctx, who, list)
}

// Question reads one question, open or not.
func (a *App) Question(ctx context.Context, who *access.Principal, id string) (*Question, error) {
	row, err := a.store.In(ctx).Question(id)
	if err != nil {
		return nil, named(err, "question %s", id)
	}
	list, err := a.showQuestions(ctx, who, []store.Question{*row})
	if err != nil {
		return nil, err
	}
	return &list[0], access.Can(who, access.See, ofRun(&list[0].Run))
}

func (a *App) showQuestions(ctx context.Context, who *access.Principal, list []store.Question) ([]Question, error) {
	out := make([]Question, len(list))
	tx := a.store.In(ctx)
	for i, q := range list {
		run, err := tx.Run(q.Run)
		if err != nil {
			return nil, err
		}
		log, err := tx.Log(q.Run, 0)
		if err != nil {
			return nil, err
		}
		out[i] = Question{Question: q, Run: *run, Evidence: newestReadings(log), Barred: map[string]string{}}
		raised := &out[i].Raised
		if err := json.Unmarshal(q.Raised, raised); err != nil {
			return nil, fmt.Errorf("read question %s: %w", q.ID, err)
		}
		for _, c := range raised.Choices {
			if flow.SaysNotBegun(c) {
				out[i].Barred[c] = a.barred(tx, raised, log)
			}
		}
		if err := a.guide(ctx, tx, &out[i], log); err != nil {
			a.log.Error("tell the way to a question", "question", q.ID, "error", err)
		}
		if out[i].Brief, err = a.questionBrief(ctx, who, &out[i], log); err != nil {
			// It can be answered without.
			a.log.Error("tell what somebody needs to answer a question", "question", q.ID, "error", err)
		}
	}
	return out, nil
}

// guide adds what leads somebody through the procedure that a question is part of.
func (a *App) guide(ctx context.Context, tx *store.Tx, q *Question, log []flow.Event) error {
	book, err := a.engine.BookOf(ctx, log)
	if err != nil {
		return err
	}
	q.Way, q.Says = tell.QuestionsOf(book, log), map[string]string{}
	if step, _ := flow.Find(book, flow.PlaceOf(q.Path)); step != nil && step.Ask != nil && q.Raised.Attempt == "" {
		q.Knowledge = step.Ask.Knowledge
		for _, c := range step.Ask.Choices {
			q.Says[c.Name] = c.Says
		}
	}
	s, err := tx.Service(book.Service)
	if err != nil {
		return err
	}
	list := book.Links
	if s != nil {
		list = slices.Concat(list, s.Links)
	}
	sight := links.Sight{Service: book.Service, From: q.Run.BegunAt, Until: a.Now()}
	if q.Incident != nil {
		sight.Incident = *q.Incident
	}
	q.Links = a.filled(list, sight)
	return nil
}

// beforeLinks is how much of the time before something a page outside shows of it.
const beforeLinks = 15 * time.Minute

// filled gives links for what somebody looks at, which begins a while earlier.
func (a *App) filled(list []links.Link, s links.Sight) []links.Link {
	s.From = s.From.Add(-beforeLinks)
	out, wrong := links.Fill(list, s)
	for _, err := range wrong {
		a.log.Warn("a link cannot be filled in", "service", s.Service, "error", err)
	}
	return out
}

// barred says why a change whose outcome was unknown cannot count as not begun; "" where it can.
func (a *App) barred(tx *store.Tx, raised *flow.QuestionRaised, log []flow.Event) string {
	if raised.By != "" {
		if may, host, err := tx.MayBegin(raised.By); err == nil && may {
			return fmt.Sprintf("instance %s on %s may still begin it", raised.By, host)
		}
	}
	for _, e := range slices.Backward(log) {
		switch b := e.Body.(type) {
		case flow.Outcome:
			if b.Attempt == raised.Attempt && b.State == flow.OK {
				return "it was reported meanwhile: " + b.Says()
			}
		case flow.Intent:
			if b.Attempt == raised.Attempt && raised.Attempt != "" && a.engine.StillRuns(b) {
				return "it still runs on " + b.Request.Target.Name
			}
		}
	}
	return ""
}

// Reply is what a person says to a question.
type Reply struct {
	Choice, Comment string
	Fields          map[string]any
}

// AnswerQuestion gives a person's answer to the run that waits for it.
func (a *App) AnswerQuestion(ctx context.Context, who *access.Principal, id string, r Reply) error {
	q, err := a.store.In(ctx).Question(id)
	if err != nil {
		return named(err, "question %s", id)
	}
	run, err := a.canRun(a.store.In(ctx), who, access.Respond, q.Run)
	if err != nil {
		return err
	}
	// It asks a host, which must not keep a transaction open.
	if err := a.engine.StillRunning(ctx, q, r.Choice); err != nil {
		return err
	}
	var refused error
	err = a.write(ctx, func(s *engine.Sheet) (err error) {
		refused, err = s.Answer(q, engine.Reply{
			Choice: r.Choice, By: who.Name, Person: who.Owner, Comment: r.Comment, Fields: r.Fields,
			MayApprove: access.Can(who, access.Decide, ofRun(run)) == nil,
		})
		return err
	})
	return errors.Join(err, refused)
}

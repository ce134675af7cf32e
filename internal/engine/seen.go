package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"urgentis/core/flow"
	"urgentis/internal/store"
)

// StillRunning refuses to let a change be done again, or count as not done, while what it began is seen running on its
// target. Where nobody can see, it does not stand in the way. It asks the target, and takes as long as that does.
func (e *Engine) StillRunning(ctx context.Context, q *store.Question, choice string) error {
	if !flow.SaysNotBegun(choice) {
		return nil
	}
	in, err := e.askedAbout(ctx, q)
	if err != nil || in == nil {
		return nil // what is wrong with the question is said where it is answered
	}
	if running, err := e.running(ctx, *in); err == nil && running {
		return fmt.Errorf(
			"%w: it still runs on %s; wait for its end, or end it there",
			ErrMayBegin,
			in.Request.Target.Name,
		)
	}
	return nil
}

// askedAbout gives the change whose outcome an open question is about; nil for other questions.
func (e *Engine) askedAbout(ctx context.Context, q *store.Question) (*flow.Intent, error) {
	var raised flow.QuestionRaised
	if err := json.Unmarshal(q.Raised, &raised); err != nil || raised.Attempt == "" {
		return nil, err
	}
	log, err := e.Store.Log(ctx, q.Run, 0)
	if err != nil {
		return nil, err
	}
	for _, ev := range log {
		if in, ok := ev.Body.(flow.Intent); ok && in.Attempt == raised.Attempt {
			return &in, nil
		}
	}
	return nil, nil
}

// seen remembers for a moment which attempts were seen running, so that a list of questions need not wait for hosts.
type seen struct {
	mu    sync.Mutex
	cache *lru.Cache[string, sight]
}

type sight struct {
	running bool
	at      time.Time
}

// sightTime is for how long what was seen is shown.
const sightTime = 10 * time.Second

func newSeen() *seen {
	c, err := lru.New[string, sight](1000)
	if err != nil {
		panic(err) // its size is ours
	}
	return &seen{cache: c}
}

// look gives what was seen last, and reports whether it is to be looked at anew.
func (s *seen) look(attempt string, now time.Time) (running, stale bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	x, ok := s.cache.Get(attempt)
	if stale = !ok || now.Sub(x.at) > sightTime; stale {
		s.cache.Add(attempt, sight{x.running, now})
	}
	return x.running, stale
}

// StillRuns reports whether the command of an attempt was seen running on its target, lately. It does not wait: what it
// finds out it says the next time.
func (e *Engine) StillRuns(in flow.Intent) bool {
	running, stale := e.seen.look(in.Attempt, e.Clock())
	if stale {
		go func() {
			now, err := e.running(e.ctx, in)
			e.seen.cache.Add(in.Attempt, sight{now && err == nil, e.Clock()})
		}()
	}
	return running
}

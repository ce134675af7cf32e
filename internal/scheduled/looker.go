package scheduled

import (
	"time"

	"urgentis/internal/engine"
)

// Looker takes such looks with the hands of an engine.
type Looker struct {
	*engine.Engine
	hands *hands
	again chan struct{} // a place for each look that people take
}

// New makes one; Start begins its work.
func New(e *engine.Engine) (*Looker, error) {
	s, err := newHands()
	if err != nil {
		return nil, err
	}
	return &Looker{e, s, make(chan struct{}, maxAgain)}, nil
}

// Start begins to take what is due, until the engine stops.
func (e *Looker) Start() {
	e.Every(time.Second, "take the readings of open gates anew", e.watchDue)
	e.Go(func() {
		defer close(e.hands.ended)
		e.Round(dueEvery, "take scheduled looks", e.takeDue)
	})
	e.Go(e.keepStanding)
}

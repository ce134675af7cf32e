package telling

import (
	"context"

	"urgentis/core/route"
	"urgentis/internal/engine"
	"urgentis/internal/stories"
)

// Teller tells people and desks, beside an engine.
type Teller struct {
	*engine.Engine
	// FetchFeed reads the calendar of a rota; nil where none are read.
	FetchFeed func(ctx context.Context, f *route.Feed) (string, error)
	Stories   *stories.Stories
}

// Start begins to look for what is to be told, until the engine stops.
func (e *Teller) Start() {
	e.Every(noticeEvery, "tell people", e.TellDue)
	e.Every(deskEvery, "tell ticket desks", e.desksOnce)
	e.Every(shiftsEvery, "watch who is on call", e.shiftsOnce)
	e.Every(feedsEvery, "read rotas from calendars", e.feedsOnce)
}

// sheet is an engine's, with what is told.
type sheet struct {
	*engine.Sheet
	e *Teller
}

func (e *Teller) write(ctx context.Context, f func(s *sheet) error) error {
	return e.Write(ctx, func(s *engine.Sheet) error { return f(&sheet{s, e}) })
}

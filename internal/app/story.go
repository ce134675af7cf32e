package app

import (
	"context"

	"urgentis/core/access"
	"urgentis/core/story"
)

// Told is the story of an incident, as far as somebody has not read it yet.
type Told struct {
	Rows []story.Row
	Sum  story.Sum
	Last int64 // the newest entry that is in it
}

// Story gives the rows of an incident's story that altered after an entry, and what is to be read of all of it.
func (a *App) Story(ctx context.Context, who *access.Principal, number, after int64) (*Told, error) {
	tx := a.store.In(ctx)
	if _, err := a.seeIncident(tx, who, number); err != nil {
		return nil, err
	}
	out := &Told{}
	err := a.stories.Read(tx, number, func(f *story.Folder) {
		out.Rows, out.Sum, out.Last = f.Rows(after), f.Sum(), f.Last()
	})
	return out, err
}

package engine

import (
	"errors"
	"fmt"
	"time"

	"urgentis/core/calendar"
	documents "urgentis/core/estate"
	"urgentis/core/route"
	"urgentis/internal/store"
)

// Team reads a team and who stands in for whom; nil where there is no such team.
func (e *Engine) Team(tx *store.Tx, name string, at time.Time) (*route.Team, []calendar.StandIn, error) {
	d, err := tx.Document(documents.Team, name)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil, nil
	} else if err != nil {
		return nil, nil, fmt.Errorf("read the team %s: %w", name, err)
	}
	docs, found := documents.Parse([]documents.File{{Name: name, Text: d.Text}})
	if len(docs) != 1 {
		return nil, nil, fmt.Errorf("the team %s cannot be read: %s", name, found[0].Sentence())
	}
	if err := e.fill(tx, docs[0].Team, at); err != nil {
		return nil, nil, err
	}
	in, err := tx.StandIns(name, at)
	return docs[0].Team, store.InRota(in), err
}

// NameOf tells who a word such as on-call/quayside means at a moment. What cannot be told stays as it is written: who
// is asked must not depend on it.
func (e *Engine) NameOf(tx *store.Tx, word string, at time.Time) string {
	name, _ := route.TeamOf(word)
	if name == "" {
		return word
	}
	team, in, err := e.Team(tx, name, at)
	if err != nil {
		e.Log.Error("tell who is on call", "team", name, "error", err)
		return word
	}
	return route.Name(word, team, at, in)
}

// namer is NameOf in one transaction.
func (e *Engine) namer(tx *store.Tx) func(word string, at time.Time) string {
	return func(word string, at time.Time) string { return e.NameOf(tx, word, at) }
}

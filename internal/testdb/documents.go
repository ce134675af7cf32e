package testdb

import (
	"context"
	"errors"

	"urgentis/core/estate"
	"urgentis/internal/store"
)

// Push keeps documents as they are, for tests that need some and no right to push them.
func Push(s *store.Store, text string) error {
	docs, found := estate.Parse([]estate.File{{Name: "test", Text: text}})
	if estate.Failed(found) {
		return errors.New(found[0].Sentence())
	}
	return s.Tx(context.Background(), func(tx *store.Tx) error {
		p := &store.Push{By: "test"}
		if err := tx.AddPush(p); err != nil {
			return err
		}
		for _, d := range docs {
			if err := tx.PushDocument(p, d); err != nil {
				return err
			}
		}
		return nil
	})
}

// Room keeps the document of a room at an address.
func Room(s *store.Store, name, url string) error {
	return Push(s, "urgentis: connection/1\nname: "+name+"\nkind: room\nurl: "+url+"\n")
}

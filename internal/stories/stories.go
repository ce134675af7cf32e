// Package stories keeps records folded into stories (core/story), so that a record that grows is not read anew for
// whoever reads it: only what came since is.
package stories

import (
	"fmt"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"urgentis/core/incident"
	"urgentis/core/story"
	"urgentis/internal/store"
)

const (
	// kept is how many stories are kept.
	kept = 64
	// page is how many entries are read at once.
	page = 5000
)

// Stories are the stories that were read last.
type Stories struct {
	kept *lru.Cache[int64, *told]
}

// told is a story as far as it was read. Whoever uses it holds its lock.
type told struct {
	sync.Mutex
	*story.Folder
	strip *incident.Drawing
	hash  string // of the newest entry
}

// New makes room for stories.
func New() *Stories {
	c, err := lru.New[int64, *told](kept)
	if err != nil {
		panic(err) // its size is ours
	}
	return &Stories{kept: c}
}

// Read gives the story of an incident to whoever reads it, up to the newest entry that the transaction sees. The story
// is not to be used after read has returned.
func (s *Stories) Read(tx *store.Tx, number int64, read func(*story.Folder)) error {
	return s.told(tx, number, func(t *told) { read(t.Folder) })
}

// Strip gives the picture of an incident, as it is at a time.
func (s *Stories) Strip(tx *store.Tx, i *store.Incident, now time.Time) (out incident.Strip, err error) {
	var closed time.Time
	if i.ClosedAt != nil {
		closed = i.ClosedAt.UTC()
	}
	err = s.told(tx, i.Number, func(t *told) { out = t.strip.Strip(i.OpenedAt.UTC(), closed, now) })
	return out, err
}

func (s *Stories) told(tx *store.Tx, number int64, read func(*told)) error {
	t, known := s.kept.Get(number)
	if !known {
		t = begun()
		s.kept.Add(number, t)
	}
	t.Lock()
	defer t.Unlock()
	if err := t.catchUp(tx, number); err != nil {
		s.kept.Remove(number)
		return err
	}
	read(t)
	return nil
}

func begun() *told { return &told{Folder: story.New(), strip: incident.NewDrawing()} }

// catchUp takes in what was written since. A record whose newest entry is not the one that was read, as a transaction
// was rolled back or the database put back to an older state, is read anew.
func (t *told) catchUp(tx *store.Tx, number int64) error {
	for {
		after := t.Last()
		list, err := tx.Entries(number, max(0, after-1), page)
		if err != nil {
			return fmt.Errorf("read the story of incident %d: %w", number, err)
		}
		if after > 0 {
			if len(list) == 0 || list[0].Hash != t.hash {
				fresh := begun()
				t.Folder, t.strip, t.hash = fresh.Folder, fresh.strip, ""
				continue
			}
			list = list[1:]
		}
		for i := range list {
			e := list[i].Sealed()
			t.Add(&e)
			t.strip.Add(&e)
			t.hash = e.Hash
		}
		if len(list) < page-1 {
			return nil
		}
	}
}

package intake

import (
	"errors"
	"fmt"
	"strings"
	"sync"
	"urgentis/core/runbook"
	"urgentis/core/trigger"
	"urgentis/internal/engine"

	"gorm.io/gorm"
)

// cache keeps the triggers of all runbooks, as they were last pushed.
type cache struct {
	mu      sync.Mutex
	version int64
	loaded  *loaded
}

type loaded struct {
	index *trigger.Index
	books map[string]*runbook.Book
}

func (c *cache) load(tx *gorm.DB, e *engine.Engine, version int64) (*loaded, error) {
	var rows []struct {
		Name     string
		Revision string
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.loaded != nil && c.version == version {
		return c.loaded, nil
	}
	if err := tx.Raw("select r.name, v.revision from runbook r join revision v on v.name = r.name and v.number = r.number order by r.name").Scan(&rows).Error; err != nil {
		return nil, fmt.Errorf("read runbooks: %w", err)
	}
	l := &loaded{books: map[string]*runbook.Book{}}
	var all []trigger.Trigger
	var bad []string
	for _, r := range rows {
		b, err := e.Book(tx.Statement.Context, r.Revision)
		if errors.Is(err, engine.ErrUnsound) {
			bad = append(bad, err.Error())
			continue
		}
		if err != nil {
			return nil, err // the database did not answer: nothing is known of the triggers, and that is not kept
		}
		l.books[r.Name] = b
		for _, s := range b.Starts {
			all = append(all, trigger.Trigger{Runbook: r.Name, Name: s.Name, Condition: s.Alert})
		}
	}
	if len(bad) > 0 {
		e.Log.Error("runbooks that this program cannot read do not start", "runbooks", strings.Join(bad, "; "))
	}
	l.index = trigger.New(all)
	c.version, c.loaded = version, l
	return l, nil
}

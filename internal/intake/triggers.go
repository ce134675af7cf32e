package intake

import (
	"errors"
	"fmt"
	"strings"
	"sync"

	"urgentis/core/runbook"
	"urgentis/core/trigger"
	"urgentis/internal/engine"
	"urgentis/internal/store"
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

// verdicts tells what starts, and where there are not too many triggers, why the others do not.
func (l *loaded) verdicts(snapshot map[string]any) []trigger.Verdict {
	if len(l.books) <= maxExplained {
		return l.index.Explain(snapshot)
	}
	return l.index.Match(snapshot)
}

func (c *cache) load(tx *store.Tx, e *engine.Engine, version int64) (*loaded, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.loaded != nil && c.version == version {
		return c.loaded, nil
	}
	rows, err := tx.Current()
	if err != nil {
		return nil, fmt.Errorf("read runbooks: %w", err)
	}
	l := &loaded{books: map[string]*runbook.Book{}}
	var all []trigger.Trigger
	var bad []string
	for _, r := range rows {
		b, err := e.Book(tx.Context(), r.Revision)
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

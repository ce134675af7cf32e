package engine

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"urgentis/core/expr"
	"urgentis/core/flow"
	"urgentis/core/reading"
	"urgentis/core/runbook"
	"urgentis/internal/store"
)

// taken is what looks read that just ended, as it outlives their run.
type taken struct {
	series []store.Series
	rows   []store.Reading // Series is where in series it stands, until that has a number
}

// takings collects what the looks among events read. What is sealed is kept nowhere but in the run's own log.
func takings(run *store.Run, book *runbook.Book, s *flow.State, events []flow.Event) taken {
	var t taken
	for _, ev := range events {
		b, ok := ev.Body.(flow.Outcome)
		if !ok || len(b.Readings) == 0 {
			continue
		}
		in, _, _, ok := s.Attempt(b.Attempt)
		if !ok {
			continue
		}
		t.look(book, in.Look, b.Readings, run.ID)
	}
	return t
}

// join takes in what another one has.
func (t *taken) join(o taken) {
	above := int64(len(t.series))
	for _, r := range o.rows {
		r.Series += above
		t.rows = append(t.rows, r)
	}
	t.series = append(t.series, o.series...)
}

// look takes in what one look read; run is "" outside of one.
func (t *taken) look(book *runbook.Book, path string, readings map[string]expr.Taking, run string) {
	look, of := flow.Find(book, path)
	if look == nil {
		return
	}
	for name, x := range readings {
		i := slices.IndexFunc(look.Read, func(r reading.Spec) bool { return r.Name == name })
		if i < 0 || look.Read[i].Sealed {
			continue
		}
		t.add(store.Series{Service: of.Service, Target: x.Target, Name: name, Unit: x.Unit,
			Good: string(look.Read[i].Good)}, x, run)
	}
}

func (t *taken) add(s store.Series, x expr.Taking, run string) {
	r := store.Reading{Series: int64(len(t.series)), At: x.At}
	if run != "" {
		r.Run = &run
	}
	if v, ok := expr.AsNumber(x.Value); ok {
		r.Value = &v
	} else {
		said := saidAs(x.Value)
		r.Said = &said
	}
	t.series, t.rows = append(t.series, s), append(t.rows, r)
}

// saidAs is a value that is no number as it is kept: text as it is, what has a structure as JSON.
func saidAs(v any) string {
	text, ok := v.(string)
	if !ok {
		b, err := json.Marshal(v)
		if err != nil {
			b = fmt.Append(nil, v)
		}
		text = string(b)
	}
	if len(text) > store.MaxSaid {
		text = strings.ToValidUTF8(text[:store.MaxSaid], "") + "…"
	}
	return text
}

// identify finds the numbers of the series, and begins those that are new.
func (t *taken) identify(ctx context.Context, s *store.Store) error {
	if len(t.rows) == 0 {
		return nil
	}
	ids, err := s.IdentifySeries(ctx, t.series)
	if err != nil {
		return err
	}
	for i := range t.rows {
		t.rows[i].Series = ids[t.series[i].Key()]
	}
	return nil
}

const (
	// thinEvery is how often readings that have become old are put together.
	thinEvery = time.Minute
	// maxSlices bounds how many slices of them are put together at once.
	maxSlices = 200
)

// thinReadings puts readings together that have become old.
func (e *Engine) thinReadings() { e.every(thinEvery, "put old readings together", e.thinOnce) }

func (e *Engine) thinOnce(ctx context.Context) error {
	for range maxSlices {
		if more, err := e.Store.ThinReadings(ctx, e.Now()); err != nil || !more {
			return err
		}
	}
	return nil
}

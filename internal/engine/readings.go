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

// Readings are what looks read that just ended, as it outlives their run.
type Readings struct {
	series []store.Series
	Rows   []store.Reading // Series is where in series it stands, until that has a number
}

// samples collects what the looks among events read. What is sealed is kept nowhere but in the run's own log.
func samples(run *store.Run, book *runbook.Book, s *flow.State, events []flow.Event) Readings {
	var t Readings
	for _, ev := range events {
		b, ok := ev.Body.(flow.Outcome)
		if !ok || len(b.Readings) == 0 {
			continue
		}
		in, _, _, ok := s.Attempt(b.Attempt)
		if !ok {
			continue
		}
		t.Look(book, in.Look, b.Readings, run.ID)
	}
	return t
}

// Join takes in what another one has.
func (t *Readings) Join(o Readings) {
	above := int64(len(t.series))
	for _, r := range o.Rows {
		r.Series += above
		t.Rows = append(t.Rows, r)
	}
	t.series = append(t.series, o.series...)
}

// Look takes in what one look read; run is "" outside of one.
func (t *Readings) Look(book *runbook.Book, place flow.Place, readings map[string]expr.Sample, run string) {
	look, of := flow.Find(book, place)
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

func (t *Readings) add(s store.Series, x expr.Sample, run string) {
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
	t.series, t.Rows = append(t.series, s), append(t.Rows, r)
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

// Identify finds the numbers of the series, and begins those that are new.
func (t *Readings) Identify(ctx context.Context, s *store.Store) error {
	if len(t.Rows) == 0 {
		return nil
	}
	ids, err := s.IdentifySeries(ctx, t.series)
	if err != nil {
		return err
	}
	for i := range t.Rows {
		t.Rows[i].Series = ids[t.series[i].Key()]
	}
	return nil
}

const (
	// thinEvery is how often readings that have become old are put together.
	thinEvery = time.Minute
	// maxSlices bounds how many slices of them are put together at once.
	maxSlices = 200
)

// thinOnce puts readings together that have become old.
func (e *Engine) thinOnce(ctx context.Context) error {
	for range maxSlices {
		if more, err := e.Store.ThinReadings(ctx, e.Now()); err != nil || !more {
			return err
		}
	}
	return nil
}

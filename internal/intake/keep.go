package intake

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"urgentis/core/source"
	"urgentis/internal/store"
)

// keeping is the last stage: what came of a batch beside what the engine writes.
type keeping struct {
	*moment
	fresh   []*store.Alert // raised in this batch, written at its end
	sources map[string]bool
	// made are what was sent, by the request that sent it, and came the alerts that came of them.
	made map[*source.Payload]*store.Payload
	came map[store.AlertPayload]bool
}

func newKeeping(m *moment) *keeping {
	return &keeping{moment: m, sources: map[string]bool{}, made: map[*source.Payload]*store.Payload{},
		came: map[store.AlertPayload]bool{}}
}

// idOf is that of a payload; "" without one.
func (k *keeping) idOf(p *source.Payload) string {
	if p == nil {
		return ""
	}
	if k.made[p] == nil {
		k.made[p] = store.NewPayload(*p, k.now)
	}
	return k.made[p].ID
}

// changedBy notes that a payload raised or changed an alert.
func (k *keeping) changedBy(p *source.Payload, alert string) {
	if p != nil {
		k.came[store.AlertPayload{Alert: alert, Payload: k.idOf(p)}] = true
	}
}

// payloads are those that are kept: of which an alert came, or at which something fired.
func (k *keeping) payloads(firings []*store.Firing) (out []*store.Payload) {
	named := map[string]bool{}
	for c := range k.came {
		named[c.Payload] = true
	}
	for _, f := range firings {
		named[f.Payload] = true
	}
	for _, p := range k.made {
		if named[p.ID] {
			out = append(out, p)
		}
	}
	return out
}

// flush writes what was collected.
func (k *keeping) flush(firings []*store.Firing) error {
	if err := store.Add(k.sheet.Bulk, k.fresh); err != nil {
		return fmt.Errorf("keep alerts: %w", err)
	}
	if err := store.Add(k.sheet.Bulk, firings); err != nil {
		return fmt.Errorf("keep what came of triggers: %w", err)
	}
	if err := store.Add(k.sheet.Bulk, k.payloads(firings)); err != nil {
		return fmt.Errorf("keep payloads: %w", err)
	}
	if err := store.Add(k.sheet.Bulk, slices.Collect(maps.Keys(k.came))); err != nil {
		return fmt.Errorf("keep payloads of alerts: %w", err)
	}
	for _, a := range k.fresh {
		k.in.saw(a)
	}
	return nil
}

// mark marks the sources as heard. Every alert need not lock the source's row: a mark each second is enough.
func (k *keeping) mark() error {
	for s := range k.sources {
		if last, ok := k.in.marked.Get(s); ok && k.now.Sub(last) < time.Second {
			continue
		}
		k.in.marked.Add(s, k.now)
		if err := k.tx.MarkSource(s); err != nil {
			return err
		}
	}
	return nil
}

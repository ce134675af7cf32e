package demo

import (
	"errors"
	"math"
	"sync"
	"time"
)

// tideGauges is how many tide gauges there are.
const tideGauges = 3

// Tides are the tide gauges. One of them may stall: it goes on saying what it read last.
type Tides struct {
	mu      sync.Mutex
	stalled map[string]time.Time
}

// NewTides makes gauges that read.
func NewTides() *Tides { return &Tides{stalled: map[string]time.Time{}} }

// Stall stalls a gauge, or has it read again.
func (t *Tides) Stall(host string, stalled bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if delete(t.stalled, host); stalled {
		t.stalled[host] = time.Now().Add(-40 * time.Second)
	}
}

// tideEvery is how often a gauge reads; tide how long one tide takes at the Merrow Line, where they are short.
const (
	tideEvery = 5 * time.Second
	tide      = 20 * time.Minute
)

// level is how high the water stands at a time, in centimetres.
func level(at time.Time) float64 {
	return math.Round(240 + 130*math.Sin(2*math.Pi*at.Sub(time.Unix(0, 0)).Seconds()/tide.Seconds()))
}

// gaugectl is the program on the gauges' hosts.
func (t *Tides) gaugectl(c call) (string, error) {
	if len(c.args) != 1 || c.args[0] != "last" {
		return "", errors.New("usage: gaugectl last")
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	at := time.Now().Truncate(tideEvery)
	if since, ok := t.stalled[c.host.Name]; ok {
		at = since
	}
	return printed(map[string]any{"gauge": c.host.Name, "level_cm": level(at), "age_s": int(time.Since(at).Seconds())})
}

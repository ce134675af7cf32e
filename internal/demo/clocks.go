package demo

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// clocks is how many crossing clocks there are.
const clocks = 12

// wanted is how every clock should be set.
var wanted = map[string]any{"servers": []any{"tide-1", "tide-2"}, "step_limit_ms": 500}

// Clocks are the crossing clocks: each follows its time servers, and drifts where one of them is wrong.
type Clocks struct {
	Ledger
	set map[string]*clock
}

type clock struct {
	servers []string
	offset  float64 // ms
	since   time.Time
}

// drift is how fast a clock with a wrong server drifts, in ms per second.
const drift = 20.0

// NewClocks makes clocks that are right.
func NewClocks() *Clocks {
	c := &Clocks{set: map[string]*clock{}}
	for i := 1; i <= clocks; i++ {
		c.set[fmt.Sprintf("clock-%02d", i)] = &clock{
			servers: []string{"tide-1", "tide-2"},
			offset:  float64(i%5) * 1.5,
			since:   time.Now(),
		}
	}
	return c
}

func (k *clock) right() bool { return slices.Equal(k.servers, []string{"tide-1", "tide-2"}) }

func (k *clock) now() float64 {
	if k.right() {
		return k.offset
	}
	return k.offset + drift*time.Since(k.since).Seconds()
}

// Break gives some clocks an old time server, and sets them off.
func (c *Clocks) Break() []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	names := []string{"clock-03", "clock-05", "clock-08", "clock-11"}
	for i, n := range names {
		c.set[n].servers, c.set[n].offset, c.set[n].since = []string{
			"tide-old",
			"tide-2",
		}, 300+float64(
			40*i,
		), time.Now()
	}
	return names
}

// Worst is the offset of the clock that is farthest off, in ms.
func (c *Clocks) Worst() float64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	worst := 0.0
	for _, k := range c.set {
		worst = max(worst, k.now())
	}
	return worst
}

// clockctl is the program on the clocks.
func (c *Clocks) clockctl(call call) (string, error) {
	if len(call.args) == 0 {
		return "", fmt.Errorf("usage: clockctl offset|settings|set-servers A B|step")
	}
	look := func(f func(k *clock) any) (string, error) {
		c.mu.Lock()
		defer c.mu.Unlock()
		return printed(f(c.set[call.host.Name]))
	}
	switch call.args[0] {
	case "offset":
		return look(func(k *clock) any { return map[string]any{"ms": float64(int(k.now()*10)) / 10} })
	case "settings":
		return look(func(k *clock) any { return map[string]any{"servers": k.servers, "step_limit_ms": 500} })
	case "set-servers":
		return c.once(call, strings.Join(call.args, " "), func() (string, error) {
			k := c.set[call.host.Name]
			k.offset, k.since = k.now(), time.Now()
			k.servers = slices.Clone(call.args[1:])
			return "servers are " + strings.Join(k.servers, " "), nil
		})
	case "step":
		return c.once(call, "step", func() (string, error) {
			k := c.set[call.host.Name]
			k.offset, k.since = 1.5, time.Now()
			return "stepped", nil
		})
	}
	return "", fmt.Errorf("clockctl does not know %q", call.args[0])
}

package listen

import (
	"log/slog"
	"net/netip"
	"sync/atomic"
	"time"

	"urgentis/internal/meter"
)

// counts are what one listener heard.
type counts struct {
	name, address string

	heard   atomic.Int64 // all that arrived
	kept    atomic.Int64 // that is in a spool, or handed on
	strange atomic.Int64 // of no source, or not proven
	lost    atomic.Int64 // that there was no room for, or that came damaged
	dropped atomic.Int64 // by the system, before it was heard
	last    atomic.Pointer[string]
	said    atomic.Int64 // when damage was last logged, in seconds
}

// damaged counts a message that came damaged, and says so at most once a minute: whoever sends in a wrong form does so
// all the time.
func (n *counts) damaged(log *slog.Logger, from netip.Addr, kind string) {
	n.lost.Add(1)
	meter.Damaged.WithLabelValues(damages[kind]).Inc()
	now := time.Now().Unix()
	if was := n.said.Load(); now-was >= 60 && n.said.CompareAndSwap(was, now) {
		log.Warn("what is heard is damaged", "for", n.name, "from", from, "why", kind, "lost_so_far", n.lost.Load())
	}
}

// Status is what a listener heard since its instance began.
type Status struct {
	Name    string `json:"name"`
	Address string `json:"address"`
	Heard   int64  `json:"heard"`
	Kept    int64  `json:"kept"`
	Strange int64  `json:"strange"`
	Lost    int64  `json:"lost"`
	// Stranger is the address of the last that came of no source.
	Stranger string `json:"stranger"`
	// Waiting is how many bytes wait in spools, for all listeners together.
	Waiting int64 `json:"waiting"`
}

// stranger counts what is of no source, or did not prove itself.
func (n *counts) stranger(from netip.Addr) {
	n.strange.Add(1)
	text := from.String()
	n.last.Store(&text)
}

// Status tells what each listener heard.
func (e *Ears) Status() []Status {
	e.mu.Lock()
	var waiting, damaged int64
	for _, q := range e.queues {
		waiting += q.spool.Waiting()
		damaged += q.spool.Unreadable()
	}
	e.mu.Unlock()
	out := make([]Status, len(e.listeners))
	for i, n := range e.listeners {
		out[i] = Status{
			Name: n.name, Address: n.address, Heard: n.heard.Load(), Kept: n.kept.Load(), Strange: n.strange.Load(),
			Lost: n.lost.Load() + n.dropped.Load(), Waiting: waiting,
		}
		if last := n.last.Load(); last != nil {
			out[i].Stranger = *last
		}
	}
	if damaged > 0 && len(out) > 0 {
		// Bytes, where records can no longer be told apart: one at least.
		out[0].Lost++
	}
	return out
}

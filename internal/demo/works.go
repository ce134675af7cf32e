package demo

import (
	"errors"
	"fmt"
	"maps"
	"sync"
	"time"
)

// Works is a program of the simulated hosts for tests of the engine: it counts every change that it begins,
// by what and by attempt, and never takes two for one.
type Works struct {
	// Slow is how long a change takes; a job that was started takes five times as long.
	Slow time.Duration
	// Refuses tells of which keys the undo fails, having done nothing; nil for none.
	Refuses func(key string) bool

	mu     sync.Mutex
	begun  map[string]int
	undone map[string]int
	tries  map[string]int
	jobs   map[string]job
}

// job is one that a host does beside everything else.
type job struct {
	began   time.Time
	stopped bool
}

// NewWorks makes a program that has done nothing.
func NewWorks() *Works {
	return &Works{begun: map[string]int{}, undone: map[string]int{}, tries: map[string]int{},
		jobs: map[string]job{}}
}

// Begun tells how often each change was begun, and each taken back.
func (w *Works) Begun() (begun, undone map[string]int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return maps.Clone(w.begun), maps.Clone(w.undone)
}

// Attempt tells how often an attempt did what it was for.
func (w *Works) Attempt(id string) int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.tries[id]
}

// works is the program: works look|do|undo KEY.
func (w *Works) works(c call) (string, error) {
	if len(c.args) != 2 {
		return "", errors.New("usage: works look|do|undo KEY")
	}
	key := c.args[1] + " on " + c.host.Name
	w.mu.Lock()
	switch c.args[0] {
	case "do":
		w.begun[key]++
		w.tries[c.attempt]++
	case "undo":
		if w.Refuses != nil && w.Refuses(c.args[1]) {
			w.mu.Unlock()
			return "", fmt.Errorf("%s cannot be undone", key)
		}
		w.tries[c.attempt]++
		w.undone[key]++
	}
	n := w.begun[key] - w.undone[key]
	w.mu.Unlock()
	switch c.args[0] {
	case "look":
		return printed(map[string]any{"n": n})
	case "do", "undo":
		time.Sleep(w.Slow)
		return "done", nil
	}
	return "", fmt.Errorf("works does not know %q", c.args[0])
}

// start begins a job, and gives its id.
func (w *Works) start(h *Host, key, attempt string) string {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.begun[key+" on "+h.Name]++
	w.tries[attempt]++
	w.jobs[key+" on "+h.Name] = job{began: time.Now()}
	return key
}

func (w *Works) state(h *Host, key string) string {
	w.mu.Lock()
	defer w.mu.Unlock()
	switch j := w.jobs[key+" on "+h.Name]; {
	case j.stopped:
		return "stopped"
	case time.Since(j.began) < 5*w.Slow:
		return "working"
	}
	return "done"
}

func (w *Works) stop(h *Host, key string) {
	w.mu.Lock()
	defer w.mu.Unlock()
	j := w.jobs[key+" on "+h.Name]
	j.stopped = j.stopped || time.Since(j.began) < 5*w.Slow
	w.jobs[key+" on "+h.Name] = j
}

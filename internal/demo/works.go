package demo

import (
	"errors"
	"fmt"
	"sync"
	"time"
)

// Works is a program of the simulated hosts for tests of the engine: it counts every change that it begins,
// by what and by attempt, and never takes two for one.
type Works struct {
	// Slow is how long a change takes.
	Slow time.Duration

	mu     sync.Mutex
	begun  map[string]int
	undone map[string]int
	tries  map[string]int
}

// NewWorks makes a program that has done nothing.
func NewWorks() *Works {
	return &Works{begun: map[string]int{}, undone: map[string]int{}, tries: map[string]int{}}
}

// Begun tells how often each change was begun, and each taken back.
func (w *Works) Begun() (begun, undone map[string]int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	begun, undone = map[string]int{}, map[string]int{}
	for k, n := range w.begun {
		begun[k] = n
	}
	for k, n := range w.undone {
		undone[k] = n
	}
	return begun, undone
}

// Attempt tells how often an attempt was begun.
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
		w.undone[key]++
		w.tries[c.attempt]++
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

package demo

import (
	"encoding/json"
	"sync"
	"time"
)

// Ledger counts the changes that hosts carry out. An attempt that was carried out is not carried out again.
type Ledger struct {
	mu      sync.Mutex
	done    map[string]string
	changes []Carried
}

// once carries a change out under the ledger's lock, unless its attempt was carried out before.
func (l *Ledger) once(c call, what string, do func() (string, error)) (string, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if said, ok := l.done[c.attempt]; ok && c.attempt != "" {
		return said, nil
	}
	said, err := do()
	if err != nil {
		return "", err
	}
	if l.done == nil {
		l.done = map[string]string{}
	}
	l.done[c.attempt] = said
	l.changes = append(l.changes, Carried{time.Now().UTC(), c.host.Name, c.attempt, what})
	return said, nil
}

// Changes lists every change that was carried out.
func (l *Ledger) Changes() []Carried {
	l.mu.Lock()
	defer l.mu.Unlock()
	return append([]Carried{}, l.changes...)
}

// printed writes what a program prints for other programs.
func printed(v any) (string, error) {
	b, err := json.Marshal(v)
	return string(b), err
}

// Package demo is the Merrow Line, a made-up ferry operator: its simulated hosts, which can break and
// be cured, and small stand-ins for the systems around them. Only the outside world is simulated here.
package demo

import (
	"errors"
	"fmt"
	"sync"
	"time"
)

// Queue is a berth queue that its consumers share. One unreadable message stops them all.
type Queue struct {
	Name string
	// ParkTime is how long it takes to park a message.
	ParkTime time.Duration

	mu      sync.Mutex
	depth   float64
	stuck   string
	next    int
	parked  []string
	done    map[string]string // attempt -> what it said
	changes []Carried
	last    time.Time
}

// Carried is one change that was carried out.
type Carried struct {
	At      time.Time `json:"at"`
	Host    string    `json:"host"`
	Attempt string    `json:"attempt"`
	What    string    `json:"what"`
}

// The rates of a queue, in messages a second, and the depth at which the desks stop sending.
const (
	arriving = 60.0
	draining = 210.0
	fullest  = 2600.0
	usual    = 12.0
)

// NewQueue makes a healthy queue.
func NewQueue(name string) *Queue {
	return &Queue{
		Name:     name,
		ParkTime: 300 * time.Millisecond,
		depth:    usual,
		next:     4711,
		done:     map[string]string{},
		last:     time.Now(),
	}
}

// flow brings the depth up to date. The lock must be held.
func (q *Queue) flow() {
	now := time.Now()
	dt := now.Sub(q.last).Seconds()
	q.last = now
	if q.stuck != "" {
		q.depth = min(fullest, q.depth+arriving*dt)
		return
	}
	q.depth = max(usual, q.depth-(draining-arriving)*dt)
}

// Break puts an unreadable message at the head; depth jumps to what waited behind it.
func (q *Queue) Break() string {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.flow()
	if q.stuck == "" {
		q.stuck = fmt.Sprintf("m-%d", q.next)
		q.next += 13
	}
	return q.stuck
}

// Depth tells how many messages wait, and which one cannot be read.
func (q *Queue) Depth() (int, string) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.flow()
	return int(q.depth), q.stuck
}

// Park takes a message out of the way. An attempt that was carried out before is not carried out again.
func (q *Queue) Park(host, attempt, message string) (string, error) {
	q.mu.Lock()
	if said, ok := q.done[attempt]; ok && attempt != "" {
		q.mu.Unlock()
		return said, nil
	}
	if message == "" || message != q.stuck {
		defer q.mu.Unlock()
		return "", fmt.Errorf("message %q is not at the head of %s", message, q.Name)
	}
	q.mu.Unlock()
	time.Sleep(q.ParkTime)
	q.mu.Lock()
	defer q.mu.Unlock()
	q.flow()
	if q.stuck == message {
		q.stuck = ""
	}
	q.parked = append(q.parked, message)
	q.changes = append(q.changes, Carried{time.Now().UTC(), host, attempt, "park " + message})
	said := fmt.Sprintf("parked %s of %s", message, q.Name)
	q.done[attempt] = said
	return said, nil
}

// Unpark puts a parked message back at the head.
func (q *Queue) Unpark(host, attempt, message string) (string, error) {
	q.mu.Lock()
	defer q.mu.Unlock()
	q.flow()
	for i, p := range q.parked {
		if p == message {
			q.parked = append(q.parked[:i], q.parked[i+1:]...)
			q.stuck = message
			q.changes = append(q.changes, Carried{time.Now().UTC(), host, attempt, "unpark " + message})
			return "put back " + message, nil
		}
	}
	return "", fmt.Errorf("message %q is not parked", message)
}

// Changes lists every change that was carried out.
func (q *Queue) Changes() []Carried {
	q.mu.Lock()
	defer q.mu.Unlock()
	return append([]Carried{}, q.changes...)
}

func (q *Queue) health(h *Host) any {
	depth, stuck := q.Depth()
	state := "consuming"
	if stuck != "" {
		state = "stalled"
	}
	return map[string]any{"host": h.Name, "state": state, "depth": depth}
}

// berthq is the program on the consumers' hosts.
func (q *Queue) berthq(c call) (string, error) {
	args := c.args
	if len(args) < 3 || args[1] != "--queue" {
		return "", errors.New("usage: berthq depth|park|unpark --queue NAME [MESSAGE]")
	}
	if args[2] != q.Name {
		return "", fmt.Errorf("no queue %q here", args[2])
	}
	message := ""
	if len(args) > 3 {
		message = args[3]
	}
	switch args[0] {
	case "depth":
		depth, stuck := q.Depth()
		return printed(map[string]any{"queue": q.Name, "depth": depth, "stuck_message": stuck, "consumer": c.host.Name})
	case "park":
		return q.Park(c.host.Name, c.attempt, message)
	case "unpark":
		return q.Unpark(c.host.Name, c.attempt, message)
	}
	return "", fmt.Errorf("berthq does not know %q", args[0])
}

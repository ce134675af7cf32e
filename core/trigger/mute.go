package trigger

import (
	"time"

	"urgentis/core/expr"
)

// Beside is a start that stands beside its runbook, as a document.
type Beside struct {
	Runbook string
	Start   Start
}

// Mute is planned work: alerts for which triggers and messages are held back for a time. The alerts are kept.
type Mute struct {
	Name        string
	When        *expr.Program
	From, Until time.Time
	Because     string
}

// Covers reports whether it holds an alert back at a time. A condition that cannot be judged mutes nothing.
func (m *Mute) Covers(alert map[string]any, at time.Time) bool {
	if at.Before(m.From) || !at.Before(m.Until) {
		return false
	}
	ok, err := m.When.Bool(&expr.Scope{Alert: alert})
	return err == nil && ok
}

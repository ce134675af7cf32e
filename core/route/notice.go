package route

import (
	"slices"
	"time"
)

// Kind is what a notice is about: who is told of it, and how, depends on it.
type Kind string

// The kinds of notices.
const (
	ApprovalNeeded   Kind = "approval.needed"
	AnswerNeeded     Kind = "answer.needed"
	HandOver         Kind = "handed.over"
	RunOver          Kind = "run.over"    // without closing its incident
	RunStopped       Kind = "run.stopped" // it cannot go on, or is quarantined
	RunRefused       Kind = "run.refused" // it did not start
	LateNews         Kind = "late.news"   // what became of a change that was unknown
	Said             Kind = "said"        // a tell of a runbook
	IncidentOpened   Kind = "incident.opened"
	IncidentPage     Kind = "incident.page" // it is bad, and still open after the time that a runbook had for it
	IncidentWorse    Kind = "incident.worse"
	Reassigned       Kind = "incident.reassigned" // somebody was given it by somebody else
	IncidentReopened Kind = "incident.reopened"
	IncidentClosed   Kind = "incident.closed"
	NobodyStarted    Kind = "nobody.started" // no runbook starts by itself
	AlertQuarantined Kind = "alert.quarantined"
	HaltChanged      Kind = "halt"
	KeyExpiring      Kind = "key.expiring"  // of a start address
	RotaHole         Kind = "rota.hole"     // nobody will be on call
	RotaUnparsed     Kind = "rota.unparsed" // the calendar of a rota cannot be read, or not all of it
	ShiftBegins      Kind = "shift.begins"  // somebody comes on call while something is open
)

// Kinds lists the kinds.
var Kinds = []Kind{
	ApprovalNeeded, AnswerNeeded, HandOver, RunOver, RunStopped, RunRefused, LateNews, Said, IncidentOpened,
	IncidentPage, IncidentWorse, Reassigned, IncidentReopened, IncidentClosed, NobodyStarted, AlertQuarantined,
	HaltChanged, KeyExpiring, RotaHole, RotaUnparsed, ShiftBegins,
}

// KindNames lists the kinds as words.
func KindNames() []string {
	out := make([]string, len(Kinds))
	for i, k := range Kinds {
		out[i] = string(k)
	}
	return out
}

// wants is what somebody is asked to do who is told of a kind.
func (k Kind) wants() string {
	if k == ApprovalNeeded {
		return "decide it"
	}
	return "answer it"
}

// whole reports whether a kind is about an incident as a whole: whoever has it is called for it before all others.
func (k Kind) whole() bool {
	return slices.Contains([]Kind{IncidentPage, NobodyStarted, Reassigned}, k)
}

// Asks reports whether a kind always wants somebody to act: it is urgent whatever it is about.
func (k Kind) Asks() bool {
	return slices.Contains([]Kind{ApprovalNeeded, AnswerNeeded, HandOver, Reassigned, RunStopped, IncidentPage}, k)
}

// Calls reports whether somebody is called for a kind of notice, of an incident of a severity: of one as a whole only
// where it is bad.
func (k Kind) Calls(severity string) bool {
	if k == IncidentPage || k == NobodyStarted {
		return Bad(severity)
	}
	return k.Asks()
}

// Notice is something that people are told, once per key.
type Notice struct {
	Kind Kind `json:"kind"`
	// To is whom it is asked of: team/NAME, on-call/NAME or person/NAME; "" for whomever the routes name.
	To string `json:"to,omitempty"`
	// Urgent ones escalate until somebody takes them.
	Urgent bool   `json:"urgent,omitempty"`
	Text   string `json:"text"`
	// Thing is what it is about, such as gate/ID; "" for the incident as a whole, or for none.
	Thing    string            `json:"thing,omitempty"`
	Incident int64             `json:"incident,omitempty"` // 0 for none
	Title    string            `json:"title,omitempty"`    // of the incident
	Severity string            `json:"severity,omitempty"`
	Service  string            `json:"service,omitempty"`
	Owner    string            `json:"owner,omitempty"` // the team that answers for the service
	Labels   map[string]string `json:"labels,omitempty"`
	// Holder is who has the incident, Former who had it before them; "" for nobody.
	Holder string    `json:"holder,omitempty"`
	Former string    `json:"former,omitempty"`
	At     time.Time `json:"at"`
}

// Names are the values of a notice that the conditions of routes and the words of connections see, as notice.
func (n *Notice) Names() map[string]any {
	labels := make(map[string]any, len(n.Labels))
	for k, v := range n.Labels {
		labels[k] = v
	}
	return map[string]any{
		"kind": string(n.Kind), "to": n.To, "urgent": n.Urgent, "text": n.Text, "incident": n.Incident,
		"title": n.Title, "severity": n.Severity, "service": n.Service, "owner": n.Owner, "labels": labels,
		"holder": n.Holder,
	}
}

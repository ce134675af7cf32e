// Package leave answers one question: may this change happen now?
package leave

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"

	"urgentis/core/incident"
)

// Stance is how free runbooks are on a service.
type Stance string

// The stances, the strictest first.
const (
	Suggest Stance = "suggest" // changes are only proposed, never made
	Ask     Stance = "ask"     // a person is asked first
	Act     Stance = "act"     // changes are made and reported
)

// Verdict is the answer. The strictest reason wins.
type Verdict string

// The verdicts.
const (
	Yes  Verdict = "yes"
	Gate Verdict = "gate"
	No   Verdict = "no"
)

// Question is all that the answer depends on.
type Question struct {
	Stance  Stance
	HasGate bool // the runbook itself wants a gate
	Halted  bool // all changes of the installation are stopped
	// Unpinned lists targets whose host key is not known.
	Unpinned []string
}

// Answer is a verdict with every reason for it.
type Answer struct {
	Verdict Verdict  `json:"verdict"`
	Reasons []string `json:"reasons"`
}

// Decide answers. It is a pure function.
func Decide(q Question) Answer {
	a := Answer{Verdict: Yes}
	add := func(v Verdict, format string, args ...any) {
		if v == No || v == Gate && a.Verdict == Yes {
			a.Verdict = v
		}
		a.Reasons = append(a.Reasons, fmt.Sprintf(format, args...))
	}
	if q.Halted {
		add(No, "all changes are halted")
	}
	for _, t := range q.Unpinned {
		add(No, "the host key of %s is not known", t)
	}
	switch q.Stance {
	case Suggest:
		add(No, "the service's stance is suggest: runbooks only propose changes there")
	case Act:
		add(Yes, "the service's stance is act")
	default:
		add(Gate, "the service's stance is ask")
	}
	if q.HasGate {
		add(Gate, "the runbook has a gate here")
	}
	return a
}

// Proposal is what a person approves and what then runs, word for word.
type Proposal struct {
	Runbook  string    `json:"runbook"`
	Revision string    `json:"revision"`
	Path     string    `json:"path"`
	Requests []Request `json:"requests"`
	// Until is the end of the approval in Unix seconds, as text; "" without an end.
	Until string `json:"until,omitempty"`
}

// Request is one thing to do on one target, rendered. Undo takes it back.
type Request struct {
	Kind    string            `json:"kind"` // ssh, local or http
	Target  Facts             `json:"target"`
	Words   []string          `json:"words,omitempty"`
	Env     map[string]string `json:"env,omitempty"`
	As      string            `json:"as,omitempty"`
	Method  string            `json:"method,omitempty"`
	URL     string            `json:"url,omitempty"`
	Headers map[string]string `json:"headers,omitempty"`
	Body    string            `json:"body,omitempty"`
	Accept  []int             `json:"accept,omitempty"`
	Timeout int               `json:"timeout_seconds"`
	Undo    *Request          `json:"undo,omitempty"`
}

// Facts is what is known of a target when it is asked; a change is bound to it.
type Facts struct {
	Name    string `json:"name"`
	Address string `json:"address,omitempty"`
	Port    int    `json:"port,omitempty"`
	Account string `json:"account,omitempty"`
	HostKey string `json:"host_key,omitempty"`
	// Secret is name@version of the key or password, never its value.
	Secret string `json:"secret,omitempty"`
}

// Digest binds an approval to a proposal: SHA-256 over its canonical JSON (RFC 8785) with a domain prefix.
func (p Proposal) Digest() (string, error) {
	b, err := incident.Canonical(p)
	if err != nil {
		return "", err
	}
	sum := sha256.Sum256(append([]byte("urgentis proposal v1\n"), b...))
	return hex.EncodeToString(sum[:]), nil
}

// Differ lists in words what of the targets' facts is not as it was approved.
func Differ(approved, now []Facts) []string {
	var out []string
	cur := map[string]Facts{}
	for _, f := range now {
		cur[f.Name] = f
	}
	for _, a := range approved {
		n, ok := cur[a.Name]
		if !ok {
			out = append(out, fmt.Sprintf("target %s is gone", a.Name))
			continue
		}
		for _, c := range []struct{ what, was, is string }{
			{"address", fmt.Sprintf("%s:%d", a.Address, a.Port), fmt.Sprintf("%s:%d", n.Address, n.Port)},
			{"account", a.Account, n.Account}, {"host key", a.HostKey, n.HostKey}, {"secret", a.Secret, n.Secret},
		} {
			if c.was != c.is {
				out = append(out, fmt.Sprintf("the %s of %s was %s and is %s", c.what, a.Name, c.was, c.is))
			}
		}
	}
	return out
}

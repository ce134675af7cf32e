package leave

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"

	"urgentis/core/expr"
	"urgentis/core/incident"
	"urgentis/core/task"
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
	Look    bool // it is a look, if only by the runbook's word
	Undo    bool // it undoes what was changed: the stance does not count
	Halted  bool // all changes of the installation are stopped
	// Unpinned lists targets whose host key is not known.
	Unpinned []string
	// NoSecret lists secrets that would be used and are not set.
	NoSecret []string
	// NoFile lists files that would be sent and are not in the store.
	NoFile []string
}

// Answer is a verdict with every reason for it.
type Answer struct {
	Verdict Verdict  `json:"verdict"`
	Reasons []string `json:"reasons"`
	// Halted says that nothing but the halt of all changes stands against it: it may be asked again after that.
	Halted bool `json:"halted,omitempty"`
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
	if q.Look {
		if q.Stance == Suggest {
			add(Gate,
				"this look is not known to be read-only (only_reads), and changes are only suggested on this service")
		}
		return a
	}
	if q.Halted {
		add(No, "all changes are halted")
	}
	for _, t := range q.Unpinned {
		add(No, "the host key of %s is not known", t)
	}
	for _, n := range q.NoSecret {
		add(No, "there is no secret %s", n)
	}
	for _, n := range q.NoFile {
		add(No, "there is no file %s in the store", n)
	}
	switch {
	case q.Undo:
		add(Yes, "it undoes what was changed")
	case q.Stance == Suggest:
		add(No, "changes are only suggested on this service")
	case q.Stance == Act:
		add(Yes, "changes run without approval on this service")
	default:
		add(Gate, "changes need approval on this service")
	}
	if q.HasGate {
		add(Gate, "the runbook has a gate here")
	}
	if q.Halted {
		others := q
		others.Halted = false
		a.Halted = Decide(others).Verdict != No
	}
	return a
}

// Proposal is what a person approves and what then runs, word for word.
type Proposal struct {
	Runbook  string         `json:"runbook"`
	Revision string         `json:"revision"`
	Path     string         `json:"path"`
	Requests []task.Request `json:"requests"`
	// Until is the end of the approval in Unix seconds, as text; "" without an end.
	Until string `json:"until,omitempty"`
}

// Covers tells what of a request is not as it was approved; "" where all of it is. What was approved may hold bounds.
func Covers(approved, now task.Request) string {
	a, err := tree(approved)
	if err != nil {
		return err.Error()
	}
	b, err := tree(now)
	if err != nil {
		return err.Error()
	}
	return covers("", a, b)
}

func tree(r task.Request) (any, error) {
	b, err := json.Marshal(r)
	if err != nil {
		return nil, err
	}
	var v any
	return v, json.Unmarshal(b, &v)
}

func covers(at string, a, b any) string {
	switch x := a.(type) {
	case string:
		if y, ok := b.(string); ok && expr.Covers(x, y) {
			return ""
		}
	case []any:
		y, ok := b.([]any)
		if !ok || len(x) != len(y) {
			break
		}
		for i := range x {
			if s := covers(at, x[i], y[i]); s != "" {
				return s
			}
		}
		return ""
	case map[string]any:
		y, ok := b.(map[string]any)
		if !ok || len(x) != len(y) {
			break
		}
		for k := range x {
			if s := covers(k, x[k], y[k]); s != "" {
				return s
			}
		}
		return ""
	default:
		if a == b {
			return ""
		}
	}
	return fmt.Sprintf("%s is %s, approved was %s", at, expr.Say(b), expr.ShowBounds(expr.Say(a)))
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
func Differ(approved, now []task.Facts) []string {
	var out []string
	cur := map[string]task.Facts{}
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
			{"kind", a.Device, n.Device}, {"secret of the modes", a.DeviceSecret, n.DeviceSecret},
		} {
			if c.was != c.is {
				out = append(out, fmt.Sprintf("the %s of %s was %s and is %s", c.what, a.Name, c.was, c.is))
			}
		}
	}
	return out
}

// Package leave answers one question: may this change happen now?
package leave

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"slices"

	"urgentis/core/expr"
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
	Look    bool // it is a look, if only by the runbook's word
	Halted  bool // all changes of the installation are stopped
	// Unpinned lists targets whose host key is not known.
	Unpinned []string
	// NoSecret lists secrets that would be used and are not set.
	NoSecret []string
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
			add(Gate, "it is a look only by the runbook's own word (only_reads), and the service's stance is suggest")
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
	if q.Halted {
		others := q
		others.Halted = false
		a.Halted = Decide(others).Verdict != No
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
	Kind    string            `json:"kind"`           // ssh, local, http, sql or probe
	Step    string            `json:"step,omitempty"` // the place of the change, in a proposal for several
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
	Stdin   string            `json:"stdin,omitempty"`
	// Plain sends words as they are, to a device without a POSIX shell.
	Plain bool `json:"plain,omitempty"`
	// AcceptLost counts a connection that is lost after the command began as good.
	AcceptLost bool       `json:"accept_lost,omitempty"`
	Looks      bool       `json:"looks,omitempty"` // it only reads, and is kept to that
	SQL        *Statement `json:"sql,omitempty"`
	Probe      *Probe     `json:"probe,omitempty"`
	File       *File      `json:"file,omitempty"`
	// Hidden names what of Env holds secrets, once they are filled in.
	Hidden []string `json:"-"`
	// Secrets gives the version of each secret that stands in it.
	Secrets map[string]int `json:"secrets,omitempty"`
	Undo    *Request       `json:"undo,omitempty"`
	// OnlyIfDone is set on an undo that takes back what was done, not what failed after it had begun.
	OnlyIfDone bool `json:"only_if_done,omitempty"`
}

// Statement is a statement of SQL with typed parameters, each as JSON.
type Statement struct {
	Text     string   `json:"text"`
	With     []string `json:"with,omitempty"`
	Database string   `json:"database"`
	User     string   `json:"user"`
	Password string   `json:"password,omitempty"` // the mark of a secret
	Port     int      `json:"port"`
}

// Probe asks whether something answers: a TCP port, a name, an echo.
type Probe struct {
	Port  int    `json:"port,omitempty"`
	Name  string `json:"name,omitempty"`
	Type  string `json:"type,omitempty"`
	Echos int    `json:"echos,omitempty"`
}

// File is a file that is put on the target.
type File struct {
	To   string `json:"to"`
	Text string `json:"text"`
	Mode string `json:"mode"`
}

// Covers tells what of a request is not as it was approved; "" where all of it is. What was approved may hold bounds.
func Covers(approved, now Request) string {
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

func tree(r Request) (any, error) {
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

// SecretNames lists the secrets that stand in a request, by their marks.
func (r Request) SecretNames() []string {
	texts := []string{r.Stdin}
	for _, m := range []map[string]string{r.Env, r.Headers} {
		for _, v := range m {
			texts = append(texts, v)
		}
	}
	if r.SQL != nil {
		texts = append(texts, r.SQL.Password)
	}
	var out []string
	for _, t := range texts {
		for _, n := range expr.SecretsIn(t) {
			if !slices.Contains(out, n) {
				out = append(out, n)
			}
		}
	}
	slices.Sort(out)
	return out
}

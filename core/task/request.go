// Package task says what a hand is given to do: one request on one target, rendered, as it is proposed, approved, kept
// in a run's log, and carried out. The hands themselves are in internal/act.
package task

import (
	"slices"

	"urgentis/core/expr"
)

// Request is one thing to do on one target, rendered. Undo undoes it.
type Request struct {
	Kind   string   `json:"kind"`           // ssh, local, http, job, sql or probe
	Step   string   `json:"step,omitempty"` // the place of the change, in a proposal for several
	Target Facts    `json:"target"`
	Words  []string `json:"words,omitempty"`
	// Lines are typed on a device, one after the other; As is the mode that they are typed in.
	Lines   []string          `json:"lines,omitempty"`
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
	Job        *Job       `json:"job,omitempty"`
	// Attach is the name under which what is printed is put to the record, as a file; "" where it is not.
	Attach string `json:"attach,omitempty"`
	// Hidden names what of Env holds secrets, once they are filled in.
	Hidden []string `json:"-"`
	// Secrets gives the version of each secret that stands in it.
	Secrets map[string]int `json:"secrets,omitempty"`
	Undo    *Request       `json:"undo,omitempty"`
	// OnlyIfDone is set on an undo of what was done, not what failed after it had begun.
	OnlyIfDone bool `json:"only_if_done,omitempty"`
}

// Statement is a statement of SQL with typed parameters, each as JSON.
type Statement struct {
	Text     string   `json:"text"`
	With     []string `json:"with,omitempty"`
	Dialect  string   `json:"dialect,omitempty"` // mysql or sqlite; "" is PostgreSQL's
	Database string   `json:"database"`          // its name; of SQLite the path of its file
	User     string   `json:"user"`
	Password string   `json:"password,omitempty"` // the mark of a secret
	Port     int      `json:"port"`
	// TLS says how the connection is kept from others: verify, or "", wants a certificate that is trusted (none on the
	// host of the service itself, unless an authority is named), on is TLS with whoever answers, never is none.
	TLS       string `json:"tls,omitempty"`
	Authority string `json:"authority,omitempty"` // certificates to trust, PEM; "": those of the service's host
}

// The words of TLS.
const (
	TLSVerify = "verify"
	TLSOn     = "on"
	TLSNever  = "never"
)

// TLSWords lists them.
var TLSWords = []string{TLSVerify, TLSOn, TLSNever}

// JobMark stands where a request has what the job is known by.
const JobMark = "⟨job⟩"

// Call is one request of a job elsewhere.
type Call struct {
	Method  string            `json:"method"`
	URL     string            `json:"url"`
	Headers map[string]string `json:"headers,omitempty"`
	Body    string            `json:"body,omitempty"`
}

// Job is a job of another system, from its start to its end.
type Job struct {
	Start  Call  `json:"start"`
	Follow Call  `json:"follow"`
	Log    *Call `json:"log,omitempty"`
	Stop   *Call `json:"stop,omitempty"`
	// ID and State are jq expressions over the answers of Start and Follow.
	ID    string   `json:"id"`
	State string   `json:"state"`
	Every int      `json:"every_ms"`
	Good  []string `json:"good"`
	Bad   []string `json:"bad,omitempty"`
	// Known is what it is known by where it was begun before: it is followed on, and not started.
	Known string `json:"known,omitempty"`
}

// Calls lists the requests of a job that are there.
func (j *Job) Calls() []*Call {
	out := []*Call{&j.Start, &j.Follow}
	for _, c := range []*Call{j.Log, j.Stop} {
		if c != nil {
			out = append(out, c)
		}
	}
	return out
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
	// Name is a file of the store, in the place of Text; Digest is its SHA-256 in hexadecimal, Size its bytes.
	Name   string `json:"name,omitempty"`
	Digest string `json:"digest,omitempty"`
	Size   int64  `json:"size,omitempty"`
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
	// Device is KIND@REVISION of a device that is spoken with in a dialogue; "" is a host with a shell.
	Device string `json:"device,omitempty"`
	// DeviceSecret is name@version of the secret that its modes ask for.
	DeviceSecret string `json:"device_secret,omitempty"`
}

// Interpreters tells how each that scripts may be for takes program text as a word.
var Interpreters = map[string]string{
	"sh": "-c", "bash": "-c", "dash": "-c", "python3": "-c", "perl": "-e", "ruby": "-e", "node": "-e",
}

// ScriptOf is the script that words hand to an interpreter; false where they are another command.
func ScriptOf(words []string) (text string, ok bool) {
	if len(words) < 3 || Interpreters[words[0]] == "" || Interpreters[words[0]] != words[1] {
		return "", false
	}
	return words[2], true
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
	if r.Job != nil {
		for _, c := range r.Job.Calls() {
			for _, v := range c.Headers {
				texts = append(texts, v)
			}
		}
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

// GoodExit reports whether a command that ended with an exit ended well: with one of those that are accepted, or with
// 0 where none is named.
func GoodExit(exit int, accept []int) bool {
	if len(accept) > 0 {
		return slices.Contains(accept, exit)
	}
	return exit == 0
}

// GoodStatus is GoodExit for the status of an answer over HTTP: without a list, those from 200 to 299 are good.
func GoodStatus(status int, accept []int) bool {
	if len(accept) > 0 {
		return slices.Contains(accept, status)
	}
	return status >= 200 && status <= 299
}

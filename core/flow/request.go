package flow

import (
	"encoding/json"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"urgentis/core/expr"
	"urgentis/core/runbook"
	"urgentis/core/task"
)

// render fills a way of doing in for one target.
type render struct {
	sc *expr.Scope
	// bounded lets values that are not known yet stand as what they may be.
	bounded bool
	// partly lets what is not known stand as its expression: for a reader, never for a target.
	partly bool
	err    error
}

func (r *render) text(t *expr.Template) string {
	if t == nil || r.err != nil {
		return ""
	}
	var out string
	if r.partly {
		return t.Partly(r.sc)
	}
	if r.bounded {
		out, r.err = t.Bounded(r.sc)
	} else {
		out, r.err = t.Text(r.sc)
	}
	if r.err == nil && strings.ContainsRune(out, 0) {
		r.err = errors.New("a value holds the NUL character")
	}
	return out
}

// value renders a structure; with bounds it is text throughout.
func (r *render) value(v *runbook.Value) any {
	if r.err != nil {
		return nil
	}
	if r.partly && v != nil && v.Text != nil {
		return r.text(v.Text)
	}
	if r.bounded && v != nil && v.Text != nil {
		if len(v.Text.Holes()) == 0 || !strings.HasPrefix(v.Text.Source, "{{") {
			return r.text(v.Text)
		}
		out, err := v.Text.Value(r.sc)
		if err == nil {
			return out
		}
		return r.text(v.Text)
	}
	var out any
	out, r.err = v.Render(r.sc)
	return out
}

// path renders the path of a file; what is only bounded yet is rendered whole when the change comes.
func (r *render) path(t *expr.Template) string {
	if r.bounded || r.err != nil {
		return r.text(t)
	}
	var out string
	out, r.err = t.Path(r.sc)
	return out
}

// request renders a way of doing for one target. facts are added by whoever knows them.
func (w *walker) request(
	f *frame,
	do *runbook.Do,
	place Place, target string,
	timeout time.Duration,
	bounded bool,
) (task.Request, error) {
	return (&render{sc: w.scope(f, place, target), bounded: bounded}).request(do, target, timeout)
}

func (r *render) request(do *runbook.Do, target string, timeout time.Duration) (task.Request, error) {
	req := task.Request{
		Kind:       do.Kind(),
		Target:     task.Facts{Name: target},
		As:         do.As,
		Accept:     do.Accept,
		AcceptLost: do.AcceptLost,
		Timeout:    max(1, int(timeout.Seconds())),
		Plain:      do.Plain,
		Stdin:      r.text(do.Stdin),
	}
	for k, t := range do.Env {
		if req.Env == nil {
			req.Env = map[string]string{}
		}
		req.Env[k] = r.text(t)
		if strings.ContainsAny(req.Env[k], "\n\r") {
			return req, fmt.Errorf("env %s would hold a line break", k)
		}
	}
	switch {
	case do.Script != nil:
		var args []string
		for _, t := range do.Script.Args {
			args = append(args, r.text(t))
		}
		req.Words = do.Script.Words(args)
	case do.Fetch != nil:
		req.Words = []string{"cat", "--", r.path(do.Fetch)}
	case do.HTTP != nil:
		r.http(do.HTTP, &req)
	case do.Job != nil:
		r.job(do.Job, &req)
	case do.SQL != nil:
		r.sql(do.SQL, &req)
	case do.Send != nil:
		req.File = &task.File{To: r.path(do.Send.To), Text: do.Send.Text, Mode: do.Send.Mode, Name: do.Send.File}
		if do.Send.JSON != nil {
			req.File.Text = r.json(r.value(do.Send.JSON)) + "\n"
		}
	case do.Port != nil || do.Name != nil || do.Echo != nil:
		r.probe(do, &req)
	case do.Dialogue != nil:
		for _, l := range do.Dialogue {
			req.Lines = append(req.Lines, strings.Join(r.words(l, true), " "))
		}
	default:
		req.Words = r.words(do.Run, do.Plain)
	}
	if do.Attach {
		req.Attach = attachedAs(req)
	}
	return req, r.err
}

// attachedAs names the file that is made of what a request prints: by what is fetched or run, and by its target.
func attachedAs(req task.Request) string {
	name := req.Kind
	if n := len(req.Words); n > 0 {
		if name = path.Base(req.Words[0]); name == "cat" {
			name = path.Base(req.Words[n-1])
		}
	}
	if req.Target.Name != "" {
		name = req.Target.Name + "-" + name
	}
	return name
}

// words renders the words of a command; plain ones must stand for themselves.
func (r *render) words(list []*expr.Template, plain bool) []string {
	var out []string
	for _, t := range list {
		word := r.text(t)
		if plain && r.err == nil && !plainWord(word) {
			r.err = fmt.Errorf("the word %q would need quoting, and the target takes plain words only", word)
		}
		out = append(out, word)
	}
	return out
}

// plainWord reports whether a word stands for itself on a command line that is not a shell.
func plainWord(w string) bool {
	if w == "" {
		return false
	}
	for _, c := range w {
		if c <= ' ' || c > '~' || strings.ContainsRune(`"'\;|&<>()$`+"`?*[]{}!#", c) {
			return false
		}
	}
	return true
}

func (r *render) json(v any) string {
	b, err := json.Marshal(v)
	if err != nil && r.err == nil {
		r.err = err
	}
	return string(b)
}

func (r *render) http(h *runbook.HTTP, req *task.Request) {
	c := r.call(h)
	req.Method, req.URL, req.Headers, req.Body = c.Method, c.URL, c.Headers, c.Body
}

// call renders one request.
func (r *render) call(h *runbook.HTTP) task.Call {
	c := task.Call{Method: h.Method}
	if r.err == nil {
		if r.bounded || r.partly {
			c.URL = r.text(h.URL)
		} else {
			c.URL, r.err = h.URL.URL(r.sc)
		}
	}
	for k, t := range h.Headers {
		if c.Headers == nil {
			c.Headers = map[string]string{}
		}
		c.Headers[k] = r.text(t)
		if r.err == nil && strings.ContainsAny(c.Headers[k], "\r\n") {
			r.err = fmt.Errorf("header %s would hold a line break", k)
		}
	}
	if h.Body != nil {
		if v := r.value(h.Body); r.err == nil {
			c.Body, r.err = bodyText(v)
		}
	}
	return c
}

// job renders the requests of a job elsewhere.
func (r *render) job(j *runbook.Elsewhere, req *task.Request) {
	req.Job = &task.Job{Start: r.call(j.Start), Follow: r.call(j.Follow), ID: j.ID.Source, State: j.State.Source,
		Every: int(j.Every.Milliseconds()), Good: j.Good, Bad: j.Bad}
	for _, x := range []struct {
		from *runbook.HTTP
		to   **task.Call
	}{{j.Log, &req.Job.Log}, {j.Stop, &req.Job.Stop}} {
		if x.from != nil {
			c := r.call(x.from)
			*x.to = &c
		}
	}
}

func (r *render) sql(q *runbook.SQL, req *task.Request) {
	req.SQL = &task.Statement{
		Database: r.text(q.Database),
		User:     r.text(q.User),
		Password: r.text(q.Secret),
		Port:     runbook.UsualPort[q.Dialect],
	}
	if q.Port != nil {
		req.SQL.Port = r.port(r.value(q.Port))
	}
	req.SQL.TLS, req.SQL.Authority = r.text(q.TLS), r.text(q.Authority)
	if r.err == nil && !r.partly && q.TLS != nil && !slices.Contains(task.TLSWords, req.SQL.TLS) {
		r.err = fmt.Errorf("tls is %q and must be one of %s", req.SQL.TLS, strings.Join(task.TLSWords, ", "))
	}
	if q.Dialect != runbook.PostgreSQL {
		req.SQL.Dialect = q.Dialect
	}
	if r.err == nil {
		if req.SQL.Text, r.err = q.Render(r.sc); r.err != nil && r.partly {
			req.SQL.Text, r.err = q.Statement, nil
		}
	}
	for _, v := range q.With {
		req.SQL.With = append(req.SQL.With, r.json(r.value(v)))
	}
}

func (r *render) probe(do *runbook.Do, req *task.Request) {
	req.Probe = &task.Probe{}
	switch {
	case do.Port != nil:
		req.Probe.Port = r.port(r.value(do.Port))
	case do.Name != nil:
		req.Probe.Name, req.Probe.Type = r.text(do.Name.Name), do.Name.Type
	default:
		req.Probe.Echos = do.Echo.Count
	}
}

// port reads the number of a port.
func (r *render) port(v any) int {
	port := 0
	switch n := v.(type) {
	case int64:
		port = int(n)
	case string:
		fmt.Sscanf(n, "%d", &port) //nolint:errcheck // what is no number is refused below
	}
	if r.err == nil && !r.partly && (port < 1 || port > 65535) {
		r.err = errors.New("port must be a number from 1 to 65535")
	}
	return port
}

// bodyText writes the body of a call: text as it is, everything else as JSON.
func bodyText(v any) (string, error) {
	if s, ok := v.(string); ok {
		return s, nil
	}
	b, err := json.Marshal(v)
	return string(b), err
}

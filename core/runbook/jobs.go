package runbook

import (
	"regexp"
	"slices"
	"time"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/expr"
	"urgentis/core/reading"
	"urgentis/core/task"
)

// Elsewhere is a job of another system: how it is started, followed to its end, read and stopped, by HTTP.
type Elsewhere struct {
	Start, Follow, Log, Stop *HTTP // Log and Stop may be nil
	// ID takes what the job is known by from the answer of Start, State how it stands from that of Follow.
	ID, State *reading.Query
	Every     time.Duration
	// Good and Bad are the states in which it is over.
	Good, Bad []string
}

// MaxJobTime bounds how long a job elsewhere is followed.
const MaxJobTime = 24 * time.Hour

// jobHole is where a request has what the job is known by.
var jobHole = regexp.MustCompile(`\{\{\s*job\.id\s*\}\}`)

// job decodes a job elsewhere.
func (d *decoder) job(n ast.Node) *Elsewhere {
	j := &Elsewhere{Every: 2 * time.Second}
	states := func(to *[]string, what string) func(ast.Node) {
		return func(n ast.Node) {
			for _, x := range d.List(n, what) {
				*to = append(*to, d.Word(x, "a state"))
			}
		}
	}
	query := func(to **reading.Query, what string) func(ast.Node) {
		return func(n ast.Node) {
			q, err := reading.CompileQuery(d.Word(n, what))
			if err != nil {
				d.Fail(n, "%s is a jq expression over the answer: %s", what, err)
			}
			*to = q
		}
	}
	got := d.Fields(n, "job", map[string]func(ast.Node){
		"start":  func(n ast.Node) { j.Start = d.httpOf(n, "POST", false) },
		"id":     query(&j.ID, "id"),
		"follow": func(n ast.Node) { j.Follow = d.httpOf(n, "GET", true) },
		"state":  query(&j.State, "state"),
		"good":   states(&j.Good, "good"),
		"bad":    states(&j.Bad, "bad"),
		"log":    func(n ast.Node) { j.Log = d.httpOf(n, "GET", true) },
		"stop":   func(n ast.Node) { j.Stop = d.httpOf(n, "POST", true) },
		"every": func(n ast.Node) {
			if j.Every = d.Duration(n, "every"); j.Every < 500*time.Millisecond || j.Every > 10*time.Minute {
				d.Fail(n, "every is from 500ms to 10m")
			}
		},
	})
	for _, k := range []string{"start", "id", "follow", "state", "good"} {
		if got[k] == nil {
			d.Fail(n, "job needs start, id, follow, state and good; %s is missing", k)
		}
	}
	for key, h := range map[string]*HTTP{"follow": j.Follow, "log": j.Log} {
		if h != nil && h.Method != "GET" {
			d.Fail(got[key], "%s only reads: use GET", key)
		}
	}
	for _, s := range j.Good {
		if slices.Contains(j.Bad, s) {
			d.Fail(got["bad"], "%q is among good and bad", s)
		}
	}
	return j
}

// httpOf decodes a request of a job; ofJob says that its URL may have what the job is known by.
func (d *decoder) httpOf(n ast.Node, method string, ofJob bool) *HTTP {
	d.ofJob = ofJob
	h := d.httpWith(n, method)
	d.ofJob = false
	return h
}

// jobURL puts the mark of the job in the place of {{ job.id }}.
func jobURL(text string) string { return jobHole.ReplaceAllLiteralString(text, task.JobMark) }

// calls lists the requests of a job that are there.
func (j *Elsewhere) calls() []*HTTP {
	return slices.DeleteFunc([]*HTTP{j.Start, j.Follow, j.Log, j.Stop}, func(h *HTTP) bool { return h == nil })
}

// templates lists the texts of a request.
func (h *HTTP) templates(add func(*Value), sorted func(map[string]*expr.Template)) []*expr.Template {
	sorted(h.Headers)
	add(h.Body)
	return []*expr.Template{h.URL}
}

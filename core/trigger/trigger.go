// Package trigger finds which runbooks an alert starts, and why not the others.
package trigger

import (
	"slices"
	"strings"
	"time"

	"urgentis/core/alert"
	"urgentis/core/expr"
)

// Trigger is an alert's occasion on which a runbook starts.
type Trigger struct {
	Runbook, Name string
	Start         *Start
}

// Verdict tells what became of one trigger for one alert.
type Verdict struct {
	Runbook string       `json:"runbook"`
	Name    string       `json:"name"`
	Started bool         `json:"started"`
	Values  []expr.Value `json:"values,omitempty"` // what decided it
	Error   string       `json:"error,omitempty"`
	// StartsAt is when it starts if the alert is still so; nil where it does not wait.
	StartsAt *time.Time `json:"starts_at,omitempty"`
	// HoursAt is when its hours begin, and it is judged anew if the alert is there still; nil where no hours hold it
	// back.
	HoursAt *time.Time `json:"hours_at,omitempty"`
	// Run is the last one that it began; "" where that is not known.
	Run string `json:"run,omitempty"`
}

// Waits reports whether it is yet to be judged anew by itself.
func (v *Verdict) Waits() bool { return v.StartsAt != nil || v.HoursAt != nil }

// Index finds triggers without evaluating each: by an equality that must hold for the condition to be true.
// It is safe for use by many at once after New.
type Index struct {
	all    []Trigger
	byPair map[expr.Equality][]int
	always []int
	fields map[string]bool
}

// New indexes triggers; the order is kept.
func New(all []Trigger) *Index {
	x := &Index{all: all, byPair: map[expr.Equality][]int{}, fields: map[string]bool{}}
	req := make([][]expr.Equality, len(all))
	count := map[expr.Equality]int{}
	for i, t := range all {
		for _, e := range t.Start.Alert.Required() {
			if _, ok := textOf(nil, e.Field); ok {
				req[i] = append(req[i], e)
				count[e]++
			}
		}
	}
	for i := range all {
		if len(req[i]) == 0 {
			x.always = append(x.always, i)
			continue
		}
		best := req[i][0]
		for _, e := range req[i] {
			if count[e] < count[best] {
				best = e
			}
		}
		x.byPair[best] = append(x.byPair[best], i)
		x.fields[best.Field] = true
	}
	return x
}

// textOf reads alert.X or alert.labels.X; ok is false for a field that is not text.
func textOf(snapshot map[string]any, name string) (string, bool) {
	rest, ok := strings.CutPrefix(name, "alert.")
	if !ok {
		return "", false
	}
	if l, ok := strings.CutPrefix(rest, "labels."); ok {
		labels, _ := snapshot["labels"].(map[string]string)
		return labels[l], true
	}
	switch rest {
	case "id", "source", "key", "severity", "state", "summary", "service", "link":
		s, _ := snapshot[rest].(string)
		return s, true
	}
	return "", false
}

// Judges reports whether any trigger is judged at a change of an alert.
func (x *Index) Judges(c alert.Change) bool {
	return slices.ContainsFunc(x.all, func(t Trigger) bool { return t.Start.JudgedOn(c) })
}

// Match lists the triggers that fire as an alert changes, and those whose condition could not be evaluated.
func (x *Index) Match(snapshot map[string]any, c alert.Change) []Verdict {
	var out []Verdict
	s := &expr.Scope{Alert: snapshot}
	try := func(i int) {
		if !x.all[i].Start.JudgedOn(c) {
			return
		}
		if j := x.all[i].Start.Alert.Judge(s); j.Holds || j.Err != nil {
			out = append(out, x.verdict(i, j))
		}
	}
	for _, i := range x.always {
		try(i)
	}
	for f := range x.fields {
		v, _ := textOf(snapshot, f)
		for _, i := range x.byPair[expr.Equality{Field: f, Value: v}] {
			try(i)
		}
	}
	return out
}

// Explain tells of every trigger what becomes of it as an alert changes.
func (x *Index) Explain(snapshot map[string]any, c alert.Change) []Verdict {
	return x.ExplainSome(snapshot, c, 0, len(x.all))
}

// ExplainSome is Explain of n triggers at most, from the one at a place on; there are as many places as triggers.
func (x *Index) ExplainSome(snapshot map[string]any, c alert.Change, from, n int) []Verdict {
	s := &expr.Scope{Alert: snapshot}
	from = min(max(0, from), len(x.all))
	n = min(n, len(x.all)-from)
	out := make([]Verdict, n)
	for i := range out {
		out[i] = x.verdict(from+i, x.all[from+i].Start.Alert.Judge(s))
		if start := x.all[from+i].Start; out[i].Started && !start.JudgedOn(c) {
			out[i].Started = false
			out[i].Error = "the condition holds, but it is judged only as the alert is " + start.onWords()
		}
	}
	return out
}

// Len is how many triggers there are.
func (x *Index) Len() int { return len(x.all) }

func (x *Index) verdict(i int, j expr.Judgement) Verdict {
	t := x.all[i]
	v := Verdict{Runbook: t.Runbook, Name: t.Name, Started: j.Holds && j.Err == nil, Values: j.Values()}
	if j.Err != nil {
		v.Error = j.Err.Error()
	}
	return v
}

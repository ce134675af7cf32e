// Package suggest ranks runbooks for an incident, each with its reasons in words. Nothing in it is learnt that cannot
// be said in a sentence.
package suggest

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
	"unicode"

	"urgentis/core/expr"
	"urgentis/core/runbook"
)

// Trouble is what the incident is about.
type Trouble struct {
	Service string
	// DependsOn are the services that it needs.
	DependsOn []string
	// Alerts are the incident's, as runbooks see them, the first one first.
	Alerts []map[string]any
	// Target is a target that somebody looks at, with its labels, and Reading a reading, such as that of a chart; ""
	// for none.
	Target  string
	Labels  map[string]string
	Reading string
}

// Past is how an alert ended that a run was begun for. What came back soon is not repaired, whatever the run said; that
// a false alarm stood is to the runbook's credit.
type Past struct {
	Runbook, Outcome string
	At               time.Time
	// Alike says that the alert was like this one, and not only of the same service.
	Alike bool
}

// Suggestion is a runbook that may fit.
type Suggestion struct {
	Book *runbook.Book
	// Points are what it is ranked by; the reasons say what they are for.
	Points  int
	Reasons []string
	// Inputs are filled in as far as they are known; Missing are those that somebody must give.
	Inputs  map[string]any
	Missing []string
}

// What each reason weighs.
const (
	fits       = 50
	reads      = 25
	actsOn     = 15
	isFor      = 20
	isForNeed  = 8
	speaks     = 5
	mostSpeaks = 15
	helped     = 30
	helpedNear = 10
)

// Most bounds how many are suggested.
const Most = 10

// Runbooks ranks the runbooks that have a reason, the best first.
func Runbooks(t Trouble, books []*runbook.Book, past []Past, now time.Time) []Suggestion {
	var out []Suggestion
	for _, b := range books {
		s := Suggestion{Book: b}
		s.occasion(t)
		s.service(t)
		s.reading(t)
		s.target(t)
		if s.Points > 0 { // words alone are no reason
			s.words(t)
		}
		s.history(past, now)
		if s.Points <= 0 || len(s.Reasons) == 0 {
			continue
		}
		s.inputs(t)
		out = append(out, s)
	}
	slices.SortStableFunc(out, func(a, b Suggestion) int {
		return cmp.Or(cmp.Compare(b.Points, a.Points), cmp.Compare(a.Book.Name, b.Book.Name))
	})
	return out[:min(len(out), Most)]
}

func (s *Suggestion) reason(points int, format string, args ...any) {
	s.Points += points
	s.Reasons = append(s.Reasons, fmt.Sprintf(format, args...))
}

// occasion asks whether a start of it holds for one of the alerts.
func (s *Suggestion) occasion(t Trouble) {
	for _, st := range s.Book.Starts {
		if st.Alert == nil {
			continue
		}
		for _, a := range t.Alerts {
			if ok, err := st.Alert.Bool(&expr.Scope{Alert: a}); err == nil && ok {
				s.reason(fits, "its start %s fits the alert", st.Name)
				return
			}
		}
	}
}

func (s *Suggestion) service(t Trouble) {
	switch {
	case t.Service == "":
	case s.Book.Service == t.Service:
		s.reason(isFor, "it is for %s", t.Service)
	case slices.Contains(t.DependsOn, s.Book.Service):
		s.reason(isForNeed, "it is for %s, which %s needs", s.Book.Service, t.Service)
	}
}

// reading asks whether it reads what is looked at.
func (s *Suggestion) reading(t Trouble) {
	if t.Reading != "" && s.Book.Service == t.Service && s.Book.Takes(t.Reading) != nil {
		s.reason(reads, "it reads %s", t.Reading)
	}
}

// target asks whether one of its steps acts on targets like the one that is looked at.
func (s *Suggestion) target(t Trouble) {
	if t.Target == "" || s.Book.Service != t.Service {
		return
	}
	for _, step := range s.Book.All() {
		if step.Where == nil || step.Where.Name != nil || len(step.Where.Labels) == 0 {
			continue
		}
		like := true
		for k, v := range step.Where.Labels {
			like = like && len(v.Holes()) == 0 && t.Labels[k] == v.Source
		}
		if like {
			s.reason(actsOn, "it acts on targets like %s", t.Target)
			return
		}
	}
}

// words looks for words of the alerts in what the runbook says of itself.
func (s *Suggestion) words(t Trouble) {
	own := wordsOf(strings.Join(append(slices.Clone(s.Book.Tags), s.Book.Name, s.Book.Title, s.Book.About), " "))
	own = append(own, s.Book.Tags...)
	var found []string
	for _, a := range t.Alerts {
		text := fmt.Sprint(a["summary"])
		if labels, ok := a["labels"].(map[string]string); ok {
			for _, k := range slices.Sorted(maps.Keys(labels)) {
				text += " " + labels[k]
			}
		}
		for _, w := range wordsOf(text) {
			if slices.Contains(own, w) && !slices.Contains(found, w) {
				found = append(found, w)
			}
		}
	}
	if len(found) > 0 {
		slices.Sort(found)
		s.reason(min(mostSpeaks, speaks*len(found)), "it speaks of %s", strings.Join(found[:min(len(found), 5)], ", "))
	}
}

// leastWord is how long a word is that says something.
const leastWord = 4

func wordsOf(text string) []string {
	var out []string
	for _, w := range strings.FieldsFunc(strings.ToLower(text), func(r rune) bool { return !unicode.IsLetter(r) }) {
		if len(w) >= leastWord && !common[w] {
			out = append(out, w)
		}
	}
	return out
}

// common words are in many texts and say nothing.
var common = map[string]bool{
	"with": true, "that": true, "this": true, "from": true, "have": true, "when": true, "what": true, "where": true,
	"wait": true, "than": true, "then": true, "they": true, "there": true, "which": true, "none": true, "null": true,
	"service": true, "host": true, "alert": true,
}

// history asks how it went before, on incidents like this one and on others of the service.
func (s *Suggestion) history(past []Past, now time.Time) {
	for _, alike := range []bool{true, false} {
		good, all := 0, 0
		var last time.Time
		for _, p := range past {
			if p.Runbook != s.Book.Name || p.Alike != alike {
				continue
			}
			all++
			if p.Outcome == "repaired" || p.Outcome == "mitigated" || p.Outcome == "false-alarm" {
				good++
			}
			if p.At.After(last) {
				last = p.At
			}
		}
		if all == 0 {
			continue
		}
		what, weight := "alerts like this one", helped
		if !alike {
			what, weight = "other alerts of the service", helpedNear
		}
		s.reason(
			weight*good/all-(weight/3)*(all-good)/all,
			"%d of %d %s for which it was begun ended well, the last one %s",
			good,
			all,
			what,
			daysAgo(max(0, int(now.Sub(last).Hours()/24))),
		)
	}
}

func daysAgo(days int) string {
	switch days {
	case 0:
		return "today"
	case 1:
		return "a day ago"
	}
	return fmt.Sprintf("%d days ago", days)
}

// inputs fills in what the alert says: by the start that fits it, else by labels of the same name.
func (s *Suggestion) inputs(t Trouble) {
	s.Inputs, s.Missing = map[string]any{}, []string{}
	given := map[string]any{}
	for k, v := range t.Labels {
		given[k] = v
	}
	if t.Target != "" {
		given["target"], given["host"] = t.Target, t.Target
	}
	for _, a := range t.Alerts {
		if labels, ok := a["labels"].(map[string]string); ok {
			for k, v := range labels {
				given[k] = v
			}
		}
		if from := s.Book.InputsFor(a); from != nil {
			maps.Copy(given, from)
			break
		}
	}
	for _, in := range s.Book.Inputs {
		if v, ok := given[in.Name]; ok {
			if accepted, err := in.Accept(v); err == nil {
				s.Inputs[in.Name] = accepted
				continue
			}
		}
		if in.Default == nil {
			s.Missing = append(s.Missing, in.Name)
		}
	}
}

package cases

import (
	"errors"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"urgentis/core/expr"
	"urgentis/core/flow"
	"urgentis/core/leave"
	"urgentis/core/reading"
	"urgentis/core/runbook"
	"urgentis/core/tell"
)

// hidden stands in a case for what a reading kept out of every record.
const hidden = "a-hidden-value"

// Of makes a case of what a run met and became: played, it must go the same way. The text is a whole file of cases
// with that one in it. What cannot be played again, such as a cancel, is an error.
func Of(book *runbook.Book, log []flow.Event, name string, evaluate flow.Evaluate) (string, error) {
	if len(log) == 0 {
		return "", errors.New("the log is empty")
	}
	begun, ok := log[0].Body.(flow.Begun)
	if !ok {
		return "", errors.New("the log does not begin with run.begun")
	}
	r := &recorder{
		p:     &player{book: book, did: map[string]flow.Place{}, evaluate: evaluate},
		asked: map[string]flow.Intent{}, at: map[string]string{},
		meets: map[string][]any{}, people: map[string][]any{}, leave: map[string]string{}, becomes: map[string]string{},
	}
	for _, e := range log {
		if err := r.event(e); err != nil {
			return "", err
		}
	}
	if r.end == nil {
		return "", errors.New("the run is not over")
	}
	return r.text(begun, log, name)
}

type recorder struct {
	p     *player
	asked map[string]flow.Intent // by attempt
	at    map[string]string      // the step of each gate and question
	last  string                 // the newest step

	meets, people  map[string][]any
	leave, becomes map[string]string
	end            *flow.Ended
}

func (r *recorder) event(e flow.Event) error {
	name := r.p.at(e.Place)
	switch x := e.Body.(type) {
	case flow.Intent:
		r.asked[x.Attempt], r.p.did[x.Attempt] = x, e.Place
	case flow.Outcome:
		if x.State != flow.Held {
			r.outcome(x)
		}
	case flow.Lost:
		in := r.asked[x.Attempt]
		if in.Touches() {
			r.meet(in, yaml.MapSlice{{Key: flow.Unknown, Value: x.Because}})
		}
	case flow.LeaveGiven:
		if _, said := r.leave[name]; !said && x.Verdict != leave.Gate {
			r.leave[name] = string(x.Verdict)
		}
	case flow.GateRaised:
		r.at[x.Gate] = name
	case flow.GateDecided:
		r.say(r.at[x.Gate], map[bool]string{true: Approve, false: Refuse}[x.Approved])
	case flow.GateExpired:
		if x.Because == "" {
			r.say(r.at[x.Gate], Nobody)
		}
	case flow.QuestionRaised:
		r.at[x.Question] = name
	case flow.QuestionAnswered:
		r.answered(x)
	case flow.QuestionExpired:
		if x.Because == "" {
			r.say(r.at[x.Question], Nobody)
		}
	case flow.AlertChanged:
		r.news(x)
	case flow.CancelAsked:
		return errors.New("somebody cancelled this run; a case cannot say that")
	case flow.Ended:
		r.end = &x
	}
	if !e.Place.IsZero() {
		r.last = name
	}
	return nil
}

func (r *recorder) say(step string, word any) { r.people[step] = append(r.people[step], word) }

func (r *recorder) answered(x flow.QuestionAnswered) {
	switch {
	case x.By == flow.Itself:
	case len(x.Fields) > 0:
		r.say(r.at[x.Question], yaml.MapSlice{{Key: "choice", Value: x.Choice}, {Key: "fields", Value: x.Fields}})
	default:
		r.say(r.at[x.Question], x.Choice)
	}
}

func (r *recorder) news(x flow.AlertChanged) {
	switch {
	case r.last == "":
	case x.Cleared:
		r.becomes[r.last] = Cleared
	case x.Worse:
		r.becomes[r.last] = Worse
	}
}

// meet adds what an attempt met.
func (r *recorder) meet(in flow.Intent, how yaml.MapSlice) {
	name := r.p.at(r.p.did[in.Attempt])
	switch {
	case in.Undoes():
		name = undone + name
	case !in.Look.IsZero():
		name = r.p.at(in.Look)
	}
	if in.Target != "" {
		how = append(yaml.MapSlice{{Key: "target", Value: in.Target}}, how...)
	}
	r.meets[name] = append(r.meets[name], how)
}

func (r *recorder) outcome(x flow.Outcome) {
	in := r.asked[x.Attempt]
	look, _ := flow.Find(r.p.book, in.Look)
	switch {
	case x.State == flow.OK && look != nil && len(look.Read) > 0:
		r.meet(in, r.seen(look, x))
	case x.State == flow.OK && look != nil:
		r.meet(in, yaml.MapSlice{{Key: "prints", Value: x.Output.Head}})
	case x.State == flow.OK:
		r.meet(in, yaml.MapSlice{{Key: "exit", Value: wellEnded(exitOf(x, in))}})
	case x.State == flow.Failed && x.Exit != nil && !good(in.Request, *x.Exit):
		r.meet(in, yaml.MapSlice{{Key: "exit", Value: *x.Exit}}) // it was begun
	default:
		why := x.Error
		if why == "" {
			why = "it did not end well"
		}
		r.meet(in, yaml.MapSlice{{Key: x.State, Value: why}})
	}
}

// wellEnded is the exit of a change that ended well: the same as saying nothing of it.
type wellEnded int

// exitOf is an exit that counts as good.
func exitOf(x flow.Outcome, in flow.Intent) int {
	switch {
	case x.Exit != nil && good(in.Request, *x.Exit):
		return *x.Exit
	case in.Request.Kind == "http":
		return 200
	}
	return 0
}

// seen tells a look by what it printed, where that is whole and gives the same readings again; by its readings where
// not.
func (r *recorder) seen(look *runbook.Step, x flow.Outcome) yaml.MapSlice {
	text := x.Output.Head
	whole := x.Output.Artifact == "" && !x.Output.Cut && int64(len(text)) == x.Output.Size
	again := flow.Outcome{Exit: x.Exit}
	flow.TakeReadings(&again, look, "", flow.Taker{
		Text: func(reading.Spec) string { return text }, Evaluate: r.p.evaluate,
	})
	same := whole && len(again.Readings) == len(x.Readings)
	for name, t := range x.Readings {
		same = same && reflect.DeepEqual(expr.Say(t.Value), expr.Say(again.Readings[name].Value))
	}
	if same {
		out := yaml.MapSlice{{Key: "prints", Value: text}}
		if x.Exit != nil && *x.Exit != 0 {
			out = append(out, yaml.MapItem{Key: "exit", Value: *x.Exit})
		}
		return out
	}
	values := yaml.MapSlice{}
	for _, spec := range look.Read {
		t, ok := x.Readings[spec.Name]
		switch {
		case !ok:
		case spec.Sealed:
			values = append(values, yaml.MapItem{Key: spec.Name, Value: hidden})
		default:
			values = append(values, yaml.MapItem{Key: spec.Name, Value: t.Value})
		}
	}
	return yaml.MapSlice{{Key: "read", Value: values}}
}

// text writes the file.
func (r *recorder) text(begun flow.Begun, log []flow.Event, name string) (string, error) {
	did := r.p.doneIn(log)
	came, _ := tell.Came(r.p.book, log)
	one := yaml.MapSlice{
		{Key: "about", Value: fmt.Sprintf("Run %s, as it went.", begun.Run)},
		{Key: "at", Value: log[0].At.UTC().Format(time.RFC3339)},
		{Key: "targets", Value: targetsOf(begun.Estate)},
	}
	put := func(key string, value any) {
		if reflect.ValueOf(value).Len() > 0 {
			one = append(one, yaml.MapItem{Key: key, Value: value})
		}
	}
	put("inputs", begun.Inputs)
	put("alert", withoutTimes(begun.Alert))
	for step, list := range r.meets {
		if slices.ContainsFunc(list, func(x any) bool { return !endedWell(x.(yaml.MapSlice)) }) {
			r.meets[step] = shortened(list)
		} else {
			delete(r.meets, step) // a change of which nothing is said ends well
		}
	}
	put("meets", sorted(r.meets))
	put("people", sorted(r.people))
	put("leave", sorted(r.leave))
	put("becomes", sorted(r.becomes))
	one = append(one, yaml.MapItem{Key: "comes_to", Value: came})
	one = append(one, yaml.MapItem{Key: "asks", Value: notNil(did.asks)})
	one = append(one, yaml.MapItem{Key: "changes", Value: notNil(did.changes)})
	out, err := yaml.Marshal(yaml.MapSlice{
		{Key: "urgentis", Value: Version},
		{Key: "runbook", Value: r.p.book.Name},
		{Key: "cases", Value: yaml.MapSlice{{Key: name, Value: one}}},
	})
	if err != nil {
		return "", fmt.Errorf("write the case: %w", err)
	}
	return string(out), nil
}

func notNil(list []string) []string { return append([]string{}, list...) }

func sorted[T any](m map[string]T) yaml.MapSlice {
	out := yaml.MapSlice{}
	for _, k := range slices.Sorted(maps.Keys(m)) {
		out = append(out, yaml.MapItem{Key: k, Value: m[k]})
	}
	return out
}

func targetsOf(estate []flow.Target) yaml.MapSlice {
	out := yaml.MapSlice{}
	for _, t := range estate {
		one := yaml.MapSlice{}
		for _, k := range slices.Sorted(maps.Keys(t.Labels)) {
			if k != "address" && k != "known" {
				one = append(one, yaml.MapItem{Key: k, Value: t.Labels[k]})
			}
		}
		if t.Address != t.Name && t.Address != "" {
			one = append(one, yaml.MapItem{Key: "address", Value: t.Address})
		}
		if len(t.Known) > 0 {
			one = append(one, yaml.MapItem{Key: "known", Value: t.Known})
		}
		out = append(out, yaml.MapItem{Key: t.Name, Value: one})
	}
	return out
}

// withoutTimes leaves out of an alert what is no value of a file, and what says nothing.
func withoutTimes(alert map[string]any) map[string]any {
	out := map[string]any{}
	for k, v := range alert {
		switch v.(type) {
		case time.Time, nil:
		default:
			if v != "" && !strings.HasSuffix(k, "_at") {
				out[k] = v
			}
		}
	}
	return out
}

// endedWell reports whether nothing but a good exit is said.
func endedWell(m yaml.MapSlice) bool {
	_, well := m[len(m)-1].Value.(wellEnded)
	return well
}

// on is the target of what is said; "" where it is for all.
func on(m yaml.MapSlice) string {
	if m[0].Key == "target" {
		return fmt.Sprint(m[0].Value)
	}
	return ""
}

// shortened leaves out what is said again at the end of what is said of a target: the last thing stays.
func shortened(list []any) []any {
	var out []any
	for i, x := range list {
		m := x.(yaml.MapSlice)
		again := before(list[:i], on(m))
		if again == nil || !reflect.DeepEqual(again, m) || slices.ContainsFunc(list[i:], func(y any) bool {
			later := y.(yaml.MapSlice)
			return on(later) == on(m) && !reflect.DeepEqual(later, m)
		}) {
			out = append(out, x)
		}
	}
	return out
}

// before is the newest thing said of a target; nil for none.
func before(list []any, target string) yaml.MapSlice {
	for _, x := range slices.Backward(list) {
		if m := x.(yaml.MapSlice); on(m) == target {
			return m
		}
	}
	return nil
}

// Join adds the case of one file to another one of the same runbook.
func Join(file, one string) (string, error) {
	_, text, found := strings.Cut(one, "\ncases:\n")
	if !found {
		return "", errors.New("there is no case in it")
	}
	out := strings.TrimRight(file, "\n") + "\n\n" + text
	if _, wrong := Parse([]byte(out)); wrong.Failed() {
		return "", fmt.Errorf("the case cannot stand at the end of this file: %w", wrong)
	}
	return out, nil
}

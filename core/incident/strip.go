package incident

import (
	"encoding/json"
	"math"
	"time"
)

// Strip is the picture of an incident: time from left to right, four lanes, and the readings under them.
type Strip struct {
	From, To time.Time
	Spans    []Span
	Marks    []Mark
	Lines    []Line
}

// Lanes of the strip, from top to bottom.
const (
	Evidence = "evidence"
	Decision = "decision"
	Change   = "change"
	Proof    = "proof"
)

// Span states.
const (
	Going   = "going"
	Good    = "good"
	Bad     = "bad"
	Unsure  = "unsure"
	Waiting = "waiting"
)

// Span is something that took time. To is zero while it goes on.
type Span struct {
	Lane, Title, State string
	From, To           time.Time
	Entry              int64
}

// Mark is a moment.
type Mark struct {
	At    time.Time
	Kind  Kind
	Title string
}

// Line is a numeric reading over time.
type Line struct {
	Reading, Unit string
	Points        []Point
}

// Point is one taking.
type Point struct {
	At     time.Time
	Value  float64
	Target string
}

// content is what the strip reads of entries.
type content struct {
	Verb      string `json:"verb"`
	StepTitle string `json:"step_title"`
	TookMS    int64  `json:"took_ms"`
	State     string `json:"state"`
	Gate      string `json:"gate"`
	Question  string `json:"question"`
	Attempt   string `json:"attempt"`
	Proves    string `json:"proves"`
	Readings  map[string]struct {
		Value any       `json:"value"`
		Unit  string    `json:"unit"`
		At    time.Time `json:"at"`
	} `json:"readings"`
	Target string `json:"target"`
}

// maxPoints bounds the points of one line.
const maxPoints = 2000

// Draw makes the strip of a record; closed is the end of the incident, zero while it is open.
func Draw(entries []Entry, opened, closed, now time.Time) Strip {
	d := drawing{s: Strip{From: opened, To: closed}, open: map[string]int{}, lines: map[string]int{}}
	if closed.IsZero() {
		d.s.To = now
	}
	for _, e := range entries {
		var c content
		if e.Content != nil && json.Unmarshal(e.Content, &c) != nil {
			continue
		}
		d.entry(e, c)
	}
	return d.s
}

type drawing struct {
	s     Strip
	open  map[string]int // spans that go on
	lines map[string]int
}

func (d *drawing) begin(key, lane, title, state string, e Entry, from time.Time) {
	d.open[key] = len(d.s.Spans)
	d.s.Spans = append(d.s.Spans, Span{Lane: lane, Title: title, State: state, From: from, Entry: e.Seq})
}

func (d *drawing) end(key, state string, at time.Time) {
	if i, ok := d.open[key]; ok {
		d.s.Spans[i].State, d.s.Spans[i].To = state, at
		delete(d.open, key)
	}
}

func (d *drawing) entry(e Entry, c content) {
	switch e.Kind {
	case AlertRaised, AlertWorse, AlertBetter, AlertCleared, Closed, RunHandedOver, RunFailed:
		d.s.Marks = append(d.s.Marks, Mark{e.At, e.Kind, e.Title})
		if e.At.After(d.s.To) {
			d.s.To = e.At // an alert may clear after the incident was closed
		}
	case LookTaken, LookIncomplete:
		d.look(e, c)
	case CheckPasses, CheckFails, CheckUnsure:
		state := map[Kind]string{CheckPasses: Good, CheckFails: Bad, CheckUnsure: Unsure}[e.Kind]
		if _, ok := d.open["check "+e.Run+e.Step]; !ok {
			lane := Decision
			if c.Proves != "" {
				lane = Proof
			}
			d.begin("check "+e.Run+e.Step, lane, e.Title, state, e, e.At)
		}
		d.end("check "+e.Run+e.Step, state, e.At)
	case GateRaised:
		d.begin("gate "+c.Gate, Decision, e.Title, Waiting, e, e.At)
	case GateApproved:
		d.end("gate "+c.Gate, Good, e.At)
	case GateRefused, GateExpired:
		d.end("gate "+c.Gate, Bad, e.At)
	case QuestionRaised:
		d.begin("question "+c.Question, Decision, e.Title, Waiting, e, e.At)
	case QuestionAnswered:
		d.end("question "+c.Question, Good, e.At)
	case QuestionExpired:
		d.end("question "+c.Question, Bad, e.At)
	case ChangeBegun:
		d.begin("change "+c.Attempt, Change, e.Title, Going, e, e.At)
	case ChangeEnded:
		d.end("change "+c.Attempt, map[string]string{"ok": Good, "failed": Bad, "unknown": Unsure}[c.State], e.At)
	case AttemptLost:
		d.end("change "+c.Attempt, Unsure, e.At)
	}
}

// look draws one taking: under a check it belongs to the proof, which is one span until it is decided.
func (d *drawing) look(e Entry, c content) {
	from := e.At.Add(-time.Duration(c.TookMS) * time.Millisecond)
	if c.Verb == "check" {
		key := "check " + e.Run + e.Step
		if _, ok := d.open[key]; !ok {
			d.begin(key, Proof, c.StepTitle, Going, e, from)
		}
	} else {
		state := Good
		if e.Kind == LookIncomplete {
			state = Unsure
		}
		d.s.Spans = append(d.s.Spans, Span{Evidence, e.Title, state, from, e.At, e.Seq})
	}
	for name, r := range c.Readings {
		v, ok := r.Value.(float64)
		if !ok || math.IsNaN(v) {
			continue
		}
		i, ok := d.lines[name]
		if !ok {
			i = len(d.s.Lines)
			d.lines[name] = i
			d.s.Lines = append(d.s.Lines, Line{Reading: name, Unit: r.Unit})
		}
		if len(d.s.Lines[i].Points) < maxPoints {
			d.s.Lines[i].Points = append(d.s.Lines[i].Points, Point{r.At, v, c.Target})
		}
	}
}

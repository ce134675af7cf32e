package incident

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
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

// Draw makes the strip of a record; closed is the end of the incident, zero while it is open.
func Draw(entries []Entry, opened, closed, now time.Time) Strip {
	d := NewDrawing()
	for i := range entries {
		d.Add(&entries[i])
	}
	return d.Strip(opened, closed, now)
}

// Drawing takes entries as they come, so that the strip of a record that grows need not be drawn from its beginning.
type Drawing struct {
	s     Strip
	last  time.Time      // of what is drawn: an alert may clear after the incident was closed
	open  map[string]int // spans that go on
	lines map[string]int
}

// NewDrawing begins a strip.
func NewDrawing() *Drawing { return &Drawing{open: map[string]int{}, lines: map[string]int{}} }

// Add takes an entry in.
func (d *Drawing) Add(e *Entry) {
	if !e.Kind.About().Drawn {
		return
	}
	var c content
	if e.Content != nil && json.Unmarshal(e.Content, &c) != nil {
		return
	}
	if e.At.After(d.last) {
		d.last = e.At
	}
	d.entry(e, c)
}

// Strip is what was drawn so far; closed is the end of the incident, zero while it is open.
func (d *Drawing) Strip(opened, closed, now time.Time) Strip {
	s := Strip{From: opened, To: closed, Spans: slices.Clone(d.s.Spans), Marks: slices.Clone(d.s.Marks),
		Lines: slices.Clone(d.s.Lines)}
	if closed.IsZero() {
		s.To = now
	}
	if d.last.After(s.To) {
		s.To = d.last
	}
	s.thin()
	return s
}

// cells is into how many parts the time of a strip is divided: what lies closer together is not told apart.
const cells = 300

// thin makes a strip as small as it can be seen: short spans of one lane and one state that stand side by side become
// one, and so do marks of a kind; of each line and target the lowest and the highest point of a cell stay. What is bad,
// unsure or waiting is never taken into what is good.
func (s *Strip) thin() {
	cell := s.To.Sub(s.From) / cells
	if cell <= 0 {
		return
	}
	s.Spans = thinSpans(s.Spans, cell)
	s.Marks = thinMarks(s.Marks, cell)
	for i := range s.Lines {
		s.Lines[i].Points = thinPoints(s.Lines[i].Points, s.From, cell)
	}
}

func thinSpans(spans []Span, cell time.Duration) []Span {
	var out []Span
	last, more := map[string]int{}, map[int]int{}
	for _, x := range spans {
		i, ok := last[x.Lane]
		if ok && x.State != Waiting && out[i].State == x.State && !x.To.IsZero() && !out[i].To.IsZero() &&
			x.To.Sub(x.From) < 2*cell && !x.From.Before(out[i].From) && x.From.Sub(out[i].To) < cell {
			if x.To.After(out[i].To) {
				out[i].To = x.To
			}
			more[i]++
			continue
		}
		last[x.Lane] = len(out)
		out = append(out, x)
	}
	for i, n := range more {
		out[i].Title += fmt.Sprintf(" and %d more", n)
	}
	return out
}

func thinMarks(marks []Mark, cell time.Duration) []Mark {
	var out []Mark
	last, more := map[Kind]int{}, map[int]int{}
	for _, m := range marks {
		if i, ok := last[m.Kind]; ok && m.At.Sub(out[i].At) < cell {
			more[i]++
			continue
		}
		last[m.Kind] = len(out)
		out = append(out, m)
	}
	for i, n := range more {
		out[i].Title += fmt.Sprintf(" and %d more", n)
	}
	return out
}

func thinPoints(points []Point, from time.Time, cell time.Duration) []Point {
	type place struct {
		target string
		cell   int64
	}
	kept := map[place][2]int{} // where its lowest and its highest stand
	for i, p := range points {
		at := place{p.Target, int64(p.At.Sub(from) / cell)}
		k, ok := kept[at]
		if !ok {
			k = [2]int{i, i}
		}
		if p.Value < points[k[0]].Value {
			k[0] = i
		}
		if p.Value > points[k[1]].Value {
			k[1] = i
		}
		kept[at] = k
	}
	stays := map[int]bool{}
	for _, k := range kept {
		stays[k[0]], stays[k[1]] = true, true
	}
	var out []Point
	for i, p := range points {
		if stays[i] {
			out = append(out, p)
		}
	}
	return out
}

func (d *Drawing) begin(key, lane, title, state string, e *Entry, from time.Time) {
	d.open[key] = len(d.s.Spans)
	d.s.Spans = append(d.s.Spans, Span{Lane: lane, Title: title, State: state, From: from, Entry: e.Seq})
}

func (d *Drawing) end(key, state string, at time.Time) {
	if i, ok := d.open[key]; ok {
		d.s.Spans[i].State, d.s.Spans[i].To = state, at
		delete(d.open, key)
	}
}

func (d *Drawing) entry(e *Entry, c content) {
	switch e.Kind {
	case AlertRaised, AlertWorse, AlertBetter, AlertCleared, Closed, RunHandedOver, RunFailed:
		d.s.Marks = append(d.s.Marks, Mark{e.At, e.Kind, e.Title})
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
func (d *Drawing) look(e *Entry, c content) {
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
		d.s.Lines[i].Points = append(d.s.Lines[i].Points, Point{r.At, v, c.Target})
	}
}

package story

import (
	"strings"
	"time"

	"urgentis/core/incident"
)

// Lane is what a row is about.
type Lane string

// The lanes.
const (
	Alert    Lane = "alert"
	Runbook  Lane = "run"
	Evidence Lane = "evidence"
	Decision Lane = "decision"
	Change   Lane = "change"
	Proof    Lane = "proof"
	Wait     Lane = "wait"
	People   Lane = "people"
	End      Lane = "end"
)

// State is how a row stands.
type State string

// The states, from the one that is said whatever else is there to the one that says least.
const (
	Unknown State = "unknown" // nobody knows what became of a change
	Bad     State = "bad"
	Unsure  State = "unsure" // evidence is missing
	Waiting State = "waiting"
	Going   State = "going"
	Good    State = "good"
	Over    State = "over"
)

var states = []State{Unknown, Bad, Unsure, Waiting, Going, Good, Over}

// worse gives the state of two that is to be said.
func worse(a, b State) State {
	for _, s := range states {
		if a == s || b == s {
			return s
		}
	}
	return a
}

// Weight is who wants to read a row.
type Weight string

// The weights.
const (
	Tell   Weight = "tell"   // whoever was not there
	Detail Weight = "detail" // whoever asks how
	Quiet  Weight = "quiet"  // it is machinery
)

// Row is a line of the story, and what belongs to it.
type Row struct {
	// First and Last are the numbers of its first and newest entry. First names the row: a row never moves.
	First, Last int64
	Kind        incident.Kind // of its first entry
	At, Until   time.Time
	Lane        Lane
	State       State
	Weight      Weight
	// Word is at most ten letters.
	Word      string
	Run, Step string
	Title     string
	Says      Text
	Below     []Text
	Targets   []string
	// Rounds is how often the targets were asked; Entries how many entries it stands for.
	Rounds, Entries int
	Courses         []Course
}

// Headline is its title and what it says.
func (r *Row) Headline() string { return join(Between(r.Title), text(r.Title), r.Says).String() }

// Between stands between a title and what follows it.
func Between(title string) string {
	if strings.HasSuffix(title, "?") {
		return " "
	}
	return ": "
}

// Course is how a number went in a row, on the target that stands for it.
type Course struct {
	Reading, Unit, Target  string
	First, Last, Low, High float64
	// Limit is what it was held against, where that is one number.
	Limit *float64
}

// Is is what a part of a text is, where that is shown.
type Is string

// What parts of texts are.
const (
	Words  Is = ""
	Value  Is = "value"
	Code   Is = "code"
	Quote  Is = "quote"
	Time   Is = "time"
	Person Is = "person"
	Target Is = "target"
)

// Span is a part of a text. Of a Time, Text is in UTC and At what whoever shows it may write otherwise.
type Span struct {
	Text string
	Is   Is
	At   time.Time
}

// Text is a line for people.
type Text []Span

// String writes it without its parts.
func (t Text) String() string {
	var b strings.Builder
	for _, s := range t {
		b.WriteString(s.Text)
	}
	return b.String()
}

// text joins words and parts; what is empty is left out.
func text(parts ...any) Text {
	var out Text
	for _, p := range parts {
		switch x := p.(type) {
		case string:
			out = out.and(Span{Text: x})
		case Span:
			out = out.and(x)
		case Text:
			for _, s := range x {
				out = out.and(s)
			}
		}
	}
	return out
}

func (t Text) and(s Span) Text {
	if s.Text == "" {
		return t
	}
	if n := len(t); n > 0 && t[n-1].Is == Words && s.Is == Words {
		t[n-1].Text += s.Text
		return t
	}
	return append(t, s)
}

// join writes texts one after another, with words between them.
func join(between string, list ...Text) Text {
	var out Text
	for _, t := range list {
		if len(t) == 0 {
			continue
		}
		if len(out) > 0 {
			out = text(out, between)
		}
		out = text(out, t)
	}
	return out
}

func code(s string) Span  { return Span{Text: s, Is: Code} }
func value(s string) Span { return Span{Text: s, Is: Value} }
func quote(s string) Span { return Span{Text: s, Is: Quote} }
func who(s string) Span   { return Span{Text: s, Is: Person} }

func clock(at time.Time) Span { return Span{Text: at.UTC().Format("15:04:05"), Is: Time, At: at} }

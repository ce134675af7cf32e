package trigger

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/alert"
	"urgentis/core/calendar"
	"urgentis/core/doc"
	"urgentis/core/expr"
	"urgentis/core/field"
	"urgentis/core/plain"
)

// Start says on which occasion a runbook starts. A runbook brings some along; others stand beside it as documents.
type Start struct {
	Name string
	Line int
	// One of them is the occasion: what must be so of an alert, of an incident as it is opened, or of a deployment;
	// when it is due; or that somebody posts to an address of its own.
	Alert, Incident, Deployment *expr.Program
	Schedule                    *calendar.Schedule
	Address                     bool
	// On are the changes of an alert at which it is judged; none: DefaultOn.
	On []alert.Change
	// Missed says what becomes of times of a schedule at which nobody was there; "": MissedOnce.
	Missed string
	// Hours is in which calendar's hours it may start; nil: at any time.
	Hours *Hours
	// Inputs are what the run is begun with.
	Inputs map[string]*field.Field
	// Steady is how long the alert must stay so before the runbook starts; 0: it starts at once.
	Steady time.Duration
	// Count is the how-manieth occasion within Within starts it; counting begins anew then. 0: each one does.
	Count  int
	Within time.Duration
	// AtMost is how often it may start within Per; 0: as often as it likes.
	AtMost int
	Per    time.Duration
}

// Hours are those inside or outside of a calendar's.
type Hours struct {
	Inside   bool
	Calendar string
}

// DefaultOn are the changes of an alert at which a start is judged unless it says others.
var DefaultOn = []alert.Change{alert.New, alert.Worse}

// Changes are those at which one may be judged.
var Changes = []alert.Change{alert.New, alert.Worse, alert.Better, alert.Clear, alert.Repeat}

// Occasions are the keys of a start one of which must be there.
var Occasions = []string{"alert", "incident", "deployment", "schedule", "address"}

// What becomes of times of a schedule at which no instance was there.
const (
	MissedOnce = "once" // one run for all of them
	MissedSkip = "skip" // none
	MissedEach = "each" // one for each, at most MostMissed
)

// MostMissed bounds the runs for times that were missed.
const MostMissed = 24

// JudgedOn reports whether it is judged at a change of an alert.
func (s *Start) JudgedOn(c alert.Change) bool {
	if len(s.On) == 0 {
		return slices.Contains(DefaultOn, c)
	}
	return slices.Contains(s.On, c)
}

// onWords are the changes at which it is judged.
func (s *Start) onWords() string {
	on := s.On
	if len(on) == 0 {
		on = DefaultOn
	}
	words := make([]string, len(on))
	for i, c := range on {
		words[i] = string(c)
	}
	return strings.Join(words, " or ")
}

// Only is the hours in words; "" where there are none.
func (h *Hours) Only() string {
	switch {
	case h == nil:
		return ""
	case h.Inside:
		return "inside the hours of " + h.Calendar
	}
	return "outside the hours of " + h.Calendar
}

// Says tells in words when it starts, one line each.
func (s *Start) Says() []string {
	var out []string
	switch {
	case s.Alert != nil:
		out = append(out, s.Alert.Source)
	case s.Incident != nil:
		out = append(out, "an incident is opened: "+s.Incident.Source)
	case s.Deployment != nil:
		out = append(out, "a deployment: "+s.Deployment.Source)
	case s.Schedule != nil:
		out = append(out, fmt.Sprintf("at %s in %s", s.Schedule.Text, s.Schedule.Zone))
	case s.Address:
		out = append(out, "a request to its own address")
	}
	if len(s.On) > 0 {
		out = append(out, "as the alert is "+s.onWords())
	}
	if s.Steady > 0 {
		out = append(out, "still so after "+plain.Span(s.Steady))
	}
	if s.Count > 0 {
		out = append(out, fmt.Sprintf("each %d times within %s", s.Count, plain.Span(s.Within)))
	}
	if s.Hours != nil {
		out = append(out, "only "+s.Hours.Only())
	}
	if s.AtMost > 0 {
		out = append(out, fmt.Sprintf("%d per %s at most", s.AtMost, plain.Span(s.Per)))
	}
	return out
}

// Place is where the expressions of its inputs stand: what they see is what the occasion brings.
func (s *Start) Place() expr.Where {
	switch {
	case s.Address:
		return expr.InReport.With("request", "")
	case s.Incident != nil:
		return expr.InReport.With("incident", "")
	case s.Deployment != nil:
		return expr.InReport.With("deployment", "")
	case s.Schedule != nil:
		return expr.InReport.With("at", "")
	}
	return expr.InStart
}

// Input is what a start must know of an input of its runbook.
type Input struct {
	Name   string
	Wanted bool // it has no default
}

// Reader reads starts out of documents.
type Reader struct {
	*doc.Text
	Cel *expr.Compiler
	// Inputs are those of the runbook; nil where they are not known.
	Inputs []Input
	// Old takes what may not be written anew any more.
	Old bool
}

// The longest times that a start may name.
const (
	maxSteady = 24 * time.Hour
	maxPer    = 7 * 24 * time.Hour
)

// Keys are those of a start, which are read into s. Those of an occasion come before those whose meaning rests on it.
func (r *Reader) Keys(s *Start) map[string]func(ast.Node) {
	return map[string]func(ast.Node){
		"alert": func(n ast.Node) {
			s.Alert = r.condition(n, expr.InStart, "alert")
		},
		"incident": func(n ast.Node) { s.Incident = r.condition(n, expr.InReport.With("incident", ""), "incident") },
		"deployment": func(n ast.Node) {
			s.Deployment = r.condition(n, expr.InReport.With("deployment", ""), "deployment")
		},
		"schedule": func(ast.Node) {}, // with its zone, afterwards
		"zone":     func(ast.Node) {},
		"missed": func(n ast.Node) {
			s.Missed = r.oneOf(n, "missed", []string{MissedOnce, MissedSkip, MissedEach})
		},
		"address": func(n ast.Node) {
			if s.Address = r.Boolean(n, "address"); !s.Address {
				r.Fail(n, "address: false says nothing; leave the key out")
			}
		},
		"on":    func(n ast.Node) { r.on(n, s) },
		"hours": func(n ast.Node) { s.Hours = r.Hours(n) },
		"steady": func(n ast.Node) {
			if s.Steady = r.Duration(n, "steady"); s.Steady > maxSteady {
				r.Fail(n, "steady may be a day at most")
			}
		},
		"count":   func(n ast.Node) { s.Count, s.Within = r.often(n, "count", "in") },
		"at_most": func(n ast.Node) { s.AtMost, s.Per = r.often(n, "at_most", "per") },
		"inputs":  func(ast.Node) {}, // where the occasion is known, afterwards
	}
}

// Finish reads what rests on the occasion, and holds a start to having one. root is where the start stands, got its
// values by their keys.
func (r *Reader) Finish(s *Start, root ast.Node, got map[string]ast.Node) {
	r.schedule(s, got)
	occasions := 0
	for _, k := range Occasions {
		if got[k] != nil {
			occasions++
		}
	}
	switch {
	case occasions == 0 && !r.Findings.Failed():
		r.Fail(
			root,
			"start %s does not say on which alert; give alert: CONDITION, or one of schedule, address, incident, "+
				"deployment",
			s.Name,
		)
	case occasions > 1:
		r.Fail(root, "start %s has several occasions; give each a start of its own", s.Name)
	}
	for _, k := range []string{"on", "steady"} {
		if got[k] != nil && got["alert"] == nil && occasions > 0 {
			r.Fail(got[k], "%s is about an alert; this start has another occasion", k)
		}
	}
	for _, k := range []string{"zone", "missed"} {
		if got[k] != nil && got["schedule"] == nil {
			r.Fail(got[k], "%s is about a schedule; this start has none", k)
		}
	}
	r.canHappen(got["alert"], s)
	r.inputs(s, got["inputs"])
	for _, in := range r.Inputs {
		if in.Wanted && s.Inputs[in.Name] == nil {
			r.Fail(root, "start %s does not say input %s, which has no default", s.Name, in.Name)
		}
	}
}

func (r *Reader) schedule(s *Start, got map[string]ast.Node) {
	n := got["schedule"]
	if n == nil {
		return
	}
	zone := time.UTC
	if z := got["zone"]; z != nil {
		zone = r.Zone(z, "zone")
	}
	var err error
	if s.Schedule, err = calendar.ParseSchedule(r.Word(n, "schedule"), zone); err != nil {
		r.Fail(n, "%s", err)
	}
}

func (r *Reader) inputs(s *Start, n ast.Node) {
	s.Inputs = map[string]*field.Field{}
	if n == nil {
		return
	}
	var names []string
	for _, in := range r.Inputs {
		names = append(names, in.Name)
	}
	fields := &field.Reader{Text: r.Text, Cel: r.Cel, Where: s.Place(), Meant: r.meant(s.Place()), Plain: r.unfilled}
	for _, v := range r.Mapping(n, "inputs") {
		if r.Inputs != nil && !slices.Contains(names, v.Key) {
			r.At(doc.Position(v.Node), 0, false, "the runbook has no input "+v.Key, doc.Nearest(v.Key, names))
			continue
		}
		s.Inputs[v.Key] = fields.Read(v.Value, "an input")
	}
}

// unfilled warns of a value that its author meant to be filled in.
func (r *Reader) unfilled(n ast.Node, t *expr.Template) {
	if m := singleBraces.FindString(t.Source); m != "" {
		r.Warn(n, "%s stands as it is: a value is filled in by {%s}", strings.Trim(m, " "), strings.Trim(m, " "))
	}
}

// singleBraces finds a value that its author meant to be filled in.
var singleBraces = regexp.MustCompile(`(?:^|[^{])\{ ?(?:alert|request|incident|deployment)\.[a-z_.]+ ?\}(?:[^}]|$)`)

func (r *Reader) on(n ast.Node, s *Start) {
	for _, w := range r.List(n, "on") {
		words := make([]string, len(Changes))
		for i, c := range Changes {
			words[i] = string(c)
		}
		if c := r.oneOf(w, "on", words); c != "" {
			s.On = append(s.On, alert.Change(c))
		}
	}
}

func (r *Reader) oneOf(n ast.Node, what string, words []string) string {
	w := r.Word(n, what)
	if !slices.Contains(words, w) {
		r.At(
			doc.Position(n),
			0,
			false,
			what+" must be one of "+strings.Join(words, ", ")+", not "+w,
			doc.Nearest(w, words),
		)
		return ""
	}
	return w
}

// Hours reads inside: CALENDAR or outside: CALENDAR.
func (r *Reader) Hours(n ast.Node) *Hours {
	h := &Hours{}
	got := r.Fields(n, "hours", map[string]func(ast.Node){
		"inside":  func(n ast.Node) { h.Inside, h.Calendar = true, r.Word(n, "inside") },
		"outside": func(n ast.Node) { h.Calendar = r.Word(n, "outside") },
	})
	if (got["inside"] == nil) == (got["outside"] == nil) && n != nil {
		r.Fail(n, "hours are either inside: CALENDAR or outside: CALENDAR")
	}
	return h
}

var oftenPattern = regexp.MustCompile(`^([1-9][0-9]{0,3}) (per|in) (\S+)$`)

// often reads how often something happens: "3 per 1h", "5 in 1d".
func (r *Reader) often(n ast.Node, key, word string) (int, time.Duration) {
	m := oftenPattern.FindStringSubmatch(r.Word(n, key))
	if m == nil || m[2] != word {
		r.Fail(n, "%s must be a number %s a time, as in 3 %s 1h", key, word, word)
		return 0, 0
	}
	count, err := strconv.Atoi(m[1])
	long, wrong := doc.ParseDuration(m[3])
	if err != nil || wrong != nil || long > maxPer {
		r.Fail(n, "%s counts over a time such as 10m, 1h or 1d, and over 7d at most", key)
	}
	return count, long
}

func (r *Reader) condition(n ast.Node, where expr.Where, what string) *expr.Program {
	if b, ok := n.(*ast.BoolNode); ok {
		if b.Value && what != "alert" {
			p, err := r.Cel.Compile("true", where)
			if err == nil {
				return p
			}
		}
		r.Fail(n, "%s: %v is no condition; leave the key out instead", what, b.Value)
		return nil
	}
	p, err := r.Cel.Compile(r.Word(n, what), where)
	if err != nil {
		r.Expr(n, err, r.meant(where))
		return nil
	}
	if !p.IsBool() {
		r.Fail(n, "%s must be true or false, this is %s", what, p.TypeName())
	}
	return p
}

// meant finds the name that an unknown one probably stands for.
func (r *Reader) meant(where expr.Where) func(string) string {
	names := where.Names()
	if len(names) == 0 {
		names = []string{"alert"}
	}
	return func(word string) string {
		if word == "" {
			return ""
		}
		return doc.Nearest(word, names)
	}
}

// canHappen refuses a start that asks for what is never so when a start is judged.
func (r *Reader) canHappen(n ast.Node, s *Start) {
	if n == nil || s.Alert == nil || r.Old {
		return
	}
	for _, field := range s.Alert.Refers("alert") {
		switch {
		case field == "state" && !s.JudgedOn(alert.Clear):
			r.Fail(
				n,
				"a start is judged while its alert is open, so alert.state says nothing here; leave it out (what to "+
					"do when the alert clears is said by if_cleared, or by a start of its own with on: [cleared])",
			)
		case field == "count" && !s.JudgedOn(alert.Repeat):
			r.Fail(
				n,
				"a start is judged when its alert comes in, where alert.count is 1, and when it becomes worse: it "+
					"cannot wait for a number of reports; to wait whether it stays so say steady: 5m, to judge each "+
					"report on: [repeat]",
			)
		}
	}
}

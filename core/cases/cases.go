package cases

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/doc"
	"urgentis/core/flow"
	"urgentis/core/leave"
)

// Bounds of a file of cases.
const (
	MaxCases = 200
	maxLists = 1000 // entries of one list
)

// Set is a file of cases for one runbook.
type Set struct {
	Runbook string
	Cases   []Case
}

// Case is one story: what a run meets, and what must become of it.
type Case struct {
	Name, About string
	Line        int
	stage
	Wants Wants
}

// stage is what a run meets. What a case does not say of it, it takes from the whole file.
type stage struct {
	At      time.Time
	Targets []flow.Target
	Service map[string]any
	Inputs  map[string]any
	Alert   map[string]any
	Meets   map[string][]Meeting // by step, one after the other
	People  map[string][]Word    // by step, one after the other
	Leave   map[string]leave.Verdict
	Becomes map[string]string // cleared or worse, once the step was begun
}

// Meeting is how one attempt of a step comes out.
type Meeting struct {
	On    []string // the targets that it is for; none: for every one
	State string   // ok, failed or unknown; "" where the exit says it
	Why   string
	Exit  *int
	// Prints is what is printed; Read gives readings instead, by their names.
	Prints *string
	Read   map[string]any
}

// Word is what people say to a gate, or to a question. Nobody lets their time run out.
type Word struct {
	Say    string
	Fields map[string]any
	Line   int
}

// What people can say to a gate; to a question they give its choices.
const (
	Approve = "approve"
	Refuse  = "refuse"
	Nobody  = "nobody"
)

// Wants is what must become of a run. What is nil is not looked at.
type Wants struct {
	ComesTo string // the outcome, or the state where there is none
	Because string // is part of why it ended
	Asks    []string
	Changes []string
	Tells   []string
	Checks  map[string]string
}

// Parse reads a file of cases. Without an error among the findings the set is sound as far as it can be judged without
// its runbook.
func Parse(src []byte) (*Set, doc.Findings) {
	d := &reader{Text: doc.Text{What: "a file of cases"}}
	root := d.Load(src)
	if root == nil {
		return nil, d.Sorted()
	}
	set := d.set(root)
	if found := d.Sorted(); found.Failed() {
		return nil, found
	}
	return set, d.Sorted()
}

type reader struct{ doc.Text }

// Version is what a file of cases begins with.
const Version = "cases/1"

func (d *reader) set(n ast.Node) *Set {
	out := &Set{}
	all := stage{At: time.Date(2026, 3, 2, 2, 40, 0, 0, time.UTC)}
	keys := d.stage(&all)
	keys["urgentis"] = func(n ast.Node) {
		if d.Word(n, "urgentis") != Version {
			d.Fail(n, "urgentis must be %s", Version)
		}
	}
	keys["runbook"] = func(n ast.Node) { out.Runbook = d.Word(n, "runbook") }
	var list ast.Node
	keys["cases"] = func(n ast.Node) { list = n }
	got := d.Fields(n, "the file", keys)
	for _, k := range []string{"urgentis", "runbook", "cases"} {
		if got[k] == nil {
			d.Fail(n, "%s is missing", k)
		}
	}
	if list == nil {
		return out
	}
	for _, e := range d.Mapping(list, "cases") {
		out.Cases = append(out.Cases, d.one(e, all))
	}
	if len(out.Cases) == 0 || len(out.Cases) > MaxCases {
		d.Fail(list, "cases must have from 1 to %d of them", MaxCases)
	}
	return out
}

func (d *reader) one(e doc.Entry, all stage) Case {
	c := Case{Name: e.Key, Line: doc.Position(e.Node).Line, stage: all}
	keys := d.stage(&c.stage)
	keys["about"] = func(n ast.Node) { c.About = d.Word(n, "about") }
	keys["comes_to"] = func(n ast.Node) { c.Wants.ComesTo = d.Word(n, "comes_to") }
	keys["because"] = func(n ast.Node) { c.Wants.Because = d.Word(n, "because") }
	keys["asks"] = func(n ast.Node) { c.Wants.Asks = d.wordsOf(n, "asks") }
	keys["changes"] = func(n ast.Node) { c.Wants.Changes = d.wordsOf(n, "changes") }
	keys["tells"] = func(n ast.Node) { c.Wants.Tells = d.wordsOf(n, "tells") }
	keys["checks"] = func(n ast.Node) {
		c.Wants.Checks = map[string]string{}
		for _, x := range d.Mapping(n, "checks") {
			c.Wants.Checks[x.Key] = d.oneOf(x.Value, "a check", flow.Passes, flow.Fails, flow.Unsure)
		}
	}
	got := d.Fields(e.Value, "a case", keys)
	if got["comes_to"] == nil {
		d.Fail(e.Node, "case %s does not say what it comes_to: an outcome such as repaired, or handed-over, failed, "+
			"cancelled, done", e.Key)
	}
	return c
}

// stage are the keys that a case and the whole file have alike.
func (d *reader) stage(s *stage) map[string]func(ast.Node) {
	return map[string]func(ast.Node){
		"at": func(n ast.Node) {
			at, err := time.Parse(time.RFC3339, d.Word(n, "at"))
			if err != nil {
				d.Fail(n, "at must be a time as in 2026-03-02T02:40:00Z")
			}
			s.At = at
		},
		"targets": func(n ast.Node) { s.Targets = d.targets(n) },
		"service": func(n ast.Node) { s.Service = d.Values(n, "service") },
		"inputs":  func(n ast.Node) { s.Inputs = merged(s.Inputs, d.Values(n, "inputs")) },
		"alert":   func(n ast.Node) { s.Alert = merged(s.Alert, d.Values(n, "alert")) },
		"meets": func(n ast.Node) {
			s.Meets = over(s.Meets, d, n, "meets", d.meeting)
		},
		"people": func(n ast.Node) {
			s.People = over(s.People, d, n, "people", d.word)
		},
		"leave": func(n ast.Node) {
			s.Leave = map[string]leave.Verdict{}
			for _, e := range d.Mapping(n, "leave") {
				s.Leave[e.Key] = leave.Verdict(
					d.oneOf(e.Value, "leave", string(leave.Yes), string(leave.Gate), string(leave.No)))
			}
		},
		"becomes": func(n ast.Node) {
			s.Becomes = map[string]string{}
			for _, e := range d.Mapping(n, "becomes") {
				s.Becomes[e.Key] = d.oneOf(e.Value, "what the alert becomes", Cleared, Worse)
			}
		},
	}
}

// What an alert can become.
const (
	Cleared = "cleared"
	Worse   = "worse"
)

// over reads lists by step, and puts them over those of the whole file.
func over[T any](all map[string][]T, d *reader, n ast.Node, what string, one func(ast.Node) T) map[string][]T {
	out := map[string][]T{}
	for k, v := range all {
		out[k] = v
	}
	for _, e := range d.Mapping(n, what) {
		nodes := []ast.Node{e.Value}
		if list, ok := e.Value.(*ast.SequenceNode); ok {
			nodes = list.Values
		}
		if len(nodes) == 0 || len(nodes) > maxLists {
			d.Fail(e.Value, "%s %s must say from 1 to %d things", what, e.Key, maxLists)
		}
		out[e.Key] = nil
		for _, x := range nodes {
			out[e.Key] = append(out[e.Key], one(x))
		}
	}
	return out
}

func merged(all, own map[string]any) map[string]any {
	out := map[string]any{}
	for _, m := range []map[string]any{all, own} {
		for k, v := range m {
			out[k] = v
		}
	}
	return out
}

func (d *reader) targets(n ast.Node) []flow.Target {
	out := []flow.Target{}
	for _, e := range d.Mapping(n, "targets") {
		t := flow.Target{Name: e.Key, Address: e.Key, Labels: map[string]string{}}
		for k, v := range d.Values(e.Value, "target "+e.Key) {
			switch k {
			case "address":
				t.Address = fmt.Sprint(v)
			case "known":
				known, ok := v.(map[string]any)
				if !ok {
					d.Fail(e.Value, "known must say facts by their names")
				}
				t.Known = known
			default:
				t.Labels[k] = fmt.Sprint(v)
			}
		}
		out = append(out, t)
	}
	return out
}

func (d *reader) meeting(n ast.Node) Meeting {
	if _, ok := n.(*ast.StringNode); ok {
		w := d.oneOf(n, "what a step meets", "done", flow.Failed, flow.Unknown)
		if w == "done" {
			w = flow.OK
		}
		return Meeting{State: w}
	}
	var m Meeting
	got := d.Fields(n, "what a step meets", map[string]func(ast.Node){
		"target": func(n ast.Node) { m.On = d.wordsOf(n, "target") },
		"prints": func(n ast.Node) {
			text := d.Word(n, "prints")
			m.Prints = &text
		},
		"read":    func(n ast.Node) { m.Read = d.Values(n, "read") },
		"exit":    func(n ast.Node) { x := d.Integer(n, "exit"); m.Exit = &x },
		"failed":  func(n ast.Node) { m.State, m.Why = flow.Failed, d.Word(n, "failed") },
		"unknown": func(n ast.Node) { m.State, m.Why = flow.Unknown, d.Word(n, "unknown") },
	})
	if got["prints"] != nil && got["read"] != nil {
		d.Fail(n, "what a step meets is said by what it prints, or by what is read of it; not by both")
	}
	if got["prints"] == nil && got["read"] == nil && m.State == "" && m.Exit == nil {
		d.Fail(n, "say what the step prints, read: its readings, its exit, or failed: why")
	}
	return m
}

func (d *reader) word(n ast.Node) Word {
	at := doc.Position(n).Line
	if _, ok := n.(*ast.MappingNode); !ok {
		return Word{Say: d.Word(n, "what people say"), Line: at}
	}
	w := Word{Line: at}
	d.Fields(n, "what people say", map[string]func(ast.Node){
		"choice": func(n ast.Node) { w.Say = d.Word(n, "choice") },
		"fields": func(n ast.Node) { w.Fields = d.Values(n, "fields") },
	})
	return w
}

func (d *reader) oneOf(n ast.Node, what string, words ...string) string {
	w := d.Word(n, what)
	if !slices.Contains(words, w) {
		d.At(doc.Position(n), 0, false, fmt.Sprintf("%s is one of %s, not %s", what, strings.Join(words, ", "), w),
			doc.Nearest(w, words))
	}
	return w
}

// wordsOf reads a word, or a list of them.
func (d *reader) wordsOf(n ast.Node, what string) []string {
	out := []string{}
	if _, ok := n.(*ast.SequenceNode); !ok {
		return append(out, d.Word(n, what))
	}
	for _, x := range d.List(n, what) {
		out = append(out, d.Word(x, what))
	}
	return out
}

// suffix ends the name of a file of cases: BERTH.cases.yaml stands beside BERTH.yaml.
const suffix = ".cases.yaml"

// IsFile reports whether a name is that of a file of cases.
func IsFile(name string) bool { return strings.HasSuffix(name, suffix) }

// FileOf names the file of the cases of a runbook's file.
func FileOf(runbook string) string {
	return strings.TrimSuffix(strings.TrimSuffix(runbook, ".yaml"), ".yml") + suffix
}

// Package runbook is the runbook language: it turns text into a checked Book, or says what
// is wrong with it and where. See docs/runbook-language.md for the language itself.
package runbook

import (
	"regexp"
	"time"

	"urgentis/core/expr"
	"urgentis/core/reading"
)

// Header is the value of the key urgentis that every runbook begins with.
const Header = "runbook/1"

// Limits of one runbook, so that what comes from outside stays bounded.
const (
	MaxSize  = 256 << 10 // bytes of text
	MaxSteps = 500
	MaxDepth = 12 // steps within steps
	MaxWords = 200
)

// Verb says what a step means to do.
type Verb string

// The verbs.
const (
	Look     Verb = "look"
	Check    Verb = "check"
	Change   Verb = "change"
	Tell     Verb = "tell"
	Note     Verb = "note"
	Close    Verb = "close"
	HandOver Verb = "hand_over"
)

// Verbs lists the verbs in the order in which a reader meets them.
var Verbs = []Verb{Look, Check, Change, Tell, Note, Close, HandOver}

// Book is one checked runbook. It is never altered after Parse.
type Book struct {
	Name, Title, Owner, Service, About string
	Tags                               []string
	// Saves is the time a person needs to do this by hand.
	Saves  time.Duration
	Starts []Start
	Inputs []Input
	Steps  []*Step
	Source []byte
	// Revision is the SHA-256 of the text, in hexadecimal.
	Revision string

	byPath map[string]*Step
	byID   map[string]*Step
	takes  map[string]*Step // the step that takes a reading
}

// Step finds a step by its path, such as 2.fails.1; nil without one.
func (b *Book) Step(path string) *Step { return b.byPath[path] }

// ByID finds a step by its id; nil without one.
func (b *Book) ByID(id string) *Step { return b.byID[id] }

// Takes finds the look that takes a reading; nil without one.
func (b *Book) Takes(name string) *Step { return b.takes[name] }

// All lists every step, outer before inner.
func (b *Book) All() []*Step {
	var out []*Step
	var add func([]*Step)
	add = func(l []*Step) {
		for _, s := range l {
			out = append(out, s)
			for _, br := range s.branches() {
				add(br.steps)
			}
		}
	}
	add(b.Steps)
	return out
}

// Start is an occasion on which the runbook starts by itself.
type Start struct {
	Name   string
	Alert  *expr.Program
	Inputs map[string]*expr.Template
	Line   int
}

// Input is a value that a run is begun with.
type Input struct {
	Name, Label string
	Type        expr.Type
	Pattern     *regexp.Regexp
	Choices     []string
	Default     any // nil: the input must be given
	Min, Max    *float64
}

// Step is one step. Path is its place: 1-based numbers, with the branch between them.
type Step struct {
	Verb            Verb
	Title, ID, Path string
	Line            int

	When      *expr.Program
	Otherwise []*Step

	// Look and change.
	Where   *Selector
	Do      *Do
	Read    []reading.Spec
	Timeout time.Duration
	Again   *Again

	// Check.
	That   *expr.Program
	Retake string
	Passes Branch
	Fails  Branch
	Unsure Branch
	Proves string

	// Change.
	Still      *expr.Program
	Gate       *Gate
	Undo       *Do
	Repeatable bool

	// Tell, note, close and hand_over.
	Text    *expr.Template
	Source  string // what the alert's source is told: acknowledge or close
	Outcome string
	Because *expr.Template
	To      string
}

type namedBranch struct {
	name  string
	steps []*Step
}

func (s *Step) branches() []namedBranch {
	out := []namedBranch{{"otherwise", s.Otherwise}, {"passes", s.Passes.Steps}, {"fails", s.Fails.Steps}, {"unsure", s.Unsure.Steps}}
	if s.Gate != nil {
		out = append(out, namedBranch{"refused", s.Gate.Refused.Steps}, namedBranch{"unanswered", s.Gate.Unanswered.Steps})
	}
	return out
}

// Selector chooses targets of the runbook's service.
type Selector struct {
	Name    *expr.Template
	Labels  map[string]*expr.Template
	PickOne bool
}

// Do is a way of doing: a command or an HTTP call.
type Do struct {
	Run  []*expr.Template
	HTTP *HTTP
	// FromHere runs the command on the host of the service itself.
	FromHere bool
	As       string
	// Accept lists the exits (or HTTP statuses) that count as good; empty: 0, or 200 to 299.
	Accept []int
}

// HTTP is an HTTP call.
type HTTP struct {
	Method  string
	URL     *expr.Template
	Headers map[string]*expr.Template
	Body    *Value
}

// Value is a structure whose texts may have holes.
type Value struct {
	Text *expr.Template
	List []*Value
	Map  map[string]*Value
	Lit  any // number, boolean or nothing
}

// Again repeats a look or a check.
type Again struct {
	Every time.Duration
	For   time.Duration // 0 where Times is said
	Times int
	// Steady is for how long a check must pass without a break.
	Steady time.Duration
}

// Gate asks people for leave before a change.
type Gate struct {
	Ask        string
	Within     time.Duration
	Comment    bool // approve and refuse need a comment
	Refused    Branch
	Unanswered Branch
}

// Branch is what follows: a word or steps. The zero value means that the default holds.
type Branch struct {
	Word  string
	Steps []*Step
}

// The words that may stand instead of steps.
const (
	GoOn         = "go on"
	Stop         = "stop"
	HandOverWord = "hand_over"
)

// Or gives the branch, or the word if the runbook says nothing.
func (b Branch) Or(word string) Branch {
	if b.Word == "" && b.Steps == nil {
		return Branch{Word: word}
	}
	return b
}

// Outcomes lists how an incident can be closed.
var Outcomes = []string{"repaired", "repaired-by-hand", "mitigated", "false-alarm", "cleared-itself", "not-repaired"}

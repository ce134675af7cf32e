// Package runbook is the runbook language: it turns text into a checked Book, or says what
// is wrong with it and where. See docs/runbook-language.md for the language itself.
package runbook

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"urgentis/core/doc"
	"urgentis/core/expr"
	"urgentis/core/incident"
	"urgentis/core/links"
	"urgentis/core/reading"
	"urgentis/core/trigger"
)

// Header is the value of the key urgentis that every runbook begins with.
const Header = "runbook/1"

// Limits of one runbook, so that what comes from outside stays bounded.
const (
	MaxSize  = doc.MaxSize // bytes of text
	MaxSteps = 500
	MaxDepth = 12 // steps within steps
	MaxWords = 200
	MaxLines = 100  // of a dialogue
	MaxItems = 1000 // items of an each
	MaxCalls = 5    // calls within calls
	MaxHarm  = 200  // bytes of harm
	// MaxKnowledge is how many bytes of knowledge stand beside a question.
	MaxKnowledge = 8000
	MaxLoses     = 300 // bytes of loses
)

// A look looks at so many targets at once where it does not say so, and at so many at most.
const (
	DefaultAtOnce = 50
	MaxAtOnce     = 500
)

// LooksAtOnce is how many targets a look looks at at once.
func (s *Step) LooksAtOnce() int {
	if s.AtOnce > 0 {
		return s.AtOnce
	}
	return DefaultAtOnce
}

// Verb says what a step means to do.
type Verb string

// The verbs.
const (
	Look       Verb = "look"
	Check      Verb = "check"
	Ask        Verb = "ask"
	Change     Verb = "change"
	Wait       Verb = "wait"
	Tell       Verb = "tell"
	Note       Verb = "note"
	Call       Verb = "call"
	Each       Verb = "each"
	Together   Verb = "together"
	UndoChange Verb = "undo_change"
	Close      Verb = "close"
	HandOver   Verb = "hand_over"
)

// Verbs lists the verbs in the order in which a reader meets them.
var Verbs = []Verb{Look, Check, Ask, Change, Wait, Tell, Note, Call, Each, Together, UndoChange, Close, HandOver}

// Book is one checked runbook, or a part of one. It is never altered after Parse.
type Book struct {
	Name, Title, Owner, Service, About string
	Tags                               []string
	// Saves is the time a person needs to do this by hand.
	Saves time.Duration
	// Harm says in words who suffers from the trouble that the runbook is about; "" where that is not said.
	Harm string
	// IncidentTitle names the incident by what was read; nil where it keeps its alert's words.
	IncidentTitle *expr.Template
	// Links are pages outside that tell more; their addresses have holes.
	Links  []links.Link
	Starts []Start
	Inputs []Input
	Limits Limits
	Steps  []*Step
	// OnError follows a trouble that no step provided for; Finally runs before every end.
	OnError Branch
	Finally []*Step
	// IfCleared and IfWorse follow when the alert clears or worsens meanwhile.
	IfCleared, IfWorse Branch
	Results            []Result
	Parts              map[string]*Book
	Source             []byte
	// Revision is the SHA-256 of the text, in hexadecimal; that of its runbook for a part.
	Revision string

	byPath map[string]*Step
	lines  map[string]int // by key
	byID   map[string]*Step
	takes  map[string]*Step // the step that takes a reading
	linked map[string]*Book // other runbooks that it calls

	looksAtAlert bool
}

// Limits bound the runs of a runbook.
type Limits struct {
	// OneAtATime gives the key of which only one run may be under way; the others wait their turn.
	OneAtATime  *expr.Program
	GiveUpAfter time.Duration // 0: no bound
	// Steps is how many steps and items a run may begin in all; 0: the bound of every run.
	Steps int
}

// Result is a value that a caller sees.
type Result struct {
	Name  string
	Type  expr.Type
	Value *expr.Template
}

// Step finds a step by its path, such as 2.fails.1; nil without one.
func (b *Book) Step(path string) *Step { return b.byPath[path] }

// ByID finds a step by its id; nil without one.
func (b *Book) ByID(id string) *Step { return b.byID[id] }

// Takes finds the look that takes a reading; nil without one.
func (b *Book) Takes(name string) *Step { return b.takes[name] }

// Named finds a step by its id, or by its path; nil without one.
func (b *Book) Named(name string) *Step {
	if s := b.ByID(name); s != nil {
		return s
	}
	return b.Step(name)
}

// TypeOf finds the look that takes a reading, and the reading's type; nil without one.
func (b *Book) TypeOf(name string) (*Step, expr.Type) {
	look := b.takes[name]
	if look == nil {
		return nil, ""
	}
	for _, r := range look.Read {
		if r.Name == name {
			return look, r.Type
		}
	}
	return look, ""
}

// ReadingNames lists the readings that the runbook takes, by their names.
func (b *Book) ReadingNames() []string { return keys(b.takes) }

// Callee finds what a call calls: a part of this runbook, or another one that was linked to it.
func (b *Book) Callee(name string) *Book {
	if p := b.Parts[name]; p != nil {
		return p
	}
	return b.linked[name]
}

// Secrets lists the secrets that the runbook names, its parts and what it calls included.
func (b *Book) Secrets() []string {
	var out []string
	seen := map[*Book]bool{}
	var add func(b *Book)
	add = func(b *Book) {
		if b == nil || seen[b] {
			return
		}
		seen[b] = true
		for _, s := range b.All() {
			out = append(out, s.Secrets()...)
			if s.Verb == Call {
				add(b.Callee(s.Callee))
			}
		}
	}
	add(b)
	slices.Sort(out)
	return slices.Compact(out)
}

// GatesAround lists the gates of a step and of the blocks that it stands in.
func (b *Book) GatesAround(s *Step) []*Gate {
	var out []*Gate
	for _, x := range b.All() {
		if x.Gate != nil && (x == s || strings.HasPrefix(s.Path, x.Path+".")) {
			out = append(out, x.Gate)
		}
	}
	return out
}

// Gates lists the gates of a step and of all steps in it.
func (s *Step) Gates() []*Gate {
	var out []*Gate
	if s.Gate != nil {
		out = append(out, s.Gate)
	}
	for _, br := range s.branches() {
		if s.Ask == nil && (br.name == "refused" || br.name == "unanswered") {
			continue // not behind its yes
		}
		for _, x := range br.steps {
			out = append(out, x.Gates()...)
		}
	}
	return out
}

// lists gives the step lists of the whole, each with the prefix of its paths.
func (b *Book) lists() []namedBranch {
	return []namedBranch{
		{"", b.Steps},
		{"on_error", b.OnError.Steps},
		{"finally", b.Finally},
		{"if_cleared", b.IfCleared.Steps},
		{"if_worse", b.IfWorse.Steps},
	}
}

// All lists every step, outer before inner; the steps of parts are their own.
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
	for _, l := range b.lists() {
		add(l.steps)
	}
	return out
}

// Start is one occasion on which a runbook starts.
type Start = trigger.Start

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
	Line, Column    int
	lines           map[string]int // by key

	When      *expr.Program
	Otherwise []*Step
	OnError   Branch

	// Look and change.
	Where     *Selector
	Do        *Do
	Read      []reading.Spec
	Timeout   time.Duration
	Again     *Again
	OnlyReads string
	// AtOnce bounds how many targets a look looks at at once; see LooksAtOnce.
	AtOnce int
	// Costly keeps a look from being taken more often than the runbook says.
	Costly bool
	Fits   *reading.Schema // of a look: what its output must fit

	// Check, and the condition of a wait.
	That    *expr.Program
	Agrees  *Agrees
	Retake  string
	Passes  Branch
	Fails   Branch
	Unsure  Branch
	Proves  string
	WaitFor time.Duration

	// Change. A change with steps of its own is a block under one gate.
	Still *expr.Program
	Fresh time.Duration
	Gate  *Gate
	Undo  *Do
	// NoUndo is set where the author says that the change cannot be undone; Loses is what is lost by it, "" where that
	// is not stated.
	NoUndo bool
	Loses  string
	// UndoOnlyIfDone keeps the undo from what failed after it had begun.
	UndoOnlyIfDone bool
	// UndoThat must hold once it is undone; nil: that it ended well is enough.
	UndoThat   *expr.Program
	Repeatable bool
	Happened   *expr.Program // settles an unknown outcome
	Steps      []*Step       // of a change or an each

	Ask      *Question
	Each     *Iteration
	Branches []NamedSteps // of a together

	// UndoOf is the id of what an undo_change undoes.
	UndoOf string

	// Call.
	Callee string
	Given  map[string]*expr.Template

	// Tell, note, close and hand_over.
	Text   *expr.Template
	Source string // what the alert's source is told: acknowledge or close
	// Tells are those whom a tell is for, as words of route, and TicketWord and TicketOpenly; none: whoever is told of
	// the incident by routes.
	Tells   []string
	Outcome string
	Because *expr.Template
	// Cause is what a close or a hand-over states to be the cause; nil where it does not.
	Cause *expr.Template
	To    string
}

// The words for the tickets of the run's incident: what stands there is for those who work on it, or for others too.
const (
	TicketWord   = "ticket"
	TicketOpenly = "ticket/openly"
)

// NamedSteps is one branch of a together.
type NamedSteps struct {
	Name  string
	Steps []*Step
}

// Question is what an ask asks.
type Question struct {
	To   string
	Text *expr.Template
	// Knowledge is what whoever is asked may need to know, in Markdown; "" for nothing.
	Knowledge  string
	Choices    []Choice
	Fields     []Input
	Suggest    map[string]*expr.Template // what the fields begin with
	AskAgain   *expr.Program
	Rounds     int
	Within     time.Duration
	Unanswered Branch
	None       Branch // "none of these"
}

// Choice is one answer.
type Choice struct {
	Name, Label string
	// Says is what the choice comes to, in the author's words; "" where that is not said.
	Says  string
	Steps []*Step
	// Itself is the condition under which the question answers itself with this choice.
	Itself   *expr.Program
	Approves string // the id of a change that this answer approves
}

// The choices that every question has beside its own.
const (
	NoneOfThese = "none_of_these"
	Back        = "back"
)

// Iteration says over what an each goes.
type Iteration struct {
	Over  *expr.Program // a list
	Where *Selector     // targets
	Peers *Selector     // each target with each of these
	Named string
	// AtOnce bounds how many items are under way; with Percent it is a share of them.
	AtOnce   int
	Percent  bool
	Tolerate int // how many items may fail
	Between  []*Step
}

// Agrees compares a reading with facts known about its target.
type Agrees struct {
	Reading string
	Known   string          // the key of the target's known facts
	Schema  *reading.Schema // or the schema that it must fit
	How     reading.How
}

type namedBranch struct {
	name  string
	steps []*Step
}

// branches lists the step lists within a step, each with the part of the path that leads to it.
func (s *Step) branches() []namedBranch {
	out := []namedBranch{
		{"otherwise", s.Otherwise},
		{"passes", s.Passes.Steps},
		{"fails", s.Fails.Steps},
		{"unsure", s.Unsure.Steps},
		{"do", s.Steps},
	}
	if s.Gate != nil {
		out = append(
			out,
			namedBranch{"refused", s.Gate.Refused.Steps},
			namedBranch{"unanswered", s.Gate.Unanswered.Steps},
		)
	}
	if q := s.Ask; q != nil {
		for _, c := range q.Choices {
			out = append(out, namedBranch{"choices." + c.Name, c.Steps})
		}
		out = append(out, namedBranch{"unanswered", q.Unanswered.Steps}, namedBranch{"none", q.None.Steps})
	}
	if s.Each != nil {
		out = append(out, namedBranch{"between", s.Each.Between})
	}
	for _, b := range s.Branches {
		out = append(out, namedBranch{"branches." + b.Name, b.Steps})
	}
	return append(out, namedBranch{"on_error", s.OnError.Steps})
}

// Selector chooses targets of the runbook's service.
type Selector struct {
	Name    *expr.Template
	Labels  map[string]*expr.Template
	PickOne bool
}

// Partly says whom the selector chooses, with what is known so far.
func (s *Selector) Partly(sc *expr.Scope) string {
	var out []string
	if s.Name != nil {
		out = append(out, s.Name.Partly(sc))
	}
	for _, k := range keys(s.Labels) {
		out = append(out, k+"="+s.Labels[k].Partly(sc))
	}
	if s.PickOne {
		return "one of " + strings.Join(out, ", ")
	}
	return strings.Join(out, ", ")
}

// LineOf is the line of one of the step's keys; that of the step where it has no such key.
func (s *Step) LineOf(key string) int {
	if n, ok := s.lines[key]; ok {
		return n
	}
	return s.Line
}

// Team is how the team that owns the runbook is asked.
func (b *Book) Team() string { return "team/" + b.Owner }

// OnCall is how whoever of that team is on call is asked.
func (b *Book) OnCall() string { return "on-call/" + b.Owner }

// LineOf is the line of one of the runbook's own keys; 1 where it has no such key.
func (b *Book) LineOf(key string) int { return max(1, b.lines[key]) }

// Selectors lists what the step selects targets by.
func (s *Step) Selectors() []*Selector {
	list := []*Selector{s.Where}
	if s.Each != nil {
		list = append(list, s.Each.Where, s.Each.Peers)
	}
	return slices.DeleteFunc(list, func(x *Selector) bool { return x == nil })
}

// Do is a way of doing. One of Run, Script, HTTP, SQL, Port, Name, Echo, Send and Fetch is set.
type Do struct {
	// AsData says why the program of Run cannot read a value from outside as program text; "" where all are bounded.
	AsData string
	Run    []*expr.Template
	Script *Script
	HTTP   *HTTP
	SQL    *SQL
	Port   *Value // a port number
	Name   *Lookup
	Echo   *Echo
	Send   *Send
	Fetch  *expr.Template
	// Attach puts the whole of what is fetched or printed to the incident's record, as a file.
	Attach bool
	Job    *Elsewhere
	// Dialogue are lines for a device, each as its words; As is then the mode in which they are typed.
	Dialogue [][]*expr.Template

	// FromHere runs the command on the host of the service itself.
	FromHere bool
	// Plain refuses words that would need quoting: for devices without a POSIX shell.
	Plain bool
	As    string
	Env   map[string]*expr.Template
	Stdin *expr.Template
	// Accept lists the exits (or HTTP statuses) that count as good; empty: 0, or 200 to 299.
	Accept []int
	// AcceptLost counts a connection that is lost after the command began as good.
	AcceptLost bool
}

// Script is program text that is never interpolated: data comes as its arguments, by environment and standard input.
type Script struct {
	Text, Interpreter string
	Args              []*expr.Template
}

// SQL is a statement with bound parameters: $1, $2, … of PostgreSQL and SQLite, ? of MySQL and MariaDB.
type SQL struct {
	Dialect                string
	Statement              string
	With                   []*Value
	Names                  map[string]Identifier // [[NAME]] in the statement
	Database, User, Secret *expr.Template
	Port                   *Value // nil: where databases of the dialect usually listen
	TLS, Authority         *expr.Template
}

// The dialects of SQL.
const (
	PostgreSQL = "postgresql"
	MySQL      = "mysql" // and MariaDB
	SQLite     = "sqlite"
)

// UsualPort is where databases of a dialect listen.
var UsualPort = map[string]int{PostgreSQL: 5432, MySQL: 3306}

// Identifier is a name in a statement that can only be one of a list.
type Identifier struct {
	Of []string
	Is *expr.Template
}

// Lookup asks the name service.
type Lookup struct {
	Name *expr.Template
	Type string // A, AAAA, CNAME, MX, TXT, NS or SRV
}

// Echo sends ICMP echo requests (RFC 792, RFC 4443).
type Echo struct{ Count int }

// Send puts a file on the target.
type Send struct {
	To   *expr.Template
	Text string // never interpolated
	JSON *Value // or a structure
	Mode string // octal
	// File is a file of the installation's store, by its name; "" where the text or the structure is sent.
	File string
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
	People     int  // how many must approve; 0 is one
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
	UndoWord     = "undo"
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
var Outcomes = []string{
	incident.Repaired, incident.RepairedByHand, incident.Mitigated, incident.FalseAlarm, incident.ClearedItself,
	incident.NotRepaired,
}

// Secrets lists the secrets that a step would use.
func (s *Step) Secrets() []string {
	var holes []*expr.Program
	for _, t := range append(s.Do.Templates(), s.Undo.Templates()...) {
		holes = append(holes, t.Holes()...)
	}
	return referred(holes, "secrets")
}

// Files lists the files of the store that a step would send, its undo's included.
func (s *Step) Files() []string {
	var out []string
	for _, do := range []*Do{s.Do, s.Undo} {
		if do != nil && do.Send != nil && do.Send.File != "" && !slices.Contains(out, do.Send.File) {
			out = append(out, do.Send.File)
		}
	}
	return out
}

// Readings lists the readings that a change rests on: in its words and its still.
func (s *Step) Readings() []string { return referred(s.programs(), "readings") }

// referred lists what expressions refer to of one kind, in order.
func referred(list []*expr.Program, kind string) []string {
	var out []string
	for _, p := range list {
		out = append(out, p.Refers(kind)...)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Lists gives the step lists within a step, each with the part of the path that leads to it.
func (s *Step) Lists() []NamedSteps {
	var out []NamedSteps
	for _, b := range s.branches() {
		if len(b.steps) > 0 {
			out = append(out, NamedSteps{b.name, b.steps})
		}
	}
	return out
}

// Everything lists every step of the runbook and of its parts.
func (b *Book) Everything() []*Step {
	out := b.All()
	for _, n := range keys(b.Parts) {
		out = append(out, b.Parts[n].All()...)
	}
	return out
}

// WrongInputs says what is wrong with the inputs that a start beside the runbook gives it.
func (b *Book) WrongInputs(s *Start) []string {
	var out []string
	for _, name := range slices.Sorted(maps.Keys(s.Inputs)) {
		if !slices.ContainsFunc(b.Inputs, func(in Input) bool { return in.Name == name }) {
			out = append(out, fmt.Sprintf("the runbook %s has no input %s", b.Name, name))
		}
	}
	for _, in := range b.Inputs {
		if in.Default == nil && s.Inputs[in.Name] == nil {
			out = append(
				out,
				fmt.Sprintf("it does not say input %s of the runbook %s, which has no default", in.Name, b.Name),
			)
		}
	}
	return out
}

var looksAtAlert = regexp.MustCompile(`\balert(_now)?\b[.\[]`)

// LooksAtAlert reports whether the runbook speaks of its alert anywhere but in what starts it.
func (b *Book) LooksAtAlert() bool { return b.looksAtAlert }

// speaksOfAlert looks for what LooksAtAlert reports, once, as a book is read.
func (b *Book) speaksOfAlert() bool {
	n := len(looksAtAlert.FindAllIndex(b.Source, -1))
	for _, s := range b.Starts {
		if s.Alert != nil {
			n -= len(looksAtAlert.FindAllString(s.Alert.Source, -1))
		}
		for _, in := range s.Inputs {
			for _, source := range in.Sources() {
				n -= len(looksAtAlert.FindAllString(source, -1))
			}
		}
	}
	return n > 0
}

// ChangesMade counts the steps that change something themselves; blocks of changes do not count.
func (b *Book) ChangesMade() int {
	n := 0
	for _, s := range b.All() {
		if s.Verb == Change && s.Do != nil {
			n++
		}
	}
	return n
}

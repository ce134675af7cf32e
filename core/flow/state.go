package flow

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"urgentis/core/expr"
	"urgentis/core/reading"
	"urgentis/core/runbook"
)

// attempt is one intent and what became of it.
type attempt struct {
	intent  Intent
	path    string
	seq     int64
	at      time.Time
	outcome *Outcome
	lost    *Lost
	job     string   // what the job elsewhere is known by that it began
	late    *Outcome // came after it was given up; it settles nothing by itself
	undone  bool     // another attempt has taken it back
	// heldAt and heldSeq are of the outcome Held.
	heldAt  time.Time
	heldSeq int64
}

// elsewhere is what the job is known by that it began, or follows on; "" where there is none.
func (a *attempt) elsewhere() string {
	if a.job == "" && a.intent.Request.Job != nil {
		return a.intent.Request.Job.Known
	}
	return a.job
}

func (a *attempt) over() bool { return a.outcome != nil || a.lost != nil }

// unknown reports whether nobody knows what became of it.
func (a *attempt) unknown() bool {
	return a.lost != nil || a.outcome != nil && a.outcome.State == Unknown
}

type gateState struct {
	raised    GateRaised
	seq       int64
	approvals []GateDecided
	refused   *GateDecided
	expired   bool
}

// enough reports whether as many people approved as must.
func (g *gateState) enough() bool { return len(g.approvals) >= max(1, g.raised.People) }

func (g *gateState) open() bool { return g.refused == nil && !g.expired && !g.enough() }

// startAt is the latest of the times that approvers set.
func (g *gateState) startAt() time.Time {
	var at time.Time
	for _, a := range g.approvals {
		if a.StartAt != nil && a.StartAt.After(at) {
			at = *a.StartAt
		}
	}
	return at
}

type questionState struct {
	raised   QuestionRaised
	answered *QuestionAnswered
	expired  bool
}

func (q *questionState) open() bool { return q.answered == nil && !q.expired }

// stepState is all that the log says of one step at one place, in pieces by what they are about. Its zero value is a
// step of which nothing is known. Only applyStep and applyRun write it, through the journal.
type stepState struct {
	begun   *StepBegun
	beganAt time.Time
	skipped *Skipped
	done    bool // told, noted, waited, or a step of several parts that is over
	trouble *Troubled

	attemptsState
	permissionState
	lockState
	questionsState
	partsState
	callState
	undoState
}

// attemptsState is what was tried at a step and what was made of it (look.go, change.go).
type attemptsState struct {
	// rounds of attempts: per round the attempts of each target, oldest first.
	rounds  map[roundKey]map[string][]*attempt
	judged  []judgedAt
	changed bool
}

// permissionState is how a change came to be allowed (gate.go).
type permissionState struct {
	leaves []LeaveGiven
	// leaveSeq and leaveAt are of the newest.
	leaveSeq int64
	leaveAt  time.Time
	gates    []*gateState
	// leavesAtGate counts the answers there were when the newest gate was raised.
	leavesAtGate int
	cleared      *Cleared
	still        map[string]*StillJudged // by gate and target
}

// lockState is what a step waits for that another run holds (locks.go).
type lockState struct {
	awaited   *LocksAwaited
	awaitedAt time.Time
	stale     bool // the newest leave is from before a wait
	waits     int  // how often the change waited for a lock: what rests on the present is judged anew after each
}

// questionsState is what people were asked at a step: what became of its attempts, and the rounds of an ask (settle.go,
// ask.go).
type questionsState struct {
	questions map[string]*questionState
	asks      []*questionState // of an ask, by round
}

// partsState is how far an each has come (block.go).
type partsState struct {
	each  *EachBegun
	items []itemState
}

// callState is how far a call has come (call.go).
type callState struct {
	call       *CallBegun
	callEnding *Ending
	callEnded  *CallEnded
}

// undoState is whether what was changed inside is being taken back (undo.go).
type undoState struct {
	undo   *UndoBegun
	undone bool
}

// itemState is what is known of one item of an each. Over and failed follow from the log; they are kept so
// that items that are over are not walked again.
type itemState struct {
	begun, over bool
	failed      *Troubled
}

type judgedAt struct {
	Judged
	at time.Time
}

// fact is what one step at one place has made known.
type fact struct {
	path  string
	value map[string]any
}

// data is what the steps of one call (or of the whole) have made known.
type data struct {
	inputs   map[string]any
	readings map[string][]*expr.Round
	units    map[string]string
	facts    map[string]map[string][]fact // checks, answers, calls: by kind and id
	views    map[string]map[string]*expr.Series
}

type changeAt struct {
	seq  int64
	path string
}

// State is a run's log, read. It is brought up to date by each event and never read from the start again. It belongs to
// one Machine and is not for several goroutines at once.
type State struct {
	Begun   *Begun
	BegunAt time.Time
	Ended   *Ended
	Last    int64

	book    *runbook.Book
	err     error // why the log cannot be; nothing is read after it
	journal journal

	placesState
	attemptedState
	knownState
	courseState
}

// placesState is how far each place of the runbook has come.
type placesState struct {
	steps map[string]*stepState
	waits map[string]string // places that wait, and on what
	// times are when something happened at a place, first and last.
	times map[string]*span
	// begun counts the steps and items that were begun or skipped.
	begun int
	// troubledAt is the place of the newest trouble; endedAt that of the step that ended the run, where that is known.
	troubledAt, endedAt string
}

// attemptedState is everything that hands were given to do, in the order of the log.
type attemptedState struct {
	attempts map[string]*attempt
	order    []*attempt
	open     map[string]*attempt
	changes  []changeAt
}

// knownState is what the run has learned.
type knownState struct {
	data   map[string]*data // by the call that it was learned in
	sealed []string         // the marks of all sealed readings
	taken  int              // the weight of all readings, in bytes
}

// courseState is what was said to the run as a whole, and what it holds.
type courseState struct {
	ending   *Ending
	cancel   *CancelAsked
	alert    *AlertChanged
	turned   []Turned
	locks    map[string]bool
	approved map[string]*approval // by the place of a change that an answer approved
	// resumed is the number of the newest word that changes go on.
	resumed int64
}

type span struct{ first, last time.Time }

func newState(book *runbook.Book) *State {
	return &State{
		book: book,
		placesState: placesState{
			steps: map[string]*stepState{},
			waits: map[string]string{},
			times: map[string]*span{},
		},
		attemptedState: attemptedState{attempts: map[string]*attempt{}, open: map[string]*attempt{}},
		knownState:     knownState{data: map[string]*data{}},
		courseState:    courseState{locks: map[string]bool{}, approved: map[string]*approval{}},
	}
}

// Fold reads a log. An impossible log is an error, so that nothing is begun on it.
func Fold(book *runbook.Book, log []Event) (*State, error) {
	s := newState(book)
	for _, e := range log {
		s.apply(e)
		if s.err != nil {
			return nil, fmt.Errorf("event %d: %w", e.Seq, s.err)
		}
	}
	if s.Begun == nil {
		return nil, errors.New("the log is empty")
	}
	return s, nil
}

func (s *State) step(path string) *stepState {
	st := s.steps[path]
	if st == nil {
		st = &stepState{}
		put(s, s.steps, path, st)
	}
	return st
}

// dataOf is the data of the call that a place is in.
func (s *State) dataOf(path string) *data {
	scope := scopeOf(path)
	d := s.data[scope]
	if d == nil {
		d = &data{
			readings: map[string][]*expr.Round{},
			units:    map[string]string{},
			facts:    map[string]map[string][]fact{},
			views:    map[string]map[string]*expr.Series{},
		}
		put(s, s.data, scope, d)
	}
	return d
}

// noteFact notes a fact at a place.
func (s *State) noteFact(kind, id, path string, value map[string]any) {
	facts := s.dataOf(path).facts
	if facts[kind] == nil {
		put(s, facts, kind, map[string][]fact{})
	}
	put(s, facts[kind], id, append(facts[kind][id], fact{path, value}))
}

func (s *State) apply(e Event) {
	if e.Seq != s.Last+1 {
		s.err = fmt.Errorf("the log has a gap after %d", s.Last)
		return
	}
	set(s, &s.Last, e.Seq)
	if b, ok := e.Body.(Begun); ok {
		if b.Rules < OldestRules || b.Rules > Rules {
			s.err = fmt.Errorf(
				"the run was begun under version %d of the rules; this program knows %d to %d: %w",
				b.Rules,
				OldestRules,
				Rules,
				ErrNewer,
			)
		}
		s.Begun, s.BegunAt = &b, e.At
		s.dataOf("").inputs = accepted(s.book, b.Inputs)
		return
	}
	if s.Begun == nil {
		s.err = errors.New("the log does not begin with run.begun")
		return
	}
	if t := s.times[e.Path]; t == nil {
		put(s, s.times, e.Path, &span{e.At, e.At})
	} else {
		set(s, &t.last, e.At)
	}
	if s.applyRun(e) {
		return
	}
	s.applyStep(s.step(e.Path), e)
	s.waiting(e.Path)
}

// accepted brings inputs, which were JSON, to their types.
func accepted(book *runbook.Book, given map[string]any) map[string]any {
	out := make(map[string]any, len(given))
	for _, in := range book.Inputs {
		if v, err := reading.Convert(given[in.Name], in.Type); err == nil {
			out[in.Name] = v
		}
	}
	return out
}

// applyRun applies events that speak of the run as a whole.
func (s *State) applyRun(e Event) bool {
	switch b := e.Body.(type) {
	case Outcome:
		s.end(b, e.At)
	case Lost:
		if a := s.attempts[b.Attempt]; a != nil && !a.over() {
			set(s, &a.lost, &b)
			drop(s, s.open, b.Attempt)
		}
	case Followed:
		if a := s.attempts[b.Attempt]; a != nil && !a.over() {
			set(s, &a.job, b.Job)
		}
	case LocksTaken:
		for _, k := range b.Keys {
			put(s, s.locks, k, true)
		}
		st := s.step(e.Path)
		// Whoever waited for a lock asks for leave anew: what it was given may be long ago.
		if st.awaited != nil && e.Path != "" {
			set(s, &st.stale, true)
			set(s, &st.waits, st.waits+1)
		}
		set(s, &st.awaited, nil)
		s.waiting(e.Path)
	case LocksGivenBack:
		for _, k := range b.Keys {
			drop(s, s.locks, k)
		}
	case AlertChanged:
		set(s, &s.alert, &b)
	case Turned:
		push(s, &s.turned, b)
	case Resumed:
		set(s, &s.resumed, e.Seq)
		for path, on := range s.waits {
			if on == OnHalt {
				drop(s, s.waits, path)
			}
		}
	case CancelAsked:
		if s.cancel == nil {
			set(s, &s.cancel, &b)
		}
	case Ending:
		if e.Path != "" && verbAt(s.book, e.Path) == runbook.Call {
			set(s, &s.step(e.Path).callEnding, &b)
			return true
		}
		set(s, &s.ending, &b)
	case Ended:
		set(s, &s.Ended, &b)
		set(s, &s.endedAt, e.Path)
	default:
		return false
	}
	return true
}

// verbAt gives the verb of the step at a place; "" for none.
func verbAt(book *runbook.Book, path string) runbook.Verb {
	if st, _ := Find(book, path); st != nil {
		return st.Verb
	}
	return ""
}

func (s *State) applyStep(st *stepState, e Event) {
	switch e.Body.(type) {
	case Skipped, StepBegun, Told, Noted, EachBegun, ItemBegun, CallBegun:
		set(s, &s.begun, s.begun+1)
	}
	switch b := e.Body.(type) {
	case Skipped:
		set(s, &st.skipped, &b)
	case StepBegun:
		set(s, &st.begun, &b)
		set(s, &st.beganAt, e.At)
	case Intent:
		s.intend(st, e, b)
	case Judged:
		push(s, &st.judged, judgedAt{b, e.At})
		if step, _ := Find(s.book, e.Path); b.Final && step != nil && step.ID != "" {
			differing := []string{}
			for _, d := range b.Differences {
				if len(differing) == 0 || differing[len(differing)-1] != d.Target {
					differing = append(differing, d.Target)
				}
			}
			s.noteFact("checks", step.ID, e.Path, map[string]any{"result": b.Result, "passed": b.Result == Passes,
				"differing": differing})
		}
	case LeaveGiven:
		push(s, &st.leaves, b)
		set(s, &st.stale, false)
		set(s, &st.leaveSeq, e.Seq)
		set(s, &st.leaveAt, e.At)
	case GateRaised, GateDecided, GateExpired:
		s.gate(st, e)
	case Cleared:
		set(s, &st.cleared, &b)
	case StillJudged:
		if st.still == nil {
			set(s, &st.still, map[string]*StillJudged{})
		}
		put(s, st.still, b.Gate+"/"+b.Target, &b)
	case QuestionRaised, QuestionAnswered, QuestionExpired:
		s.question(st, e)
	case Changed:
		set(s, &st.changed, true)
	case Told, Noted, Waited, StepEnded:
		set(s, &st.done, true)
	case Troubled:
		set(s, &st.trouble, &b)
		set(s, &s.troubledAt, e.Path)
	case EachBegun:
		set(s, &st.each, &b)
		set(s, &st.items, make([]itemState, len(b.Items)))
		set(s, &st.beganAt, e.At)
	case ItemBegun:
		set(s, &st.begun, &StepBegun{})
		set(s, &st.beganAt, e.At)
	case CallBegun:
		set(s, &st.call, &b)
		set(s, &st.beganAt, e.At)
		if step, book := Find(s.book, e.Path); step != nil && book.Callee(step.Callee) != nil {
			set(s, &s.dataOf(e.Path+"/").inputs, accepted(book.Callee(step.Callee), b.Inputs))
		}
	case CallEnded:
		set(s, &st.callEnded, &b)
		if step, _ := Find(s.book, e.Path); step != nil && step.ID != "" {
			s.noteFact("calls", step.ID, e.Path, map[string]any{"state": b.State, "outcome": b.Outcome,
				"because": b.Because, "results": b.Results})
		}
	case UndoBegun:
		set(s, &st.undo, &b)
	case Undone:
		set(s, &st.undone, true)
	case LocksAwaited:
		if st.awaited == nil {
			set(s, &st.awaitedAt, e.At)
		}
		set(s, &st.awaited, &b)
	default:
		s.err = fmt.Errorf("unknown event %T", b)
	}
}

func (s *State) gate(st *stepState, e Event) {
	switch b := e.Body.(type) {
	case GateRaised:
		push(s, &st.gates, &gateState{raised: b, seq: e.Seq})
		set(s, &st.leavesAtGate, len(st.leaves))
	case GateDecided:
		for _, g := range st.gates {
			switch {
			case g.raised.Gate != b.Gate || !g.open():
			case b.Approved:
				push(s, &g.approvals, b)
			default:
				set(s, &g.refused, &b)
			}
		}
	case GateExpired:
		for _, g := range st.gates {
			if g.raised.Gate == b.Gate && g.open() {
				set(s, &g.expired, true)
			}
		}
	}
}

func (s *State) question(st *stepState, e Event) {
	find := func(id string) *questionState {
		for _, q := range st.questions {
			if q.raised.Question == id {
				return q
			}
		}
		return nil
	}
	switch b := e.Body.(type) {
	case QuestionRaised:
		if st.questions == nil {
			set(s, &st.questions, map[string]*questionState{})
		}
		q := &questionState{raised: b}
		put(s, st.questions, b.Question, q)
		if b.Attempt == "" {
			push(s, &st.asks, q)
		}
	case QuestionAnswered:
		q := find(b.Question)
		if q == nil || !q.open() {
			return
		}
		set(s, &q.answered, &b)
		if a := s.attempts[q.raised.Attempt]; a != nil && b.Choice == Happened {
			if undone := s.attempts[a.intent.Undo]; undone != nil {
				set(s, &undone.undone, true)
			}
		}
		if step, _ := Find(s.book, e.Path); step != nil && step.Ask != nil && step.ID != "" {
			v := map[string]any{"choice": b.Choice, "by": b.By, "comment": b.Comment}
			for _, f := range step.Ask.Fields {
				if x, err := reading.Convert(b.Fields[f.Name], f.Type); err == nil {
					v[f.Name] = x
				}
			}
			s.noteFact("answers", step.ID, e.Path, v)
		}
		if a, ok := q.raised.Approves[b.Choice]; ok {
			put(s, s.approved, a.Path, &approval{
				proposal: a.Proposal, digest: a.Digest, by: b.By, id: b.Question, until: untilOf(a.Proposal),
			})
		}
	case QuestionExpired:
		if q := find(b.Question); q != nil && q.open() {
			set(s, &q.expired, true)
		}
	}
}

func (s *State) intend(st *stepState, e Event, b Intent) {
	if s.attempts[b.Attempt] != nil {
		s.err = fmt.Errorf("attempt %s is begun twice", b.Attempt)
		return
	}
	a := &attempt{intent: b, path: e.Path, seq: e.Seq, at: e.At}
	put(s, s.attempts, b.Attempt, a)
	put(s, s.open, b.Attempt, a)
	push(s, &s.order, a)
	if st.rounds == nil {
		set(s, &st.rounds, map[roundKey]map[string][]*attempt{})
	}
	round := roundKey(b.Round)
	if st.rounds[round] == nil {
		put(s, st.rounds, round, map[string][]*attempt{})
	}
	put(s, st.rounds[round], b.Target, append(st.rounds[round][b.Target], a))
	d := s.dataOf(e.Path)
	if b.Change {
		push(s, &s.changes, changeAt{e.Seq, e.Path})
		for scope := scopeOf(e.Path); ; scope = scopeOf(strings.TrimSuffix(scope, "/")) {
			clear(s.dataOf(scope).views)
			if scope == "" {
				return
			}
		}
	}
	if look, _ := Find(s.book, b.Look); look != nil && b.Asked != nil {
		clear(d.views)
		for _, r := range look.Read {
			put(s, d.readings, r.Name, append(d.readings[r.Name], &expr.Round{
				Seq: e.Seq, Path: e.Path, No: b.Round, Asked: b.Asked, Takings: map[string]expr.Taking{},
			}))
		}
	}
}

func (s *State) end(b Outcome, at time.Time) {
	a := s.attempts[b.Attempt]
	if a == nil || a.outcome != nil {
		return // a late fact about something unknown or already known
	}
	if a.lost != nil && a.intent.Change {
		// The question stands; whoever answers it is told.
		set(s, &a.late, &b)
		return
	}
	set(s, &a.outcome, &b)
	drop(s, s.open, b.Attempt)
	if b.State == Held {
		set(s, &a.heldAt, at)
		set(s, &a.heldSeq, s.Last)
		put(s, s.waits, a.path, OnHalt)
	}
	if undone := s.attempts[a.intent.Undo]; undone != nil && b.State == OK {
		set(s, &undone.undone, true)
	}
	look, _ := Find(s.book, a.intent.Look)
	if look == nil {
		return
	}
	d := s.dataOf(a.path)
	clear(d.views)
	for _, spec := range look.Read {
		taking, ok := b.Readings[spec.Name]
		if !ok {
			continue
		}
		v, err := reading.Convert(taking.Value, spec.Type)
		if err != nil {
			continue // it stays missing
		}
		taking.Value = v
		set(s, &s.taken, s.taken+weight(v))
		if mark, ok := v.(string); ok && spec.Sealed {
			push(s, &s.sealed, mark)
		}
		rounds := d.readings[spec.Name]
		for i := len(rounds) - 1; i >= 0; i-- {
			// The round of the same step that was asked last before this attempt.
			if rounds[i].Seq <= a.seq && rounds[i].Path == a.path && rounds[i].No == a.intent.Round {
				put(s, rounds[i].Takings, a.intent.Target, taking)
				break
			}
		}
	}
}

// The things a run can wait on.
const (
	OnApproval = "approval"
	OnAnswer   = "answer"
	OnTurn     = "turn" // another run of the same key
	OnLock     = "lock" // another run changes what this one is about to change
	OnHalt     = "halt" // all changes are halted
	OnTime     = "time"
)

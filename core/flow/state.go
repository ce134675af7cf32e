package flow

import (
	"time"

	"urgentis/core/expr"
	"urgentis/core/runbook"
)

// attempt is one intent and what became of it.
type attempt struct {
	intent  Intent
	place   Place
	seq     int64
	at      time.Time
	outcome *Outcome
	lost    *Lost
	late    *Outcome  // came after it was given up
	overAt  time.Time // when its outcome came, or it was lost
}

func (a *attempt) over() bool { return a.outcome != nil || a.lost != nil }

type gateState struct {
	raised    GateRaised
	seq       int64
	at        time.Time
	approvals []GateDecided
	refused   *GateDecided
	expired   bool
}

// enough reports whether as many people approved as must.
func (g *gateState) enough() bool { return len(g.approvals) >= max(1, g.raised.People) }

func (g *gateState) open() bool { return g.refused == nil && !g.expired && !g.enough() }

// within is for how long an approval stands.
func (g *gateState) within() time.Duration { return g.raised.Until.Sub(g.at) }

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
	at       time.Time
	answered *QuestionAnswered
	expired  bool
	// settled says that what it asks was found out otherwise.
	settled bool
}

func (q *questionState) open() bool { return q.answered == nil && !q.expired && !q.settled }

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
	rounds  map[Purpose]map[string][]*attempt
	judged  []judgedAt
	touches []*Touch // of a change, in the order in which they were begun
	changed bool
}

// permissionState is how far a change has come on its way to its targets (way.go, proposal.go).
type permissionState struct {
	leaves []leaveState
	// gates are those of the change, undoGates those of its undo.
	gates, undoGates []*gateState
	cleared          *Cleared
	still            map[stillKey]*StillJudged
	// lap is closed by every wait: evidence and leave are asked for anew after it.
	lap   int
	pause *pause
	// settled says which attempts were looked after, while they might still run and at rest.
	settled map[settledKey]bool
	gone    bool // its reason is gone, and otherwise: is followed
	// spared are targets that need it no more, where there are others.
	spared map[string]bool
}

type leaveState struct {
	LeaveGiven
	seq int64
	at  time.Time
}

type settledKey struct {
	attempt string
	rests   bool
}

type stillKey struct {
	lap    int
	target string
}

// lockState is what a step waits for that another run holds, by what the lock is for (locks.go).
type lockState struct {
	awaits map[string]*awaiting
}

type awaiting struct {
	LocksAwaited
	since time.Time
}

// questionsState is what people were asked at a step: what became of its attempts, and the rounds of an ask (settle.go,
// ask.go).
type questionsState struct {
	questions map[string]*questionState
	asks      []*questionState // of an ask, by round
}

// partsState is how far an each has come (block.go).
type partsState struct {
	each   *EachBegun
	items  []itemState
	passed *ItemPassed // of an item
}

// callState is how far a call has come (call.go).
type callState struct {
	call       *CallBegun
	callEnding *Ending
	callEnded  *CallEnded
	calledAt   int64 // the number of the event that began it
	// turned are the turns of the alert that it follows; those of the run are at its own place.
	turned []string
}

// undoState is whether what was changed inside is being undone (undoing.go).
type undoState struct {
	undoing *Undoing
	undone  bool
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
	place Place
	value map[string]any
}

// data is what the steps of one call (or of the whole) have made known.
type data struct {
	inputs   map[string]any
	readings map[string][]*expr.Round
	units    map[string]string
	facts    map[string]map[string][]fact // checks, answers, calls: by kind and id
	views    map[Place]map[string]*expr.Series
}

type changeAt struct {
	seq   int64
	place Place
	any   string // the place, the same for all items
}

// State is a run's log, read. It is brought up to date by each event and never read from the start again. It belongs to
// one Machine and is not for several goroutines at once.
type State struct {
	Begun   *Begun
	BegunAt time.Time
	Ended   *Ended
	Last    int64
	lastAt  time.Time // of the newest event

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
	steps map[Place]*stepState
	waits map[Place]string // places that wait, and on what
	// times are when something happened at a place, first and last.
	times map[Place]*span
	// instances are the places of a step, in the order in which they were come to.
	instances map[*runbook.Step][]Place
	// begun counts the steps and items that were begun or skipped.
	begun int
	// troubledAt is the place of the newest trouble; endedAt that of the step that ended the run, where that is known.
	troubledAt, endedAt Place
}

// attemptedState is everything that hands were given to do, in the order of the log, and what became of each change.
type attemptedState struct {
	attempts   map[string]*attempt
	order      []*attempt
	open       map[string]*attempt
	changes    []changeAt
	touches    map[TouchKey]*Touch
	touchOrder []*Touch
}

// knownState is what the run has learned.
type knownState struct {
	data   map[Place]*data // by the call that it was learned in
	sealed []string        // the marks of all sealed readings
	taken  int             // the weight of all readings, in bytes
}

// courseState is what was said to the run as a whole, and what it holds.
type courseState struct {
	ending   *Ending
	cancel   *CancelAsked
	alert    *AlertChanged
	alertSeq int64 // its number
	locks    map[string]bool
	approved map[Place]*approval // by the place of a change that an answer approved
	// raised are the numbers of the gates and questions whose yes may allow a change.
	raised map[string]int64
	// putBack says that the database was put back to an older state, by the event with a number.
	putBack    *PutBack
	putBackSeq int64
	// lately is when an effect under an approval ended last, by the gate or the question: until then it was in use.
	lately map[string]time.Time
	// resumed is the number of the newest word that changes go on.
	resumed int64
	// openLeaves are those on which an intent may rest.
	openLeaves map[int64]bool
	// undoings are the places where what was changed is being undone: while there is one, nothing else turns the run.
	undoings []Place
	// cancelSeq and endingSeq are the numbers of the newest such events.
	cancelSeq, endingSeq int64
}

type span struct{ first, last time.Time }

func newState(book *runbook.Book) *State {
	return &State{
		book: book,
		placesState: placesState{
			steps:     map[Place]*stepState{},
			waits:     map[Place]string{},
			times:     map[Place]*span{},
			instances: map[*runbook.Step][]Place{},
		},
		attemptedState: attemptedState{
			attempts: map[string]*attempt{}, open: map[string]*attempt{}, touches: map[TouchKey]*Touch{},
		},
		knownState: knownState{data: map[Place]*data{}},
		courseState: courseState{
			locks: map[string]bool{}, approved: map[Place]*approval{}, lately: map[string]time.Time{},
			raised:     map[string]int64{},
			openLeaves: map[int64]bool{},
		},
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
	// Those of the way to a change alone; see Waits.
	OnStart    = "start"    // the time that approvers set
	OnRest     = "rest"     // it may still run
	OnRepeat   = "repeat"   // before it is begun once more
	OnEvidence = "evidence" // which became old
)

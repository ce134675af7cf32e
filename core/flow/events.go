package flow

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"time"

	"urgentis/core/expr"
	"urgentis/core/leave"
	"urgentis/core/reading"
	"urgentis/core/task"
)

// Rules is the version of the rules in this package; a log says under which it was begun. Version 7 knows touches: what
// became of each change on each target, and of its undo, in one place; one way to a change, and undoing as a mode.
// Version 8 makes a change on those of its targets that still need it.
const (
	Rules      = 8
	sparing    = 8
	touchRules = 7
)

// OldestRules is the oldest version whose logs this program reads. A run that was begun before there were touches
// begins nothing any more: what is unknown is asked about, and it is handed over with the list of what it changed.
const OldestRules = 6

// Event is one entry of a run's log.
type Event struct {
	Seq   int64     `json:"seq"` // from 1, without gaps
	At    time.Time `json:"at"`
	Place Place     `json:"path,omitzero"`
	Body  Body      `json:"body"`
}

// Body is what happened.
type Body interface{ Kind() string }

// Target is a target as the run knows it: frozen when the run began.
type Target struct {
	Name    string            `json:"name"`
	Address string            `json:"address"`
	Labels  map[string]string `json:"labels,omitempty"`
	Known   map[string]any    `json:"known,omitempty"` // facts that targets are compared with
}

// Begun is always the first event.
type Begun struct {
	Rules     int            `json:"rules"`
	Run       string         `json:"run"`
	Runbook   string         `json:"runbook"`
	Revision  string         `json:"revision"`
	Inputs    map[string]any `json:"inputs"`
	Alert     map[string]any `json:"alert,omitempty"`
	Incident  map[string]any `json:"incident,omitempty"`
	Service   map[string]any `json:"service,omitempty"`
	Estate    []Target       `json:"estate,omitempty"`
	StartedBy string         `json:"started_by"` // a person's name, or trigger:NAME
	// Person is who answers for a token that started it; "" where StartedBy is that person.
	Person string `json:"person,omitempty"`
	// Calls names the revision of each other runbook that this one calls, frozen when the run began.
	Calls map[string]string `json:"calls,omitempty"`
}

// Skipped says that a step's condition did not hold.
type Skipped struct {
	Expression string       `json:"expression"`
	Values     []expr.Value `json:"values,omitempty"`
}

// StepBegun freezes the targets of a step.
type StepBegun struct {
	Targets []string `json:"targets,omitempty"`
}

// Purpose is what an attempt is for. Laps tell the rounds of one purpose apart, Look which of several looks it is.
type Purpose struct {
	For  string `json:"for"`
	Lap  int    `json:"lap,omitempty"`
	Look int    `json:"look,omitempty"`
}

// What attempts are for.
const (
	ForLook   = "look"   // what the step itself asks: a look, or the look that a check retakes
	ForFresh  = "fresh"  // a look taken anew because its evidence is older than the change wants it
	ForStill  = "still"  // the last look before a change
	ForSettle = "settle" // a look that tells what became of a change
	ForChange = "change"
	ForUndo   = "undo"   // at the place of the change that it undoes
	ForUndone = "undone" // a look that tells whether what was undone is as it must be then
)

// String writes it as it stands in the names of attempts.
func (p Purpose) String() string {
	out := p.For
	if p.Lap > 0 || p.Look > 0 {
		out += fmt.Sprintf(".%d", p.Lap)
	}
	if p.Look > 0 {
		out += fmt.Sprintf(".%d", p.Look)
	}
	return out
}

// Intent is written before anything is done; Attempt names it for good.
type Intent struct {
	Attempt string       `json:"attempt"` // RUN:PLACE:PURPOSE:TARGET:TRY
	Target  string       `json:"target,omitempty"`
	Purpose Purpose      `json:"purpose"`
	Look    Place        `json:"look,omitzero"` // where the look stands whose request this is
	Request task.Request `json:"request"`
	// Asked is set on the first intent of a round: every target that the round asks.
	Asked []string `json:"asked,omitempty"`
	// Digest is that of the proposal that allows a change; Under is the gate or the question whose yes it rests on, ""
	// where leave was given without one.
	Digest string `json:"digest,omitempty"`
	Under  string `json:"under,omitempty"`
	// Leave is the number of the LeaveGiven that a change rests on; 0 for looks, and for a job that is followed on.
	Leave int64 `json:"leave,omitempty"`
	// Deadline is when a job that is followed on must be over, from its first intent.
	Deadline *time.Time `json:"deadline,omitempty"`
	// By is the instance that may begin it.
	By string `json:"by,omitempty"`

	// takes is, under the rules before 7, the attempt that this one undoes.
	takes string
}

// Touches reports whether it changes something: it is a change, or the undo of one.
func (in Intent) Touches() bool { return in.Purpose.For == ForChange || in.Purpose.For == ForUndo }

// Undoes reports whether it is the undo of a change.
func (in Intent) Undoes() bool { return in.Purpose.For == ForUndo }

// FollowsOn reports whether it begins nothing: it looks after a job that was begun before.
func (in Intent) FollowsOn() bool { return in.Request.Job != nil && in.Request.Job.Known != "" }

// olderIntent is how an intent was written under the rules before 7.
type olderIntent struct {
	Round    int    `json:"round"`
	Change   bool   `json:"change"`
	Approval string `json:"approval"`
	Undo     string `json:"undo"`
}

func (in Intent) fromOlder(o olderIntent) Intent {
	in.Purpose, in.Digest, in.takes = Purpose{For: ForLook, Lap: o.Round}, o.Approval, o.Undo
	if o.Change {
		in.Purpose = Purpose{For: ForChange}
	}
	if o.Undo != "" {
		in.Purpose = Purpose{For: ForUndo}
	}
	return in
}

// Outcome states.
const (
	OK      = "ok"
	Failed  = "failed"
	Unknown = "unknown"
	// Held is a change that we held back: all changes are halted, or this instance may not begin it.
	Held = "held"
	// StillRuns is a job that goes on elsewhere and is to be followed on.
	StillRuns = "still-running"
)

// Outcome is what became of an intent.
type Outcome struct {
	Attempt  string                 `json:"attempt"`
	State    string                 `json:"state"`
	Exit     *int                   `json:"exit,omitempty"` // exit or HTTP status
	Error    string                 `json:"error,omitempty"`
	Output   Output                 `json:"output"`
	Stderr   Output                 `json:"stderr"`
	Readings map[string]expr.Sample `json:"readings,omitempty"`
	// Missing tells for each reading that could not be taken why.
	Missing map[string]string `json:"missing,omitempty"`
	// Differences tell where the output does not fit what the look demands.
	Differences []reading.Difference `json:"differences,omitempty"`
	Took        time.Duration        `json:"took"`
	// Halted says that it was held back because all changes are halted.
	Halted bool `json:"halted,omitempty"`
	// Attached is the file that was made of the output.
	Attached *AttachedFile `json:"attached,omitempty"`
}

// AttachedFile is a file of the record, made of what was printed.
type AttachedFile struct {
	ID     string `json:"id"`
	Name   string `json:"name"`
	Size   int64  `json:"size"`
	Digest string `json:"sha256"`
}

// Output is what was printed, as far as a log keeps it.
type Output = task.Output

// Lost says that nobody is left who could report the outcome of an intent.
type Lost struct {
	Attempt string `json:"attempt"`
	Because string `json:"because"`
	// By is the instance that may still begin it, where that is not certain.
	By string `json:"by,omitempty"`
}

// Rested says that nobody can begin an attempt any more, and that what it began is not seen to run.
type Rested struct {
	Attempt string `json:"attempt"`
	Says    string `json:"says,omitempty"`
}

// Followed says what the job elsewhere is known by that an attempt began: whoever loses sight of it can follow it on.
type Followed struct {
	Attempt string `json:"attempt"`
	Job     string `json:"job"`
}

// Judged is one answer of a check; the last one is Final.
type Judged struct {
	Round  int          `json:"round"`
	Result string       `json:"result"` // passes, fails or unsure
	Final  bool         `json:"final"`
	Values []expr.Value `json:"values,omitempty"`
	Unsure string       `json:"unsure,omitempty"`
	// Differences are what a comparison found.
	Differences []reading.Difference `json:"differences,omitempty"`
}

// Check results.
const (
	Passes = "passes"
	Fails  = "fails"
	Unsure = "unsure"
)

// LeaveGiven is the answer to whether a change may happen, with the facts it rests on. It is open, and an intent may
// rest on it, until anything is heard from outside, the change waits, or it is on disk.
type LeaveGiven struct {
	Targets []string      `json:"targets,omitempty"` // that it was asked for
	Verdict leave.Verdict `json:"verdict"`
	Reasons []string      `json:"reasons"`
	Facts   []task.Facts  `json:"facts"`
	Halted  bool          `json:"halted,omitempty"` // see leave.Answer
	// Secrets gives the version of each secret that would be used.
	Secrets map[string]int `json:"secrets,omitempty"`
	// Files gives the SHA-256 and the size of each file of the store that would be sent, as "HEX SIZE".
	Files map[string]string `json:"files,omitempty"`
}

// GateRaised asks people for leave, showing what would run.
type GateRaised struct {
	Gate     string         `json:"gate"`
	Round    int            `json:"round"`
	Proposal leave.Proposal `json:"proposal"`
	Digest   string         `json:"digest"`
	Ask      string         `json:"ask"`
	Comment  bool           `json:"comment"`
	Until    time.Time      `json:"until"`
	Reasons  []string       `json:"reasons"`
	// People is how many must approve; 0 is one.
	People int `json:"people,omitempty"`
	// Undo says that it is about the undo of a change that was made: something differs since that was approved.
	Undo bool `json:"undo,omitempty"`
}

// GateDecided is a person's word; it binds to the digest of what was shown.
type GateDecided struct {
	Gate     string `json:"gate"`
	Approved bool   `json:"approved"`
	By       string `json:"by"`
	// Person is who answers for the token that decided; "" where By is that person.
	Person  string `json:"person,omitempty"`
	Comment string `json:"comment,omitempty"`
	Digest  string `json:"digest"`
	// StartAt is when the change may begin, if the approver set a time.
	StartAt *time.Time `json:"start_at,omitempty"`
}

// GateExpired says that nobody answered in time, or why nobody is asked any more.
type GateExpired struct {
	Gate    string `json:"gate"`
	Because string `json:"because,omitempty"`
}

// Cleared is the proposal that runs without a gate.
type Cleared struct {
	Proposal leave.Proposal `json:"proposal"`
	Digest   string         `json:"digest"`
	Reasons  []string       `json:"reasons"`
	// Approval is the yes that was given before; "" where leave was given without one.
	Approval string `json:"approval,omitempty"`
}

// StillJudged is the last look before a change: whether its reason still holds, in one lap of the way to it.
type StillJudged struct {
	Lap    int          `json:"lap,omitempty"`
	Target string       `json:"target,omitempty"`
	Result string       `json:"result"`
	Expr   string       `json:"expression"`
	Values []expr.Value `json:"values,omitempty"`
	Unsure string       `json:"unsure,omitempty"`
}

// Settled is what a look says of a change whose outcome was unknown: whether it happened.
type Settled struct {
	Attempt string       `json:"attempt"`
	Target  string       `json:"target,omitempty"`
	Result  string       `json:"result"`
	Expr    string       `json:"expression"`
	Values  []expr.Value `json:"values,omitempty"`
	Unsure  string       `json:"unsure,omitempty"`
}

// Waits closes a lap of the way to a change, or to its undo: what follows begins at the first stage.
type Waits struct {
	On     string    `json:"on"` // start, halt, rest, repeat or evidence
	Until  time.Time `json:"until,omitzero"`
	Target string    `json:"target,omitempty"` // of an undo
	Undo   bool      `json:"undo,omitempty"`
}

// Repeated says that a change of which nothing is known, which may be repeated and is at rest, is to begin once more.
type Repeated struct {
	Target string `json:"target,omitempty"`
}

// QuestionRaised asks a person: what became of a change whose outcome is unknown (Attempt is set then),
// or what an ask step asks.
type QuestionRaised struct {
	Question string    `json:"question"`
	Attempt  string    `json:"attempt,omitempty"`
	Text     string    `json:"text"`
	Choices  []string  `json:"choices"`
	Ask      string    `json:"ask"`
	Until    time.Time `json:"until"`

	Round  int               `json:"round,omitempty"`
	Labels map[string]string `json:"labels,omitempty"` // of the choices
	Fields []Field           `json:"fields,omitempty"`
	// Approves holds, by choice, the change that the answer approves.
	Approves map[string]Approvable `json:"approves,omitempty"`
	// By names the instance that may still begin the attempt.
	By string `json:"by,omitempty"`
}

// Field is a value that an answer gives.
type Field struct {
	Name    string   `json:"name"`
	Label   string   `json:"label,omitempty"`
	Type    string   `json:"type"`
	Choices []string `json:"choices,omitempty"`
	Suggest any      `json:"suggest,omitempty"`
}

// Approvable is a change as it would run, and the place of its step.
type Approvable struct {
	Place    Place          `json:"path"`
	Proposal leave.Proposal `json:"proposal"`
	Digest   string         `json:"digest"`
	Comment  bool           `json:"comment,omitempty"` // a gate around the change wants one
}

// Answers to a QuestionRaised.
const (
	Happened  = "happened"
	InPart    = "in-part" // since version 4
	DidNot    = "did-not-happen"
	DoItAgain = "again"
	Itself    = "itself" // who answered, where a question answered itself
)

// Requester is the person who started the run, or whose token did; a trigger's name where nobody did.
func (b Begun) Requester() string { return personOf(b.StartedBy, b.Person) }

// Decider is the person who decided, or whose token did.
func (d GateDecided) Decider() string { return personOf(d.By, d.Person) }

func personOf(by, person string) string {
	if person != "" {
		return person
	}
	return by
}

// SaysNotBegun reports whether an answer to what became of a change says that it did nothing. It is not to be had
// while somebody may still begin the change.
func SaysNotBegun(choice string) bool { return choice == DidNot || choice == DoItAgain }

// QuestionAnswered is a person's answer.
type QuestionAnswered struct {
	Question string `json:"question"`
	Choice   string `json:"choice"`
	By       string `json:"by"`
	Person   string `json:"person,omitempty"` // see GateDecided
	Comment  string `json:"comment,omitempty"`
	// Fields are the values given, accepted by the question.
	Fields map[string]any `json:"fields,omitempty"`
	Values []expr.Value   `json:"values,omitempty"` // why it answered itself
}

// QuestionExpired says that nobody answered in time, or why nobody is asked any more.
type QuestionExpired struct {
	Question string `json:"question"`
	Because  string `json:"because,omitempty"`
}

// Changed says that a change step has been carried out on all its targets.
type Changed struct {
	Targets []string `json:"targets"`
}

// Troubled says that a step did not do what it should, and what was to follow unless something around it provides for
// that.
type Troubled struct {
	Because string `json:"because"`
	// Stop ends the run as failed instead of handing it over.
	Stop bool   `json:"stop,omitempty"`
	To   string `json:"to,omitempty"` // whom it is handed over to; the owner's on call unless said
	// Final is what on_error does not apply to: a person's refusal, an outcome nobody knows, the runbook's own word.
	Final bool `json:"final,omitempty"`
	// Unsaid says that nobody could say what became of a change.
	Unsaid bool `json:"unsaid,omitempty"`
}

// EachBegun freezes the items of an each.
type EachBegun struct {
	Items  []Item `json:"items"`
	AtOnce int    `json:"at_once"`
}

// Item is one item of an each: a value, a target, or a target and its peer.
type Item struct {
	Label  string `json:"label"`
	Value  any    `json:"value,omitempty"`
	Target string `json:"target,omitempty"`
	Peer   string `json:"peer,omitempty"`
}

// ItemBegun says that an item's steps begin.
type ItemBegun struct{}

// ItemPassed says that an item of an each is passed over, with nothing changed in it: the reason of its first change is
// gone. What is left of its steps is not come to.
type ItemPassed struct {
	Label   string `json:"label"` // of the item
	Because string `json:"because"`
}

// TargetPassed says that a change on several targets is not made on one of them, which needs it no more.
type TargetPassed struct {
	Target  string `json:"target"`
	Because string `json:"because"`
}

// StepEnded says that a step of several parts is over.
type StepEnded struct{}

// Waited says that a wait is over: its time, or because its condition holds.
type Waited struct{}

// CallBegun begins another runbook, or a part, as a part of this run.
type CallBegun struct {
	Runbook  string         `json:"runbook"`
	Revision string         `json:"revision"`
	Inputs   map[string]any `json:"inputs,omitempty"`
}

// CallEnded is what a call came to.
type CallEnded struct {
	State   string         `json:"state"`
	Outcome string         `json:"outcome,omitempty"`
	Because string         `json:"because,omitempty"`
	To      string         `json:"to,omitempty"`
	Results map[string]any `json:"results,omitempty"`
	// Unsaid says of the results that could not be said why.
	Unsaid map[string]string `json:"unsaid,omitempty"`
}

// Undoing begins the mode in which a run undoes what it changed; only Undone ends it. Touches are to be undone, the
// newest first; Left lists those that are not, with why.
type Undoing struct {
	Touches []TouchKey `json:"touches"`
	Left    []UndoLeft `json:"left,omitempty"`
}

// UndoJudged says whether what must hold once a change is undone does.
type UndoJudged struct {
	TouchKey
	Result string       `json:"result"`
	Expr   string       `json:"expression"`
	Values []expr.Value `json:"values,omitempty"`
	Unsure string       `json:"unsure,omitempty"`
}

// UndoLeft says that a change is not undone, and why.
type UndoLeft struct {
	TouchKey
	Why string `json:"why"`
}

// Undone says that all that could be undone was, or is known not to be.
type Undone struct{}

// Older is an event of earlier rules that says nothing any more.
type Older struct{}

// LocksTaken says that this run alone may change what the keys name, until it ends or gives them back.
type LocksTaken struct {
	Keys []string `json:"keys"`
	Of   string   `json:"of,omitempty"` // see WantLocks
}

// LocksGivenBack says that what the keys name is free for others again: what this run changed there is proven, undone
// or was not begun, and nothing to come touches it.
type LocksGivenBack struct {
	Keys []string `json:"keys"`
}

// LocksAwaited says that another run holds what this one needs.
type LocksAwaited struct {
	Key    string `json:"key"`
	Holder string `json:"holder"` // a run
	// Circle says that the holder waits for what this run holds: waiting would never end.
	Circle bool   `json:"circle,omitempty"`
	Of     string `json:"of,omitempty"` // see WantLocks
}

// AlertChanged tells how the alert is now.
type AlertChanged struct {
	State    string `json:"state"`
	Severity string `json:"severity"`
	Cleared  bool   `json:"cleared,omitempty"`
	Worse    bool   `json:"worse,omitempty"` // than when the run began
}

// Turned says that the run, or the call at its place, follows what its runbook provides for a changed alert.
type Turned struct {
	To string `json:"to"` // if_cleared or if_worse
}

// CancelAsked is a person's word to stop the run. It ends once nothing of it is under way any more.
type CancelAsked struct {
	By      string `json:"by"`
	Because string `json:"because,omitempty"`
	Undo    bool   `json:"undo,omitempty"` // take the changes back first
}

// PutBack says that the database was put back to an older state while the run was under way: what was begun shortly
// before is not known. Whatever was not begun is asked for anew, and the last sentence says so.
type PutBack struct {
	At time.Time `json:"at"`
}

// Resumed says that changes are no longer halted: what waited for that is tried again.
type Resumed struct {
	By string `json:"by"`
}

// Ending says how the run will end, once what is under way has ended and finally is done.
type Ending Ended

// Told is a message that goes out once.
type Told struct {
	Text   string   `json:"text,omitempty"`
	Source string   `json:"source,omitempty"`
	To     []string `json:"to,omitempty"` // whom it is for; none: as routes say
}

// Noted is text for the incident record.
type Noted struct {
	Text string `json:"text"`
}

// Run states.
const (
	Running    = "running"
	Waiting    = "waiting"
	Done       = "done"
	StateFail  = "failed"
	HandedOver = "handed-over"
	Cancelled  = "cancelled"
)

// Ended is always the last event.
type Ended struct {
	State   string `json:"state"`
	Outcome string `json:"outcome,omitempty"` // closes the incident
	Because string `json:"because"`
	To      string `json:"to,omitempty"` // whom it was handed over to
	Cause   string `json:"cause,omitempty"`
	// Changes says what became of all that the run changed, or began to.
	Changes []Line `json:"changes,omitempty"`
}

// Kind implements Body for each event.
func (Begun) Kind() string            { return "run.begun" }
func (Skipped) Kind() string          { return "step.skipped" }
func (StepBegun) Kind() string        { return "step.begun" }
func (Intent) Kind() string           { return "attempt.intended" }
func (Outcome) Kind() string          { return "attempt.ended" }
func (Lost) Kind() string             { return "attempt.lost" }
func (Followed) Kind() string         { return "attempt.followed" }
func (Judged) Kind() string           { return "check.judged" }
func (LeaveGiven) Kind() string       { return "leave.given" }
func (GateRaised) Kind() string       { return "gate.raised" }
func (GateDecided) Kind() string      { return "gate.decided" }
func (GateExpired) Kind() string      { return "gate.expired" }
func (Cleared) Kind() string          { return "change.cleared" }
func (StillJudged) Kind() string      { return "change.still" }
func (QuestionRaised) Kind() string   { return "question.raised" }
func (QuestionAnswered) Kind() string { return "question.answered" }
func (QuestionExpired) Kind() string  { return "question.expired" }
func (Changed) Kind() string          { return "change.made" }
func (Told) Kind() string             { return "told" }
func (Noted) Kind() string            { return "noted" }
func (Ended) Kind() string            { return "run.ended" }
func (Troubled) Kind() string         { return "step.troubled" }
func (EachBegun) Kind() string        { return "each.begun" }
func (ItemBegun) Kind() string        { return "item.begun" }
func (ItemPassed) Kind() string       { return "item.passed" }
func (TargetPassed) Kind() string     { return "target.passed" }
func (StepEnded) Kind() string        { return "step.ended" }
func (Waited) Kind() string           { return "wait.over" }
func (CallBegun) Kind() string        { return "call.begun" }
func (CallEnded) Kind() string        { return "call.ended" }
func (Undoing) Kind() string          { return "undoing.begun" }
func (UndoJudged) Kind() string       { return "undo.judged" }
func (UndoLeft) Kind() string         { return "undo.left" }
func (Undone) Kind() string           { return "undoing.ended" }
func (Rested) Kind() string           { return "attempt.rested" }
func (Settled) Kind() string          { return "change.settled" }
func (Waits) Kind() string            { return "change.waits" }
func (Repeated) Kind() string         { return "change.repeated" }
func (Older) Kind() string            { return "older" }
func (LocksTaken) Kind() string       { return "locks.taken" }
func (LocksAwaited) Kind() string     { return "locks.awaited" }
func (LocksGivenBack) Kind() string   { return "locks.given-back" }
func (AlertChanged) Kind() string     { return "alert.changed" }
func (Turned) Kind() string           { return "alert.turned" }
func (CancelAsked) Kind() string      { return "cancel.asked" }
func (Ending) Kind() string           { return "run.ending" }
func (PutBack) Kind() string          { return "database.put-back" }
func (Resumed) Kind() string          { return "halt.lifted" }

var kinds = map[string]reflect.Type{}

func init() {
	for _, b := range []Body{Begun{}, Skipped{}, StepBegun{}, Intent{}, Outcome{}, Lost{}, Followed{}, Judged{},
		LeaveGiven{}, GateRaised{}, GateDecided{},
		GateExpired{}, Cleared{}, StillJudged{}, QuestionRaised{}, QuestionAnswered{}, QuestionExpired{}, Changed{},
		Told{}, Noted{}, Ended{},
		Troubled{}, EachBegun{}, ItemBegun{}, ItemPassed{}, TargetPassed{}, StepEnded{}, Waited{}, CallBegun{},
		CallEnded{},
		Undoing{}, UndoJudged{}, UndoLeft{}, Undone{},
		Rested{}, Settled{}, Waits{}, Repeated{}, Older{},
		LocksTaken{}, LocksAwaited{}, LocksGivenBack{},
		AlertChanged{}, Turned{}, CancelAsked{}, Ending{}, PutBack{}, Resumed{}} {
		kinds[b.Kind()] = reflect.TypeOf(b)
	}
}

// ErrNewer marks a log that holds what this program does not know.
var ErrNewer = errors.New("a newer program wrote it")

// Decode reads the body of a stored event.
func Decode(kind string, data []byte) (Body, error) {
	if kind == "undo.begun" || kind == "undo.ended" {
		kind = Older{}.Kind()
	}
	t, ok := kinds[kind]
	if !ok {
		return nil, fmt.Errorf("this program does not know the event %s: %w", kind, ErrNewer)
	}
	v := reflect.New(t)
	dec := json.NewDecoder(bytes.NewReader(data))
	dec.UseNumber()
	if err := dec.Decode(v.Interface()); err != nil {
		return nil, fmt.Errorf("read event %s: %w", kind, err)
	}
	b := v.Elem().Interface()
	switch e := b.(type) {
	case Intent:
		if e.Purpose.For != "" {
			return e, nil
		}
		var o olderIntent
		if err := json.Unmarshal(data, &o); err != nil {
			return nil, fmt.Errorf("read event %s: %w", kind, err)
		}
		return e.fromOlder(o), nil
	case Begun:
		e.Inputs = whole(e.Inputs)
		// Times are texts in JSON; expressions want them as times.
		e.Alert = snapshot(e.Alert)
		e.Incident = whole(e.Incident)
		for i := range e.Estate {
			e.Estate[i].Known = whole(e.Estate[i].Known)
		}
		return e, nil
	case EachBegun:
		for i := range e.Items {
			e.Items[i].Value = wholeValue(e.Items[i].Value)
		}
		return e, nil
	case CallBegun:
		e.Inputs = whole(e.Inputs)
		return e, nil
	case CallEnded:
		e.Results = whole(e.Results)
		return e, nil
	case QuestionAnswered:
		e.Fields = whole(e.Fields)
		return e, nil
	case Outcome:
		for k, r := range e.Readings {
			r.Value = wholeValue(r.Value)
			e.Readings[k] = r
		}
		return e, nil
	}
	return b.(Body), nil
}

func snapshot(a map[string]any) map[string]any {
	if a == nil {
		return nil
	}
	a = whole(a)
	for _, k := range []string{"first_at", "last_at", "first_said", "last_said"} {
		if s, ok := a[k].(string); ok {
			if t, err := time.Parse(time.RFC3339Nano, s); err == nil {
				a[k] = t
			}
		}
	}
	if l, ok := a["labels"].(map[string]any); ok {
		labels := make(map[string]string, len(l))
		for k, v := range l {
			labels[k] = expr.Say(v)
		}
		a["labels"] = labels
	}
	return a
}

// whole makes whole numbers integers again, which JSON does not tell apart.
func whole(m map[string]any) map[string]any {
	for k, v := range m {
		m[k] = wholeValue(v)
	}
	return m
}

func wholeValue(v any) any {
	switch x := v.(type) {
	case json.Number:
		if i, err := x.Int64(); err == nil {
			return i
		}
		f, _ := x.Float64()
		return f
	case map[string]any:
		return whole(x)
	case []any:
		for i := range x {
			x[i] = wholeValue(x[i])
		}
	}
	return v
}

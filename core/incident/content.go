package incident

import (
	"encoding/json"
	"reflect"
	"time"

	"urgentis/core/expr"
	"urgentis/core/reading"
	"urgentis/core/task"
	"urgentis/core/trigger"
)

// Content is what an entry holds beside its head. Each kind has one type of it (see ContentOf); the API document has a
// schema for each type.
type Content interface {
	// Kinds lists the kinds of entries that hold it.
	Kinds() []Kind
}

// OfStep names the step that an entry of a run is about.
type OfStep struct {
	Verb  string `json:"verb,omitempty"`
	Title string `json:"step_title,omitempty"`
}

// Step gives it to whoever holds any content.
func (s OfStep) Step() OfStep { return s }

// EffectFate is what is known to have become of a change on a target, or of its undo (see flow.Fate).
type EffectFate string

// The fates.
const (
	NotBegun     EffectFate = "not begun"
	HeldBack     EffectFate = "held back"
	UnderWay     EffectFate = "under way"
	WasDone      EffectFate = "done"
	DoneInPart   EffectFate = "done in part"
	FailedBefore EffectFate = "not begun: failed"
	FailedAfter  EffectFate = "failed after it began"
	NotKnown     EffectFate = "unknown"
)

// Became is what is known of a change on a target, and of its undo, once the entry is written; empty where the entry
// tells of no change.
type Became struct {
	Fate     EffectFate `json:"fate,omitempty"`
	UndoFate EffectFate `json:"undo_fate,omitempty"`
	Says     string     `json:"says,omitempty"` // both in words
}

// AlertContent is an alert as it was at the moment of the entry.
type AlertContent struct {
	ID        string            `json:"id,omitempty"`
	Source    string            `json:"source,omitempty"`
	Key       string            `json:"key,omitempty"`
	Severity  string            `json:"severity,omitempty"`
	Was       string            `json:"was,omitempty"` // its severity before
	State     string            `json:"state,omitempty"`
	Summary   string            `json:"summary,omitempty"`
	Service   string            `json:"service,omitempty"`
	Link      string            `json:"link,omitempty"`
	Labels    map[string]string `json:"labels,omitempty"`
	Count     int               `json:"count,omitempty"`
	FirstAt   time.Time         `json:"first_at,omitzero"`
	LastAt    time.Time         `json:"last_at,omitzero"`
	FirstSaid time.Time         `json:"first_said,omitzero"` // by the clock of the sender
	LastSaid  time.Time         `json:"last_said,omitzero"`
	Why       string            `json:"why,omitempty"`
	// Mute is the planned work that covers it, Until its end, Because what it is for.
	Mute    string    `json:"mute,omitempty"`
	Until   time.Time `json:"until,omitzero"`
	Because string    `json:"because,omitempty"`
}

// BegunContent is a run, or a call of another runbook, that begins.
type BegunContent struct {
	OfStep
	Runbook   string         `json:"runbook"`
	Revision  string         `json:"revision"`
	Inputs    map[string]any `json:"inputs,omitempty"`
	StartedBy string         `json:"started_by,omitempty"`
}

// RunContent is what happens to a run, or would, but its beginning and its end.
type RunContent struct {
	OfStep
	Runbook  string            `json:"runbook,omitempty"`
	Trigger  string            `json:"trigger,omitempty"`
	StartsAt time.Time         `json:"starts_at,omitzero"`
	Because  string            `json:"because,omitempty"`
	Undo     bool              `json:"undo,omitempty"`
	Verdicts []trigger.Verdict `json:"verdicts,omitempty"`
}

// EndedContent is how a run, or a call of another runbook, ended.
type EndedContent struct {
	OfStep
	State   string            `json:"state,omitempty"`
	Outcome string            `json:"outcome,omitempty"`
	Because string            `json:"because,omitempty"`
	Cause   string            `json:"cause,omitempty"`
	To      string            `json:"to,omitempty"`
	Results map[string]any    `json:"results,omitempty"`
	Unsaid  map[string]string `json:"unsaid,omitempty"` // of results that could not be said, why
	Changes []ChangeLine      `json:"changes,omitempty"`
}

// ChangeLine says what became of one change on some targets.
type ChangeLine struct {
	Title   string   `json:"title"`
	Targets []string `json:"targets"`
	Says    string   `json:"says"`
}

// AttemptContent is how a look, a change or an undo ended on one target.
type AttemptContent struct {
	OfStep
	Became
	Attempt string `json:"attempt"`
	Target  string `json:"target,omitempty"`
	Shown   string `json:"shown"`             // what ran, as it is shown
	Purpose string `json:"purpose,omitempty"` // look, fresh, still, settle, change, undo or undone
	Round   int    `json:"round,omitempty"`
	// Good says of numbers which way is better: low, high, or near and a number.
	Good map[string]string `json:"good,omitempty"`
	// State is ok, failed, unknown or held.
	State       string                 `json:"state"`
	Exit        *int                   `json:"exit,omitempty"` // exit or HTTP status
	Error       string                 `json:"error,omitempty"`
	TookMS      int64                  `json:"took_ms"`
	Output      task.Output            `json:"output"`
	Stderr      task.Output            `json:"stderr"`
	Readings    map[string]expr.Sample `json:"readings,omitempty"`
	Missing     map[string]string      `json:"missing,omitempty"` // readings that could not be taken, with why
	Differences []reading.Difference   `json:"differences,omitempty"`
}

// IntentContent is a change, or an undo, that begins on one target.
type IntentContent struct {
	OfStep
	Attempt  string `json:"attempt"`
	Target   string `json:"target,omitempty"`
	Shown    string `json:"shown"`
	Undo     string `json:"undo,omitempty"`     // what would undo it, as it is shown
	Approval string `json:"approval,omitempty"` // the digest that was approved
	// Under is the gate or the question whose yes it rests on; "" where leave was given without one.
	Under string `json:"under,omitempty"`
	// Cannot is set where the author says that it cannot be undone; Loses is what is lost by it.
	Cannot  bool          `json:"cannot_undo,omitempty"`
	Loses   string        `json:"loses,omitempty"`
	Request *task.Request `json:"request,omitempty"`
}

// JudgedContent is what a condition came to.
type JudgedContent struct {
	OfStep
	Became
	Result      string               `json:"result,omitempty"` // passes, fails or unsure
	Expression  string               `json:"expression,omitempty"`
	Values      []expr.Value         `json:"values,omitempty"`
	Unsure      string               `json:"unsure,omitempty"`
	Rounds      int                  `json:"rounds,omitempty"`
	Proves      string               `json:"proves,omitempty"` // the change, by its id
	Target      string               `json:"target,omitempty"`
	Attempt     string               `json:"attempt,omitempty"`
	Differences []reading.Difference `json:"differences,omitempty"`
}

// Requested is what a gate would let run on one target.
type Requested struct {
	Target string `json:"target,omitempty"`
	Shown  string `json:"shown"`
	Undo   string `json:"undo,omitempty"`
}

// GateContent is a gate that is raised.
type GateContent struct {
	OfStep
	Gate     string      `json:"gate"`
	Undo     bool        `json:"undo,omitempty"` // it is about the undo of a change
	Ask      string      `json:"ask,omitempty"`
	Until    time.Time   `json:"until,omitzero"`
	Reasons  []string    `json:"reasons,omitempty"`
	Digest   string      `json:"digest,omitempty"`
	Requests []Requested `json:"requests,omitempty"`
}

// DecidedContent is a person's word on a gate, or that nobody gave one.
type DecidedContent struct {
	OfStep
	Gate    string     `json:"gate,omitempty"`
	Comment string     `json:"comment,omitempty"`
	Digest  string     `json:"digest,omitempty"`
	StartAt *time.Time `json:"start_at,omitempty"`
	Because string     `json:"because,omitempty"`
	Said    string     `json:"said,omitempty"` // what was not taken
}

// QuestionContent is a question that is raised. Attempt is set where it asks what became of a change.
type QuestionContent struct {
	OfStep
	Question string    `json:"question"`
	Text     string    `json:"text"`
	Choices  []string  `json:"choices,omitempty"`
	Ask      string    `json:"ask,omitempty"`
	Until    time.Time `json:"until,omitzero"`
	Attempt  string    `json:"attempt,omitempty"`
	Target   string    `json:"target,omitempty"`
}

// AnswerContent is an answer, or that nobody gave one.
type AnswerContent struct {
	OfStep
	Became
	Question string         `json:"question"`
	Choice   string         `json:"choice,omitempty"`
	Label    string         `json:"label,omitempty"`
	Comment  string         `json:"comment,omitempty"`
	Fields   map[string]any `json:"fields,omitempty"`
	Values   []expr.Value   `json:"values,omitempty"` // why it answered itself
	Because  string         `json:"because,omitempty"`
	Attempt  string         `json:"attempt,omitempty"`
	Target   string         `json:"target,omitempty"`
}

// Touched names a change on a target.
type Touched struct {
	Place  string `json:"place"`
	Target string `json:"target,omitempty"`
	Why    string `json:"why,omitempty"` // it is left
}

// StepContent is what happens on the way of a step, beside what is looked at, asked and changed.
type StepContent struct {
	OfStep
	Became
	Target   string    `json:"target,omitempty"`
	Because  string    `json:"because,omitempty"`
	Attempt  string    `json:"attempt,omitempty"`
	Change   bool      `json:"change,omitempty"` // the attempt is of a change
	Undoes   bool      `json:"undoes,omitempty"` // it is of the undo of one
	Job      string    `json:"job,omitempty"`
	Items    []string  `json:"items,omitempty"`
	AtOnce   int       `json:"at_once,omitempty"`
	Reasons  []string  `json:"reasons,omitempty"`
	Digest   string    `json:"digest,omitempty"`
	Approval string    `json:"approval,omitempty"` // the yes that was given before
	Touches  []Touched `json:"touches,omitempty"`
	Left     []Touched `json:"left,omitempty"`
}

// WaitContent is what a run waits for, or that it waits no more.
type WaitContent struct {
	OfStep
	For     string   `json:"for,omitempty"`
	Key     string   `json:"key,omitempty"`
	Keys    []string `json:"keys,omitempty"`
	Holder  string   `json:"holder,omitempty"` // a run
	Because string   `json:"because,omitempty"`
	Follows string   `json:"follows,omitempty"` // if_cleared or if_worse
}

// NoteContent is what somebody, or a runbook, says.
type NoteContent struct {
	OfStep
	Text    string   `json:"text,omitempty"`
	Source  string   `json:"source,omitempty"` // what the alert's source is told
	NotTold string   `json:"not_told,omitempty"`
	To      []string `json:"to,omitempty"`
}

// FollowUpContent is something that is left to do, as it stands from here on.
type FollowUpContent struct {
	ID    string    `json:"id"`
	Text  string    `json:"text"`
	Owner string    `json:"owner,omitempty"` // a person or a team; "" for nobody
	Due   time.Time `json:"due,omitzero"`
	// State is FollowUpOpen and the like.
	State   string `json:"state"`
	Because string `json:"because,omitempty"`
}

// The states of what is left to do.
const (
	FollowUpOpen    = "open"
	FollowUpDone    = "done"
	FollowUpDropped = "dropped"
)

// StatedContent is what a person states of an incident in the place of what was known of it.
type StatedContent struct {
	Field string `json:"field"` // FieldCause or FieldHarm
	Text  string `json:"text,omitempty"`
	Was   string `json:"was,omitempty"`
}

// What a person can state.
const (
	FieldCause = "cause"
	FieldHarm  = "harm"
)

// ComparedContent is a look that was taken again, against what it read before.
type ComparedContent struct {
	Text     string     `json:"text"`
	Since    time.Time  `json:"since"`
	Compared []Compared `json:"compared"`
}

// Compared is one reading then and now.
type Compared struct {
	Target  string `json:"target,omitempty"`
	Reading string `json:"reading"`
	Unit    string `json:"unit,omitempty"`
	Then    any    `json:"then,omitempty"`
	Now     any    `json:"now,omitempty"`
	Says    string `json:"says"`
	Missing string `json:"missing,omitempty"`
}

// PeopleContent is who was called, or could not be told, and why.
type PeopleContent struct {
	Why     string `json:"why,omitempty"`
	Rung    int    `json:"rung,omitempty"` // from 1
	Of      string `json:"of,omitempty"`
	Because string `json:"because,omitempty"`
	Notice  string `json:"notice,omitempty"`
	Thing   string `json:"thing,omitempty"` // what it is about, such as gate/ID
	To      string `json:"to,omitempty"`
	Message int64  `json:"message,omitempty"`
	Body    any    `json:"body,omitempty"`
	Error   string `json:"error,omitempty"`
}

// TicketContent is a ticket at a desk, and what somebody did to it there.
type TicketContent struct {
	Desk   string `json:"desk,omitempty"`
	Number string `json:"number,omitempty"`
	Link   string `json:"link,omitempty"`
	By     string `json:"by,omitempty"`
	Text   string `json:"text,omitempty"`
	Closed bool   `json:"closed,omitempty"`
}

// FileContent is a file or a link.
type FileContent struct {
	OfStep
	Name    string `json:"name"`
	URL     string `json:"url,omitempty"`
	ID      string `json:"id,omitempty"`
	Size    int64  `json:"size,omitempty"`
	Digest  string `json:"sha256,omitempty"`
	Attempt string `json:"attempt,omitempty"`
}

// HeadContent is what alters of an incident itself.
type HeadContent struct {
	Holder      *string  `json:"holder,omitempty"`
	Was         string   `json:"was,omitempty"`
	Title       string   `json:"title,omitempty"`
	Severity    string   `json:"severity,omitempty"`
	TitleWas    string   `json:"title_was,omitempty"`
	SeverityWas string   `json:"severity_was,omitempty"`
	Service     string   `json:"service,omitempty"`
	Run         string   `json:"run,omitempty"`
	From        int64    `json:"from,omitempty"` // incidents of a merge or a split
	Into        int64    `json:"into,omitempty"`
	Alerts      []string `json:"alerts,omitempty"`
	Because     string   `json:"because,omitempty"`
}

// ClosedContent is how an incident ends, or that it stays open.
type ClosedContent struct {
	Outcome string   `json:"outcome,omitempty"`
	Because string   `json:"because,omitempty"`
	Open    []string `json:"open,omitempty"`       // why it stays open
	Still   []string `json:"still_open,omitempty"` // alerts that are closed with it, for which nothing was enough
	Told    []string `json:"told,omitempty"`       // sources
	NotTold []string `json:"not_told,omitempty"`
	From    int64    `json:"from,omitempty"` // it is a part of another one
	Into    int64    `json:"into,omitempty"`
	Alerts  []string `json:"alerts,omitempty"`
}

// Kinds implements Content for each type.
func (AlertContent) Kinds() []Kind {
	return []Kind{AlertRaised, AlertJoined, AlertMuted, AlertWorse, AlertBetter, AlertCleared, AlertLapsed}
}
func (BegunContent) Kinds() []Kind { return []Kind{RunBegun, CallBegun} }
func (RunContent) Kinds() []Kind {
	return []Kind{NothingStarted, RunHeld, RunDropped, RunRefused, RunFailed, RunQuarantined, RunResumed, RunCancelled,
		RunSettled}
}
func (EndedContent) Kinds() []Kind { return []Kind{RunEnded, RunHandedOver, CallEnded} }
func (AttemptContent) Kinds() []Kind {
	return []Kind{LookTaken, LookIncomplete, ChangeEnded, ChangeReported, UndoDone}
}
func (IntentContent) Kinds() []Kind { return []Kind{ChangeBegun, UndoBegun} }
func (JudgedContent) Kinds() []Kind {
	return []Kind{CheckPasses, CheckFails, CheckUnsure, ChangeStill, ChangeSettled, UndoJudged, StepSkipped}
}
func (GateContent) Kinds() []Kind { return []Kind{GateRaised} }
func (DecidedContent) Kinds() []Kind {
	return []Kind{GateApproved, GateRefused, GateExpired, GateTurnedAway}
}
func (QuestionContent) Kinds() []Kind { return []Kind{QuestionRaised} }
func (AnswerContent) Kinds() []Kind   { return []Kind{QuestionAnswered, QuestionExpired} }
func (StepContent) Kinds() []Kind {
	return []Kind{ChangeCleared, ChangeRepeated, JobFollowed, AttemptLost, UndoPlanned, UndoEnded, UndoLeft, ItemPassed,
		TargetPassed, StepTroubled, EachBegun}
}
func (WaitContent) Kinds() []Kind {
	return []Kind{AlertTurned, WaitBegun, WaitEnded, LockAwaited, LockTaken, LockGivenBack, HaltAwaited, HaltLifted,
		DatabasePutBack}
}
func (NoteContent) Kinds() []Kind     { return []Kind{Told, Note, Outward} }
func (FollowUpContent) Kinds() []Kind { return []Kind{FollowUpSet} }
func (StatedContent) Kinds() []Kind   { return []Kind{Stated} }
func (ComparedContent) Kinds() []Kind { return []Kind{LookedAgain} }
func (PastContent) Kinds() []Kind     { return []Kind{LookedBack} }
func (PeopleContent) Kinds() []Kind   { return []Kind{CalledOut, Unreached, DeliveryFailed} }
func (TicketContent) Kinds() []Kind   { return []Kind{TicketMade, TicketNews} }
func (FileContent) Kinds() []Kind     { return []Kind{Attached} }
func (HeadContent) Kinds() []Kind     { return []Kind{Held, Retitled, Split, Opened, Reopened} }
func (ClosedContent) Kinds() []Kind   { return []Kind{Closed, KeptOpen, Merged} }

// Contents are the types of contents, one of each, in the order in which the API document has them.
var Contents = []Content{
	AlertContent{}, BegunContent{}, RunContent{}, EndedContent{}, AttemptContent{}, IntentContent{}, JudgedContent{},
	GateContent{}, DecidedContent{}, QuestionContent{}, AnswerContent{}, StepContent{}, WaitContent{}, NoteContent{},
	FollowUpContent{}, StatedContent{}, ComparedContent{}, PastContent{}, PeopleContent{}, TicketContent{},
	FileContent{}, HeadContent{}, ClosedContent{},
}

var contentOf = func() map[Kind]reflect.Type {
	out := map[Kind]reflect.Type{}
	for _, c := range Contents {
		for _, k := range c.Kinds() {
			out[k] = reflect.TypeOf(c)
		}
	}
	return out
}()

// Holds reports whether a content is of the type that entries of the kind hold.
func (k Kind) Holds(c Content) bool { return contentOf[k] == reflect.TypeOf(c) }

// Read reads the content of an entry: nil where it was taken out, where the kind is not known, or where it cannot be
// read, as an older program wrote it.
func (e *Entry) Read() Content {
	t := contentOf[e.Kind]
	if t == nil || e.Content == nil {
		return nil
	}
	v := reflect.New(t)
	if json.Unmarshal(e.Content, v.Interface()) != nil {
		return nil
	}
	c, _ := v.Elem().Interface().(Content)
	return c
}

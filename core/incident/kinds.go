package incident

import "strings"

// Kind is what an entry says happened. Kinds stand in records for ever: a name is never given to something else.
type Kind string

// The kinds of entries.
const (
	AlertRaised  Kind = "alert.raised"
	AlertWorse   Kind = "alert.worse"
	AlertBetter  Kind = "alert.better"
	AlertCleared Kind = "alert.cleared"
	AlertTurned  Kind = "alert.turned" // a run follows if_cleared or if_worse
	AlertJoined  Kind = "alert.joined" // it is about what the incident is about already
	AlertMuted   Kind = "alert.muted"  // planned work holds back what it would start

	NothingStarted Kind = "nothing.started"
	RunBegun       Kind = "run.begun"
	RunHeld        Kind = "run.held"    // it starts if its alert stays so
	RunDropped     Kind = "run.dropped" // it would have started
	RunRefused     Kind = "run.refused"
	RunEnded       Kind = "run.ended"
	RunHandedOver  Kind = "run.handed-over"
	RunFailed      Kind = "run.failed"
	RunQuarantined Kind = "run.quarantined"
	RunResumed     Kind = "run.resumed"
	RunCancelled   Kind = "run.cancelled"

	LookTaken      Kind = "look.taken"
	LookIncomplete Kind = "look.incomplete"
	CheckPasses    Kind = "check.passes"
	CheckFails     Kind = "check.fails"
	CheckUnsure    Kind = "check.unsure"

	GateRaised       Kind = "gate.raised"
	GateApproved     Kind = "gate.approved"
	GateRefused      Kind = "gate.refused"
	GateExpired      Kind = "gate.expired"
	GateTurnedAway   Kind = "gate.turned-away" // a person's word that was not taken
	QuestionRaised   Kind = "question.raised"
	QuestionAnswered Kind = "question.answered"
	QuestionExpired  Kind = "question.expired"

	ChangeCleared Kind = "change.cleared" // it may begin without a gate of its own
	ChangeStill   Kind = "change.still"
	// ChangeSettled is what a look says of a change of which nobody saw the end, ChangeRepeated that it is begun anew.
	ChangeSettled  Kind = "change.settled"
	ChangeRepeated Kind = "change.repeated"
	ChangeBegun    Kind = "change.begun"
	ChangeEnded    Kind = "change.ended"
	ChangeReported Kind = "change.reported" // late: what became of it was told otherwise before
	JobFollowed    Kind = "job.followed"    // a job elsewhere, and what it is known by
	AttemptLost    Kind = "attempt.lost"
	UndoPlanned    Kind = "undo.planned"
	UndoBegun      Kind = "undo.begun"
	UndoDone       Kind = "undo.done"
	UndoEnded      Kind = "undo.ended"
	UndoJudged     Kind = "undo.judged" // whether it is then as it must be
	UndoLeft       Kind = "undo.left"   // what was to be undone stays

	StepSkipped   Kind = "step.skipped"
	ItemPassed    Kind = "item.passed"   // an item of an each needs nothing more
	TargetPassed  Kind = "target.passed" // a target of a change needs it no more
	StepTroubled  Kind = "step.troubled"
	EachBegun     Kind = "each.begun"
	CallBegun     Kind = "call.begun"
	CallEnded     Kind = "call.ended"
	WaitBegun     Kind = "wait.begun"
	WaitEnded     Kind = "wait.ended"
	LockAwaited   Kind = "lock.awaited"
	LockTaken     Kind = "lock.taken"
	LockGivenBack Kind = "lock.given-back"
	HaltAwaited   Kind = "halt.awaited"
	HaltLifted    Kind = "halt.lifted"
	// DatabasePutBack says that the record may lack what happened shortly before.
	DatabasePutBack Kind = "database.put-back"

	Told           Kind = "told"
	Note           Kind = "note"
	LookedAgain    Kind = "readings.compared"
	LookedBack     Kind = "past.seen"    // what outside stores have of the time around it
	Outward        Kind = "note.outward" // for others than those who work on it
	FollowUpSet    Kind = "followup.set" // what is left to do, as it stands from here on
	Stated         Kind = "stated"       // the cause, or the harm, in a person's words
	Attached       Kind = "attached"     // a file or a link
	Held           Kind = "incident.held"
	Retitled       Kind = "incident.retitled"
	Merged         Kind = "incident.merged"
	Split          Kind = "incident.split"
	DeliveryFailed Kind = "delivery.failed"
	CalledOut      Kind = "people.called"    // somebody is told of something urgent
	TicketMade     Kind = "ticket.made"      // the desk gave it a number
	TicketNews     Kind = "ticket.news"      // what somebody did to it there
	Unreached      Kind = "people.unreached" // and who could not be
	KeptOpen       Kind = "incident.kept-open"
	AlertLapsed    Kind = "alert.lapsed" // it is reported still, a while after it was treated
	RunSettled     Kind = "run.settled"  // what it handed over is done with
	Opened         Kind = "incident.opened"
	Reopened       Kind = "incident.reopened"
	Closed         Kind = "incident.closed"
)

// About is how a kind of entry is shown, wherever a record is.
type About struct {
	Kind Kind   `json:"kind"`
	Word string `json:"word"` // at most ten letters
	// Wanted says that a person is needed from here on.
	Wanted bool `json:"wanted,omitempty"`
	// Said says that it is a person's own word, where the actor is no runbook.
	Said bool `json:"said,omitempty"`
	// Drawn says that the strip of an incident shows it.
	Drawn bool `json:"-"`
}

// Kinds lists every kind of entry, in the order in which they are described.
var Kinds = []About{
	{Kind: AlertRaised, Word: "alert", Drawn: true},
	{Kind: AlertJoined, Word: "alert", Drawn: true},
	{Kind: AlertMuted, Word: "muted", Drawn: true},
	{Kind: AlertWorse, Word: "alert", Drawn: true},
	{Kind: AlertBetter, Word: "alert", Drawn: true},
	{Kind: AlertCleared, Word: "alert", Drawn: true},
	{Kind: AlertTurned, Word: "alert"},

	{Kind: NothingStarted, Word: "person", Wanted: true},
	{Kind: RunBegun, Word: "run"},
	{Kind: RunHeld, Word: "wait"},
	{Kind: RunDropped, Word: "run"},
	{Kind: RunRefused, Word: "person", Wanted: true},
	{Kind: RunEnded, Word: "run"},
	{Kind: RunHandedOver, Word: "person", Wanted: true, Drawn: true},
	{Kind: RunFailed, Word: "person", Wanted: true, Drawn: true},
	{Kind: RunQuarantined, Word: "person", Wanted: true},
	{Kind: RunResumed, Word: "run", Said: true},
	{Kind: RunCancelled, Word: "cancel", Said: true},

	{Kind: LookTaken, Word: "look", Drawn: true},
	{Kind: LookIncomplete, Word: "look", Drawn: true},
	{Kind: CheckPasses, Word: "passes", Drawn: true},
	{Kind: CheckFails, Word: "fails", Drawn: true},
	{Kind: CheckUnsure, Word: "unsure", Drawn: true},

	{Kind: GateRaised, Word: "gate", Wanted: true, Drawn: true},
	{Kind: GateApproved, Word: "approved", Said: true, Drawn: true},
	{Kind: GateRefused, Word: "refused", Said: true, Drawn: true},
	{Kind: GateExpired, Word: "expired", Drawn: true},
	{Kind: GateTurnedAway, Word: "not taken", Said: true},
	{Kind: QuestionRaised, Word: "question", Wanted: true, Drawn: true},
	{Kind: QuestionAnswered, Word: "answer", Said: true, Drawn: true},
	{Kind: QuestionExpired, Word: "expired", Drawn: true},

	{Kind: ChangeCleared, Word: "allowed"},
	{Kind: ChangeStill, Word: "still?"},
	{Kind: ChangeSettled, Word: "settled"},
	{Kind: ChangeRepeated, Word: "again"},
	{Kind: ChangeBegun, Word: "change", Drawn: true},
	{Kind: ChangeEnded, Word: "change", Drawn: true},
	{Kind: ChangeReported, Word: "late", Drawn: true},
	{Kind: JobFollowed, Word: "job"},
	{Kind: AttemptLost, Word: "broken off", Drawn: true},
	{Kind: UndoPlanned, Word: "undo"},
	{Kind: UndoBegun, Word: "undo"},
	{Kind: UndoDone, Word: "undo"},
	{Kind: UndoEnded, Word: "undo"},
	{Kind: UndoJudged, Word: "undone?"},
	{Kind: UndoLeft, Word: "not undone", Drawn: true},

	{Kind: StepSkipped, Word: "skipped"},
	{Kind: ItemPassed, Word: "passed"},
	{Kind: TargetPassed, Word: "passed"},
	{Kind: StepTroubled, Word: "trouble"},
	{Kind: EachBegun, Word: "each"},
	{Kind: CallBegun, Word: "call"},
	{Kind: CallEnded, Word: "call"},
	{Kind: WaitBegun, Word: "wait"},
	{Kind: WaitEnded, Word: "goes on"},
	{Kind: LockAwaited, Word: "waits"},
	{Kind: LockTaken, Word: "goes on"},
	{Kind: LockGivenBack, Word: "free"},
	{Kind: HaltAwaited, Word: "waits"},
	{Kind: HaltLifted, Word: "goes on", Said: true},
	{Kind: DatabasePutBack, Word: "lost", Said: true},

	{Kind: Told, Word: "tell"},
	{Kind: Note, Word: "note", Said: true},
	{Kind: LookedAgain, Word: "compared", Said: true},
	{Kind: LookedBack, Word: "past", Said: true},
	{Kind: DeliveryFailed, Word: "not sent", Wanted: true},
	{Kind: CalledOut, Word: "calls", Drawn: true},
	{Kind: TicketMade, Word: "ticket"},
	{Kind: TicketNews, Word: "ticket", Said: true},
	{Kind: Unreached, Word: "not told", Wanted: true},
	{Kind: KeptOpen, Word: "stays open"},
	{Kind: AlertLapsed, Word: "still so"},
	{Kind: RunSettled, Word: "done with", Said: true},
	{Kind: FollowUpSet, Word: "follow-up", Said: true},
	{Kind: Stated, Word: "stated", Said: true},
	{Kind: Outward, Word: "for others", Said: true},
	{Kind: Attached, Word: "attached", Said: true},
	{Kind: Held, Word: "holder", Said: true},
	{Kind: Retitled, Word: "head", Said: true},
	{Kind: Merged, Word: "merged", Said: true},
	{Kind: Split, Word: "split", Said: true},
	{Kind: Opened, Word: "opened", Drawn: true},
	{Kind: Reopened, Word: "open again"},
	{Kind: Closed, Word: "closed", Said: true, Drawn: true},
}

var aboutKind = func() map[Kind]About {
	out := map[Kind]About{}
	for _, k := range Kinds {
		out[k.Kind] = k
	}
	return out
}()

// About tells how the kind is shown. A kind that this program does not know, of a newer one, has its first word.
func (k Kind) About() About {
	if a, ok := aboutKind[k]; ok {
		return a
	}
	word, _, _ := strings.Cut(string(k), ".")
	return About{Kind: k, Word: word}
}

// Known reports whether the kind is one of Kinds.
func (k Kind) Known() bool { _, ok := aboutKind[k]; return ok }

// OfTheStrip lists the kinds that the strip of an incident is drawn from.
func OfTheStrip() []string {
	var out []string
	for _, k := range Kinds {
		if k.Drawn {
			out = append(out, string(k.Kind))
		}
	}
	return out
}

// CheckKind is the kind of a check's result: passes, fails or unsure.
func CheckKind(result string) Kind { return Kind("check." + result) }

// AlertKind is the kind of what became of an alert: worse, better or cleared.
func AlertKind(change string) Kind { return Kind("alert." + change) }

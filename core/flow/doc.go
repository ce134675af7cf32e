// Package flow is the heart of the engine: from a runbook and the log of a run it tells what must happen now. It does
// no I/O, has no clock and no randomness: the same log gives the same answer.
//
// # The log
//
// A run is its log (events.go). Fold reads it into a State (fold.go, state.go); Machine.Plan walks the runbook's
// steps from the first, passes what the log says is over, and says what is to be written, begun and asked next
// (next.go). Whoever drives a run writes the events of a plan in one commit and then begins its intents; what comes
// of them is appended, and it is planned again. Nothing that is under way is known by anything but its intent in the
// log.
//
// # The touch
//
// One change on one target is a Touch (touch.go), and its undo is the second half of it. Each of the two is an Effect
// with a Fate, which only the log moves. Undo, questions, locks, the last sentence, how a change went: all read
// touches, and nothing else derives what became of a change.
//
//	not begun ──the way──▶ under way ──a hand saw the end──▶ done · failed before it began · failed after
//	    ▲                    │  │  ▲
//	    │                    │  │  └── followed on: a job elsewhere that nobody looks after at the moment
//	    ├─ resume, 10 min ─ held back ◀── our halt, a lost lease
//	    │                       │
//	    │                       └── nobody saw the end ──▶ unknown ──its instance is gone, nothing runs──▶ at rest
//	    │                                                     │
//	    │                          a look finds it, a person, a late report ──▶ done · done in part · failed
//	    │
//	    └── at rest only: repeatable, "do it again"; and "it did not happen", which makes it failed before it began
//
// An intent may begin only what is not begun or held back; folding refuses a log in which another does. So nothing is
// begun twice but by a person's word or, for what may be repeated, by the runbook's; and neither counts before the
// attempt rests. An undo is no different, and repeatable says nothing of it.
//
// # The way to a change
//
// Before each target a change goes one way, a table of stages (way.go, proposal.go):
//
//	rested → approved → evidence → still → allowed → locked → intended
//
// Whatever waits in between (a gate, a start time, a halt, a lock, a repeat) closes the lap: what follows begins at
// the first stage, with evidence and leave of its own. An intent names the leave that it rests on, and both are in
// one commit: a leave is over once anything is heard from outside, the change waits, or it is on disk.
//
// # Undoing
//
// Undoing (undoing.go) is a mode of the run which only its end leaves: an alert that clears, a time to give up and a
// cancel wait behind it. It goes newest first, past what waits; what could not be undone keeps only older changes on
// its address. What stays makes the end a hand-over, and each touch is named in the last sentence (say.go).
//
// The stories in testdata/stories show each of these; TestEveryWayOfTwoChanges goes through all of them for two
// changes on two targets, and TestTheLastSentenceIsTrue holds generated runbooks against a world that counts.
package flow

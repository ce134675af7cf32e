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
// # A run's log is the only truth
//
// A run is a runbook revision, which is never altered, its inputs, and a log of events that only grows
// (core/flow/events.go). Everything else is computed from the log: the run's state, what the console draws, the
// incident's record.
//
// flow.Next(book, log, now) is a pure function. It walks the steps, and returns events to append, intents to carry out
// once those are on disk, and when to look again. It has no clock and no randomness, so that the same log gives the
// same answer: that is how a run goes on after a crash, how a runbook is rehearsed, and how the tests need no
// sleeping. A drive keeps the log read (flow.Machine) and tells it each event as it comes. The state keeps a journal
// of what the events since the last commit altered (core/flow/journal.go): where a commit did not go through, they are
// taken back, and what others wrote meanwhile is read on from there. What a step came to is a value that walks back up
// (result: its kind, its trouble, its place), and attempts are filed under what they are for (Purpose: look, fresh,
// still, settle, change, undo). A property test plays generated runbooks with and without crashes and wants the same
// story from both.
//
// A step's place in a run is its path in the runbook with marks for what happens more than once: 3.do@2.1 is the first
// step for the third item of the each at 3, 5.choices.logs#1.2 belongs to the second round of the ask at 5,
// 4.branches.left~.1 to a branch that others run beside, and 6/2 is step 2 of what the call at 6 calls. From one
// place, what runs beside it is not seen; from outside, the items of an each count as one taking of a reading. A place
// is a type (flow.Place) that is compared with ==; only core/flow/place.go makes one of another or takes one apart,
// and everything else asks it: what lies in what, what sees what, which step stands there.
//
// A trouble (a change that failed, a check nobody provided for, a wait that ran out) is written down once and travels
// outward, past every on_error, until something takes it; at the outermost it ends the run. What people or the file
// decided does not travel.
//
// # A change on a target
//
// What decides is core/flow: the log (events.go), what it says (fold.go, state.go), and the plan (next.go and a file
// for each kind of step). The thing that a change is about has a name there: a touch, one change on one target, with
// its undo. Its fate is folded from the log by number of the event, never by time, and whatever asks what became of a
// change reads it: undo, questions, locks, the words of the last sentence, how it went before. Its states
// are drawn above.
//
// Before each target a change goes one way, which is a table (changeWay in way.go):
//
//	driver (internal/engine)          core/flow                                    database
//	  Plan ─────────────────────────▶ rested: no pause, no lock that others hold
//	                                  approved: a yes covers this and is not over
//	  ◀─ AskLeave / GateRaised ────── (or leave is asked for, a gate stands)
//	  leaveNow ─▶ LeaveGiven ───────▶ evidence: what still: reads, of this lap
//	                                  still: judged for this target
//	  ◀─ AskLeave ─────────────────── allowed: stance, halt, facts, secrets,
//	  leaveNow ─▶ LeaveGiven ───────▶          files are as they were approved
//	  ◀─ WantLocks ────────────────── locked: by address
//	  LocksTaken ───────────────────▶ intended: Intent{Leave: n}
//	  write ──────────────────────────────────────────────────────────────────────▶ locks, leave, intent,
//	                                                                                guard: leave once more
//	  begin ─▶ hand: dial, then mayTouch ─────────────────────────────────────────▶ fenced? halted?
//	           request leaves
//
// Every wait (a gate, a start time, a halt, a lock, a repeat) closes the lap: what follows begins at the first stage,
// with evidence and leave of its own. An intent names the leave that it rests on; folding refuses one whose leave is
// over, so that no log can hold a change that nobody was asked leave for since it waited. An approval ends at its
// time; whatever ends under it lets it stand as long again, so that a rolling change goes on and one that was halted
// for a night stands at a gate anew.
//
// Who walks one change through the code reads: way.go (the table, evidence, still, leave, lock, intent), proposal.go
// (approvals, what is proposed), gate.go (what people are asked), locks.go; then touch.go and fold.go for what its
// outcome does, settle.go where nobody saw its end, undoing.go where it is undone, say.go for what is said of it; then
// in internal/engine drive.go (the loop), permission.go (leave), commit.go (the write and its guard), attempt.go (the
// hand), rest.go (whether an attempt can still begin or run).
//
// What a hand says is made by constructors (internal/act): NotBegun, NotSent (by us, or before anything left), and
// once the request may have left only a Sent: Ended, Refused (whole, by the other side), Unseen, StillRunning. A
// Follower looks after what goes on elsewhere, and has no way to say that nothing was begun.
//
// What is unknown rests once nobody can begin it any more and nothing of it is seen to run (Rested). Only then can
// somebody say that it did not happen, or have it done again; only then does a happened: that does not hold count, and
// is what is repeatable begun once more, after a pause. What an instance files late answers the question; what it
// certainly did not begin is begun by whoever has the run. A repeat that says "nothing was begun" says nothing of the
// attempt before it.
//
// Undoing is a mode of the run: what clears, gives up or is cancelled meanwhile waits behind it. It goes newest first,
// past what waits; what stays keeps only older changes on its address, makes the end a hand-over, and is named in the
// last sentence with its reason.
//
// Whatever ends a run, or a call, waits until nothing that touches is under way in it (landed): a job elsewhere that
// nobody looks after in that second is followed on first.
//
// # Locks
//
//   - A lock is an address, in one spelling and without its port. gate-1 and ops-7 are both 10.0.3.7: while run A
//     restarts gate-1, run B waits for ops-7, and its page says that run A holds it.
//   - A run takes a target in the transaction that writes its first intent there, and with its first lock, all or
//     none, those of the changes that come if all goes well. Run A touches gate-1 and then gate-2, run B gate-2 and
//     then gate-1: one of them gets both, the other queues, and neither waits for the other half.
//   - Branches that are for trouble are not counted, and what a reading must name first is locked when it is known.
//   - While a person is asked, a run gives back the targets where all that it changed is proven or undone, that
//     nothing to come touches, and that no block around would undo. What must touch them after all takes them again.
//   - An undo wants its own address and no other. Where it cannot have it for 15 minutes it is left, and the others
//     go on: "not undone, run B holds gate-2".
//   - one_at_a_time is a lock on a turn, of a run from its first step to its end, of what is called from call to end.
//   - Who finds a lock held is entered into its queue, and is parked; whoever gives it back rings for the first in
//     each queue. Whoever holds nothing lets those go first who began to wait before it, whatever for: one order for
//     all queues. Whoever holds something yields to nobody. Where the holder waits for what the asking run holds,
//     waiting would never end: the change is in trouble instead.
//   - A lock that is granted late leads back to the first stage: evidence is taken anew once it is held.
//
// The stories in testdata/stories show each of these; TestEveryWayOfTwoChanges goes through all of them for two
// changes on two targets, and TestTheLastSentenceIsTrue holds generated runbooks against a world that counts.
package flow

// Package engine drives core/flow on the store: it writes each intention before it acts and each
// outcome after, and nothing else. What must happen is decided in core/flow.
//
// # The loop
//
// The engine is the loop around flow.Next:
//
//  1. Ask Next.
//  2. Append its events in one commit, with what follows from them: entries of the record and typed notices, which
//     engine/story.go makes of an event and nothing else, gates and questions as they are listed, messages in the
//     outbox, the timer. What is counted is counted after the commit.
//  3. Carry the intents out, each attempt under a name of its own (RUN:PLACE:PURPOSE:TARGET:TRY, in the environment
//     as URGENTIS_ATTEMPT; that of an undo stands at the place of its change).
//  4. Add the outcomes to the log, in the same commit as what follows next. So a look costs one commit.
//
// When nothing is left to do, the run is parked: a row, no goroutine.
//
// Others speak to a run by adding an event to its log: a decision, an answer, a cancel, news of its alert. Whoever
// drives it reads on; if nobody does, a bell is rung. A cancel ends what is under way on the targets (by signal, and
// by the attempt in the environment of every process it began), follows finally, and undoes changes first where that
// was asked. A cancel while finally is under way cuts it off.
//
// A look's attempts are begun only as far as its bound (at_once) has room; the rest follow as outcomes come in, so
// that no intent is on disk that nobody begins.
//
// # What holds after a crash
//
//   - An alert that was answered with 202 is on disk, with its incident and its runs.
//   - An intent is on disk before it is begun. After a crash an open intent is lost: a look is taken again; of a
//     change a person is asked what became of it, unless a look settles it, or the step says repeatable: true and it
//     rests. A connection that broke, a timeout, a signal make an outcome unknown in the same way; only what
//     certainly was not begun, or was seen to end badly, is failed.
//   - An instance that was taken for dead while its change was under way files how it ended as a late fact: that
//     answers the question, if nobody has yet. Where somebody has and it says otherwise, the hand's word counts,
//     people are told, and nothing is begun on it. While the command is seen running on its target (act.Watcher),
//     "again" and "it did not happen" are not taken.
//   - "Do it again" is to be had only when nobody can begin the attempt any more. An intent names its instance; one
//     that was taken for dead may only be frozen, and wake. It then goes on under another name, begins nothing that
//     it intended under the old one, and reports when nothing of that is left. Instances in the same process
//     namespace, under the same boot of their machine, see that a process is gone; a host's name proves nothing.
//     Elsewhere a person says so (urgentis instance gone). Until then the question names the instance and refuses
//     "again".
//   - A commit that returned an error may have held: the engine reads the log again before it decides.
//   - A database that was put back to an older state knows less than the world (engine/putback.go). Each instance
//     remembers where the database's log was in what it wrote there last and was answered (pg_current_wal_insert_lsn
//     within the transaction of each beat and each step: kept once that is answered, by a standby too that the
//     database waits for), and of which server: what a new server says counts only once it was compared. Where the
//     server began anew, it compares before its first beat; a server that begins below what anybody saw was put back.
//     (Of one that stood by while another served, what counts is where it is now.) Then all changes are halted, the
//     instance begins anew under another name, so that nothing goes on by what a drive remembers, and every run from
//     before is told (database.put-back): what it did not begin, as far as its log knows, is asked for anew with the
//     reason, an undo too, and its last sentence says what is not known. A drive that finds fewer events than it
//     wrote does the same. No instance begins a change on a server that began anew before every instance that is not
//     taken for dead has beaten there: one of them may know more. A message that is to be sent, and whose job the
//     queue has ended, is sent again, as one that may have arrived. Of a ticket that is wanted nobody knows then
//     whether it was asked for, so that the desk is asked first, and the numbers of incidents leave a gap of a
//     thousand: none that was told to anybody names another incident. What nobody remembers, because every instance
//     was stopped too, cannot be seen.
//
// # Claims
//
// Whose run it is stands in the run's row: owner, epoch, version. A River job is only a doorbell: it claims the run
// where nobody owns it and no other bell for it was answered, starts the drive, and returns. Every append is one
// statement that raises version where owner, epoch and the version that was seen still match; where they do not, the
// drive reads the log again and decides anew, or leaves off if it lost the claim. A person's decision locks the row,
// appends, and rings if nobody owns the run and no bell is out.
//
// Time. Everything that several instances must agree on goes by the database's time: each beat brings it, and an
// instance carries it on by its own monotonic clock (store.Clock), so that a step of a machine's clock, either way,
// moves nothing. Whatever is kept is dated by it, and when a job of the queue is due the database reckons itself
// (store.Later, store.KeepQueue): what the queue's library would reckon by a machine's clock counts for nothing. How
// far a machine's clock is off stands in urgentis instance list and in the metric urgentis_clock_skew_seconds, and is
// warned of above a second. Timers are set as intervals. In a log no time falls, and order is the number of the event.
//
// Instances beat each second and hold a lease of 5 s, counted by each one's monotonic clock: a beat raises a count,
// and one that has itself beaten a whole lease unbroken fences those whose count it saw stand still for a lease, frees
// their runs, and rings anew where a bell was not answered for 3 s. Immediately before a change is sent, the instance
// asks in one statement whether it is still unfenced and whether all is halted.
//
// An instance that begins a run and has a slot free for a drive owns the run from the commit that begins it, and
// drives it once that is on disk: no bell goes round. What it has no slot for it rings for. Where it dies in between,
// the run is freed with all else that it owned.
//
// Waits are rows of timer; every instance takes due ones with SKIP LOCKED, as many as it has slots free, together with
// the claim on their runs and with their logs, where these are short, and looks at least each 250 ms.
//
// # What keeps writing cheap
//
//   - store.Bulk writes the rows of all tables that a transaction adds to in one statement, each column as one array:
//     its text does not depend on how many rows there are, so that it is planned once. A run's version and head are
//     one update.
//   - config holds a number that triggers raise with every change of runbooks, services, targets and connections; an
//     instance keeps what it read of them as long as the number is the same.
//   - A statement that was planned while its table was empty stays slow. Until the database gathers statistics by
//     itself, each instance looks every three seconds for tables that have outgrown theirs, and has them gathered
//     (store.GatherStatistics). With ten thousand runs begun in a fresh database this alone took a claim from 2.5 ms
//     to 0.2 ms.
//
// # How incidents end
//
// Ends. What a run was begun for is kept (treats: an alert, and how bad it was); a run that says how that ended has it
// written to those alerts (treated_*). Whether the incident ends with it core/incident.Ends decides, which is pure:
// Sheet.Flush asks it for each incident in which something may have come to its end (a run, an alert that clears, a
// word, a holder who gives it back), so that whatever comes last closes. An incident is closed in one place,
// Sheet.Close, for runs, people, merges and what clears by itself: the record, the sources, and whoever heard of it.
package engine

package flow

// roundKey says what a round of attempts under one step is for. It is part of each attempt's name, and so of every log:
// the numbers below stay what they are.
type roundKey int

// Where the rounds of each purpose begin; those of the step itself begin at 0.
const (
	firstStill  roundKey = 1000    // the last look before a change: a thousand for each gate
	firstFresh  roundKey = 100_000 // looks taken because evidence was old
	firstSettle roundKey = 200_000 // looks that settle an unknown outcome: a hundred for each attempt of the run
	firstUndo   roundKey = 300_000 // the taking back of changes
)

// apart is how far the rounds are from one another that are taken again after each wait for a lock, and mostApart how
// many such waits are told apart.
const (
	apart     = 100
	mostApart = 9
)

// ownRound is the n-th round of what the step itself does.
func ownRound(n int) roundKey { return roundKey(n) }

// stillRound is the taking of the look-th reading that says whether a change is still wanted, behind the gate-th gate
// (0: without one), after so many waits.
func stillRound(gate, waits, look int) roundKey {
	return firstStill*roundKey(max(1, gate)) + roundKey(apart*waits+look)
}

// freshRound is the taking of the look-th reading that was too old for a change, after so many waits.
func freshRound(waits, look int) roundKey { return firstFresh + roundKey(apart*waits+look) }

// settleRound is the taking of the look-th reading that tells what became of the n-th attempt of the run.
func settleRound(n, look int) roundKey { return firstSettle + roundKey(apart*n+look) }

// undoRound is the taking back of the n-th change in the list of an undo.
func undoRound(n int) roundKey { return firstUndo + roundKey(n) }

// waitsBefore counts the waits for a lock after which a change's evidence is taken anew.
func (w *walker) waitsBefore(st *stepState) int {
	if w.olderRules(4) {
		return 0
	}
	return min(st.waits, mostApart)
}

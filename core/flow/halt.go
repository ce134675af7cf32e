package flow

import (
	"time"
)

// haltRetry is how often what waits because all is halted is tried again by itself; the word that changes go on tries
// it at once.
const haltRetry = 10 * time.Minute

// resumed reports whether what was stopped by the halt may be tried again; else it waits.
func (w *walker) resumed(seq int64, at time.Time) bool {
	until := at.Add(haltRetry)
	if w.s.resumed > seq || !w.now.Before(until) {
		return true
	}
	w.wake(until)
	return false
}

// halted waits while nothing but the halt stands against a change, and asks for leave again after it.
func (w *walker) halted(st *stepState, ask func() result) (r result, waits bool) {
	if len(st.leaves) == 0 || !st.leaves[len(st.leaves)-1].Halted || w.olderRules(4) {
		return goOn, false
	}
	if w.resumed(st.leaveSeq, st.leaveAt) {
		return ask(), true
	}
	return blocked, true
}

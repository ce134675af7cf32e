// Package tell reads a run's log for people: what a gate or a question is about and what follows each word (Brief,
// Foresee), the numbers that a change rests on (Grounds), where the run has been (Been), how its changes went (Went),
// looks then and now (LooksTaken), and runs that are only played (Stage). It decides nothing: that is core/flow, of
// which it knows what State shows.
package tell

// Package tell reads a run's log for people: what a gate or a question is about and what follows each word (Brief,
// Foresee), the numbers that a change rests on (Grounds), where the run has been (Been), how its changes went (Went),
// looks then and now (LooksTaken), and runs that are only played (Stage). It decides nothing: that is core/flow, of
// which it knows what State shows.
//
// # What a gate says
//
// What somebody must know to decide is made once, in the core, and shown by all: tell.BriefOf (gates),
// tell.BriefOfQuestion, tell.BriefOfHandOver. runbook.Headline makes the sentence; task.Table tells requests with
// equal words once, and a property test wants every request back from it, so that the table says all that the digest
// covers and nothing else; tell.Grounds finds the numbers that a change rests on; tell.Foresee plays the run on from
// an open gate as if it were told yes, no or nothing, up to where it depends on what is seen or said, and
// runbook.EndsAfter lists every end that can be come to from there. A property test plays generated runbooks and holds
// what was foreseen against what came. tell.Went tells how each change of a run went, as it ends; the engine keeps
// that (went), and it is how the step went before for the next one.
package tell

// Package intake takes alerts from outside. What is answered is on disk; many that come at once share a commit.
//
// # What keeps writing cheap
//
//   - Many alerts that come at once share a commit: a few writers drain what waits, at most 256 reports
//     (internal/intake/lanes.go). What is reported of one condition goes through one writer as long as any of it
//     waits, so that it is taken in order; alerts of one service do so too, as most share an incident, whose row two
//     writers would lock in turn; anything else goes where least waits. Two writers serve a few reports, so that more
//     of them share a commit, and four serve many. Before a writer begins, those whom it has just answered go first,
//     so that what they say next is in its batch and not in every other one. What only repeats what is open is
//     counted by the statement that finds it, which also says whether anything else is open and which version the
//     configuration has; more of such an alert is read only where a runbook starts on repeats, or its incident is
//     closed. An alert that opens its incident again is counted there too, so nothing but what changed is written of
//     it afterwards. A batch that the database refuses is repeated report by report.
//
// # Stages
//
// What is reported in one transaction (writing) goes through stages, each with its own values: it is counted against
// what is open (counting); what is new gets its incident (placing); writing judges what each report means there (new,
// worse, better, cleared, still there, held back); what that starts is begun (starting), at an occasion that says
// what it is judged at; and what came of it is written (keeping). Planned work stands in the alerts that it holds back
// (muted_by, muted_until), which are judged anew as it begins, ends or changes.
//
// # What begins by itself
//
// Triggers are the starts of runbooks and the documents beside them, in one index (intake.loaded), read anew when the
// number in config rises. starting.begin is the one place where a run is begun for any of them: it asks the switch, the
// hours, mutes and counts, renders the inputs, looks for a run that is for the same in the same incident, counts,
// begins, and notes what came of it (firing). Schedules are rows of due; an instance takes a due one with SKIP LOCKED
// together with its next time.
//
// # One trouble, one incident
//
// What alerts join by is rows: incident_key has for each key (core/incident.KeysOf) the one incident that it leads to,
// until when, and each open alert has the key that it keeps alive (alert.join_key), so that a key is good as long as
// such an alert is open. A new alert goes to the incident of its own condition's last alert, if that is open; to the
// one that its own key leads to; to that of its own condition, if it was closed within the quiet time: it is opened
// again; to those of its wide key (its service), of services along dependencies (core/incident/depends.go), and of one
// that was opened by hand; or to a new one. Its keys lead there from then on, unless they lead to another one that is
// open.
//
// For keys that lead nowhere a transaction takes an advisory lock, in the order of the keys, and looks again, so that
// two writers do not open two. An incident that was found is locked and looked at again: where it was closed or became
// part of another meanwhile the batch is taken anew. A merge locks the alerts, then both incidents, and moves alerts
// and keys by one statement each: whatever was committed to the one before is moved, and whoever comes later waits for
// its lock and looks again. A split takes the alerts' keys away: what is like them stays. Entries are never moved.
// There is no table of alerts' keys beside the alerts: an alert has one that keeps its incident joinable, and a row of
// its own would be written and removed with each.
package intake

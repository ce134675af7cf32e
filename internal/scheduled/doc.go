// Package scheduled takes looks that no run waits for: watches in their beat, the readings that open gates rest on,
// looks that people take again, and looks into the past. It keeps what they read, tells no run of it, and changes
// nothing.
//
// # What looks read
//
// What looks read is written beside the log in the same statement (engine/readings.go), as rows of a series (service,
// target, name) whose number is looked up, or begun, before the transaction: whoever begins a series waits for nobody
// who holds something else. store.ThinReadings puts old ones together, one slice at a time, the finer ones first, by
// one instance at a time.
//
// # Scheduled looks
//
// Scheduled looks (internal/scheduled) are rows with a time: whichever instance finds one due takes it with SKIP LOCKED
// and says when it is due next, plays its looks on a flow.Machine that is kept nowhere, and hands what was read to one
// writer, which puts many samples into one commit. Objectives (intake/objectives.go) are measured minute by minute,
// one at a time by whichever instance locks it, from readings alone; what a minute came to is a row (indicator), and
// budgets and rates are sums of those. Their alerts are compared with those that are open, so that an instance that
// dies between a minute and its alert loses neither.
//
// # While a gate stands
//
// While a gate stands, scheduled/gatewatch.go takes the looks of its grounds anew, with the requests that the run made,
// and keeps the numbers beside the run (gate_reading): its log does not grow, and nothing that the run decides rests
// on them. Whichever instance finds a gate due takes it with SKIP LOCKED, and sets when it is due again.
package scheduled

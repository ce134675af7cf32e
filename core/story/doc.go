// Package story folds the record of an incident into what people read: one row a step, for as many targets, rounds and
// items as it had.
//
// The record is whole and in its order. A story is short: each entry is in exactly one row, a row stands where its
// first entry stands and never moves, and what went wrong is never folded away. A Folder takes entries as they come, so
// that a record that grows need not be read anew: Rows gives the rows that altered since. The console, the command
// line, reports, tickets and messages all print these rows, and none of them reads entries for it.
//
// Sum is what is left to say once it is over, in five answers: the cause, what was done, who approved it, what it
// changed, and what is left.
package story

// Package reads knows which commands only read. It is asked of each look before it leaves: a look is what is known to
// read, by the forms of words of a table that an administrator extends, or what a target's account cannot write, or
// what somebody took the word of its author for. A shell is not understood: a script is known by its whole text.
//
// What is known is a claim about programs as they are shipped: one of the same name that does something else is beyond
// it, which is why only bare names and the paths of the system count.
//
// # What may leave as a look
//
// core/reads knows which commands only read: forms of words in a table, extended by documents that an administrator
// pushes, and scripts by their digests. It is asked in one place, act.Honest, which stands before the hands that run
// commands: runs, watches, open gates, rehearsals and tries use the same hands. What it does not know goes out only
// with an account of which was said that it cannot write. The checker asks the same table of the words as they are
// written (runbook.Book.Looks), so that a runbook says beforehand where a look will be missing evidence. What is a
// look by its author's word (only_reads) is none to the hands: core/flow and core/leave treat it as they treat
// changes.
//
// A test calls each program of the table that is on the machine with each of its own options, as far as the table
// knows them, and sees by its calls to the system that nothing is altered (core/reads/sandbox_test.go; all
// combinations with URGENTIS_LOOKS=all).
package reads

// Package worth tells what incidents that are over cost in time, and what runbooks saved, from their records alone.
//
// Facts are what the record of one incident says in figures: when evidence was first whole, when somebody was asked and
// decided, when a change began, when it had recovered, who had to do with it. A fact that the record does not hold is
// not there, and is counted nowhere: no figure takes what is not known for nothing.
//
// A Report counts facts. Each of its figures is a list of incidents, by the same rule that Counted lists them with, so
// that whoever doubts a figure opens what it counts.
package worth

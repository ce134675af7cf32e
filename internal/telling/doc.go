// Package telling decides who is told of what, and when: of notices that runs and incidents left, by ladders and ways;
// desks, whose tickets follow the records; teams, of their rotas. It begins nothing and changes nothing but messages,
// tickets and what calendars said. What is to be told is said elsewhere (engine.Sheet.Notify); who that is, core/route
// decides; internal/connect sends it off.
//
// # Who is told
//
// Two things are kept apart. A notice is a fact, written once in the transaction of what it is about (Sheet.Notify),
// by whoever knows it and nothing of channels. A call is that somebody must act: what is wanted (a gate, a question, a
// hand-over, a run that stands still) is one from the start, and of an incident as a whole core/route.Attention
// decides it, which is pure and knows no history but since when each alert is as bad as it is. Both are rows of
// notice; urgent ones are calls.
//
// Whatever alters an incident has it judged again: RecordWriter.AddTo makes a row of attention due for each incident
// that it writes, so no writer can forget it; a new configuration makes all due, and an answer that will be another
// one by itself has a time. telling/attention.go takes what is due, locks the incidents (those that somebody holds
// come with the next look), asks Attention, and lets calls begin, begin anew with the first rung, wait (somebody has
// it) or end. It writes the row itself, so that its own entries make nothing due.
//
// telling/notices.go then takes the notices that are due with SKIP LOCKED, those of one incident together and none
// before its incident is judged; asks core/route.Next, which is pure, who is to be told now and when to look again;
// folds what goes by one way to one message (core/message.Fold), whose facts telling/compose.go collects; and puts it
// into the outbox. Of facts nothing is written where nobody is there who could be told. Locks are taken in this order
// by all: alerts (by source and key), what alerts join by, runs, incidents (by number), attention, keys, messages;
// whoever holds an incident waits for no notice.
//
// What is held back (an opening until its first check has passed, a call until a runbook had its time) is a row with a
// time, so that a crash forgets neither.
//
// Planned work is a state of alerts (muted_by). An intake compares what goes on now with what all open alerts were
// judged by (rejudge), and judges them anew, a thousand in a transaction, where it is something else.
//
// A line of a rota that is read from a calendar is fetched by connect.FetchFeed and read by core/calendar.ReadFeed,
// which is pure; the text is kept (rota_feed), so that every instance reads the same and what was said last holds
// while nothing can be fetched. One instance takes it in hand each quarter of an hour.
package telling

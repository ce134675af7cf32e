// Package connect carries messages out: one outbox, from which each is delivered once per key or until its tries are
// used up, in order for each incident and receiver, by whatever kind of connection.
//
// # How it goes out
//
// The outbox is a table; a River job for each message has workers of its own. What is not urgent lets those before it
// about the same incident and receiver go first; no connection has more than four under way. Tickets are rows beside
// it: telling/desk.go compares the record with how far a desk was told, and puts what is missing into the outbox, one
// word at a time for each ticket; connect/desk.go makes the requests. A link's key is made as its message leaves, and
// only its hash is kept. What a desk tells of a ticket whose number it has not said yet is kept (early_news) and
// written down with the number; whoever keeps it shares the lock of the tickets that are being opened, so that none
// falls between. Messages that an instance had in hand go on as soon as it is known that its process is gone; the
// queue itself would wait a minute. Where the database's server began anew, nothing is sent before every instance was
// heard that may know that it was put back to an older state: what stands in it as to be sent may have been sent.
//
// What is no GET leaves once for each try (httpcall.Allowed.Once), on a connection of its own: the transport itself
// never repeats it. An answer, or none, is one of three things: it did not leave, it was answered, or nobody knows
// (errUnsure, kept as delivery.unsure); of a ticket without a number core/message.Asked tells what follows, which is
// pure and stands with the ticket before it is asked for. Whatever of a message may be from outside passes
// message.Outward where messages leave (Outbox.send).
package connect

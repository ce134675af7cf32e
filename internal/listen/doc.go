// Package listen hears what does not come by HTTP: syslog, traps and informs of SNMP, and mail. What nobody can be
// asked to send again goes through a spool on disk first, so that a database that is away loses nothing; what there is
// no room for is counted.
//
// # What is heard and cannot be asked again
//
// Datagrams have nobody to whom "not now" could be said. internal/listen finds their source by the sender's network or
// proof, in a table that it keeps read, so that it needs no database for that, and appends them to the spool of that
// source: files of records with a checksum each, bounded, on disk within a second. Informs are answered once their
// record is synced; TCP and TLS stop reading instead of losing. Another goroutine hands on what the spool holds,
// thousands at a time. How far the spool is taken (spool_place: a file and an offset, by an id that the spool's folder
// keeps) is moved in the transaction that keeps what was taken, from where it was: whatever breaks, and however often
// it is handed on, a message is taken once. After an error the queue asks for the place and goes on there. A batch is
// cut where a condition changes, as what changes an alert comes after the commit that raised it; what is refused is
// cut in halves until it stands alone, and is kept unparsed. What follows one another about one condition, as severe,
// becomes one item made several times, so that 20,000 messages in a second need few rows. What there is no room for is
// counted, and is an alert.
package listen

// Package source reads what others send: a payload of any shape becomes items, and each item an event, or the reason
// why it cannot be read, with the place of it. It is pure.
//
// A payload is taken apart by how it arrived and by its Content-Type (JSON, XML, a form, text, mail, syslog, traps).
// Each item of it is made an event by the map of the source's document, or by a form that is known without one: our own
// JSON, CloudEvents, CDEvents. Source.Read walks over all of them, for alerts, deployments and the news of tickets
// alike; trying a payload and taking it for real is the same reading.
package source

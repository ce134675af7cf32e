// Package server is the network interface: the API of api/openapi.yaml, the intake of alerts, the live
// stream, and the console.
//
// # Before somebody is known
//
// The order at the door is: address, who it is, may they at all, then the body (server.bodies). What strangers send to
// doors whose proof is in the body is kept up to 64 kB; beyond that all bodies share a bounded room, of which one
// network has a part. A mail is judged at its recipient.
//
// # What changes, live
//
// Every transaction that alters something enters a line into feed. Each instance reads the feed by transaction id and
// number below the oldest open transaction, twenty times a second, so that no late commit is missed, and passes it on
// as server-sent events; Last-Event-ID resumes. Log commits send no NOTIFY, which would take a lock over all commits.
// Live output of commands goes by the same feed to whoever looks on at the instance that runs them; where somebody
// looks on at another one (teller, said each second), it is written into an unlogged table a few times a second and
// read there (app/passing.go). For nobody nothing is written.
package server

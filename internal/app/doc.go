// Package app has the use cases of the service, one file for each noun: load the object, ask whether whoever acts may
// do that to it, act, write it down, all in one transaction. It knows no HTTP and no SQL.
//
// # Changes of the estate
//
// set on a service or a target is a merge patch (RFC 7396) on the thing as the API shows it, judged as a whole and
// saved with its audit entry in one transaction; the answer says what changed, and If-Match takes the version that was
// read. All acts are audited in the transaction that does them.
//
// # Counted once
//
// Counted once. What a sender gives an identity of its own (webhook-id, Idempotency-Key, a CloudEvent's id, a desk's
// event) is a row of heard_id, written in the transaction of what it does where that is one transaction (deployments,
// starts by address, tickets' news), with what was answered; a call-back, which acts in several, takes the row first,
// and gives it back where it was refused.
package app

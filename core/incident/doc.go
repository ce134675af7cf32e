// Package incident holds the record of an incident: entries that are appended and never
// edited, chained by hash so that a changed or missing one shows.
//
// # The record
//
// Entries carry the SHA-256 of the entry before and the digest of their own content (RFC 8785), so that a changed,
// missing or cut-off entry shows in urgentis incident verify, and a content could be taken out with the chain still
// whole. Output over 8 kB stands there with head and tail; the whole is kept as an artifact.
package incident

// Package links is about pages outside of the product that tell more: the charts, logs and manuals of a service or a
// runbook. Their addresses have holes for what somebody looks at, so that a page opens on the service and on the time
// in question.
package links

// Package leave answers one question: may this change happen now?
//
// # Approval
//
// Raising a gate renders the change once and stores that proposal; the stored proposal is what runs. Its digest
// (SHA-256 over canonical JSON, with a domain prefix) covers runbook revision, step, words or call, environment,
// account, target with address and host key, the version of its secret, timeout, accepted ends, undo, and the
// approval's end. A decision carries the digest that was shown; another one is refused. After the approval, the
// readings that still: names are taken anew and judged, and the facts, the service's stance and the halt switch are
// compared again in the transaction that writes the intention. If something differs, the gate stands again and says
// what.
//
// A gate on a block renders every change in it, on every path. What is not known yet stands as the bound that the
// runbook gives it. When the change comes, it is rendered anew and held against what was approved, word by word; what
// is not covered stands at a gate of its own. An answer to a question can be such an approval.
//
// Secrets and sealed readings stand in proposals, digests and logs as marks; their values are put there when the
// request leaves, and masked in what comes back. Only the runbook's own text can make a mark: a value that looks like
// one is refused.
package leave

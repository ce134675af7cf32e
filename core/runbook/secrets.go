package runbook

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"strings"
)

// SecretUse is where a runbook hands out secrets.
type SecretUse struct {
	Secrets []string
	Line    int
	// Mark tells one use from another: it is the same as long as the words, the way and whom it is for are.
	Mark string
}

// SecretUses lists the steps that use secrets. The same step in another revision has the same mark where nothing of
// what the secrets go into was altered: its words, its script or statement, its addresses, its targets, the runbook's
// service.
func (b *Book) SecretUses() []SecretUse {
	var out []SecretUse
	for _, st := range b.Everything() {
		names := st.Secrets()
		if len(names) == 0 {
			continue
		}
		h := sha256.New()
		say := func(what string, v any) { fmt.Fprintf(h, "%s %q\n", what, fmt.Sprint(v)) }
		say("service", b.Service)
		say("secrets", strings.Join(names, " "))
		for _, sel := range st.Selectors() {
			if sel.Name != nil {
				say("target", sel.Name.Source)
			}
			for _, k := range keys(sel.Labels) {
				say("label "+k, sel.Labels[k].Source)
			}
		}
		for _, do := range []*Do{st.Do, st.Undo} {
			if do == nil {
				continue
			}
			for _, t := range do.Templates() {
				say("text", t.Source)
			}
			for _, k := range keys(do.Env) {
				say("environment", k)
			}
			say("here", do.FromHere)
			say("as", do.As)
			if do.Script != nil {
				say("script", do.Script.Interpreter+" "+do.Script.Text)
			}
			if do.HTTP != nil {
				say("method", do.HTTP.Method)
			}
			if do.SQL != nil {
				say("statement", do.SQL.Dialect+" "+do.SQL.Statement)
			}
		}
		out = append(out, SecretUse{names, st.Line, hex.EncodeToString(h.Sum(nil))})
	}
	return out
}

// NewUses lists the uses of secrets that were not there before; nil is a runbook that was not there at all.
func (b *Book) NewUses(before *Book) []SecretUse {
	was := map[string]bool{}
	if before != nil {
		for _, u := range before.SecretUses() {
			was[u.Mark] = true
		}
	}
	var out []SecretUse
	for _, u := range b.SecretUses() {
		if !was[u.Mark] {
			out = append(out, u)
		}
	}
	return out
}

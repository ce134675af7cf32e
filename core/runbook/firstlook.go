package runbook

import (
	"fmt"
	"slices"
)

// lookingVerbs are those of steps that only look, and say what was seen.
var lookingVerbs = []Verb{Look, Check, Note, Wait, Each, Together}

// NoFirstLook says why a runbook cannot be the first look of a service, which is begun by itself for alerts that start
// nothing; "" where it can. It has no step that changes, asks, tells or closes; a check of it that fails
// and provides for nothing is handed over, as in every run.
func (b *Book) NoFirstLook(service string) string {
	if b.Service != service {
		return fmt.Sprintf("the runbook %s is for the service %s", b.Name, b.Service)
	}
	for _, s := range b.All() {
		if !slices.Contains(lookingVerbs, s.Verb) || s.OnlyReads != "" {
			return fmt.Sprintf("a first look only looks, and the runbook %s has the %s %q", b.Name, s.Verb, s.Title)
		}
	}
	if _, err := b.AcceptAll(nil); err != nil {
		return fmt.Sprintf("a first look is begun without inputs: %s", err)
	}
	return ""
}

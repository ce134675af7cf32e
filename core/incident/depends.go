package incident

import (
	"maps"
	"slices"
)

// Direction is one of the two in which dependencies are followed.
type Direction string

// The directions, as a join names them.
const (
	DependsOn Direction = "depends_on" // to what a service needs
	NeededBy  Direction = "needed_by"  // to what needs a service
)

// Directions are their words.
var Directions = []string{string(DependsOn), string(NeededBy)}

// Bounds of what is near: over how many dependencies, and how many services.
const (
	maxSteps = 3
	maxNear  = 32
)

// Depends is what services need of one another. Circles do no harm.
type Depends struct {
	next map[Direction]map[string][]string
}

// NewDepends takes what each service needs itself.
func NewDepends(needs map[string][]string) *Depends {
	d := &Depends{next: map[Direction]map[string][]string{DependsOn: {}, NeededBy: {}}}
	for _, service := range slices.Sorted(maps.Keys(needs)) {
		for _, need := range needs[service] {
			d.next[DependsOn][service] = append(d.next[DependsOn][service], need)
			d.next[NeededBy][need] = append(d.next[NeededBy][need], service)
		}
	}
	return d
}

// Near gives the services in some directions of one, without it: the nearest first, over three dependencies at most. A
// direction is followed by itself, so that two services are not near because they need the same third.
func (d *Depends) Near(service string, along []Direction) []string {
	if d == nil || service == "" {
		return nil
	}
	seen, out := map[string]bool{service: true}, []string(nil)
	at := map[Direction][]string{}
	for _, direction := range along {
		at[direction] = []string{service}
	}
	for range maxSteps {
		for _, direction := range along {
			var further []string
			for _, from := range at[direction] {
				for _, to := range d.next[direction][from] {
					if !seen[to] && len(out) < maxNear {
						seen[to] = true
						further, out = append(further, to), append(out, to)
					}
				}
			}
			at[direction] = further
		}
	}
	return out
}

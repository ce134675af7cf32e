package incident

import (
	"cmp"
	"slices"
	"time"
)

// Relation is how a service stands to one that is in trouble.
type Relation struct {
	Service string
	// Along is the direction in which it is found; "" for the service itself.
	Along Direction
}

// Around lists services, and those near them: what they need first, then what needs them.
func Around(services []string, d *Depends) []Relation {
	var out []Relation
	seen := map[string]bool{}
	add := func(service string, along Direction) {
		if service != "" && !seen[service] {
			seen[service] = true
			out = append(out, Relation{service, along})
		}
	}
	for _, s := range services {
		add(s, "")
	}
	for _, along := range []Direction{DependsOn, NeededBy} {
		for _, s := range services {
			for _, near := range d.Near(s, []Direction{along}) {
				add(near, along)
			}
		}
	}
	return out
}

// BadThing is an alert that stood at a time.
type BadThing struct {
	ID, Service, Severity, Summary string
	Target                         string // a host that it names; "" for none
	Incident                       int64
	At                             time.Time // when it began
	Over                           bool
}

// Affected is a service on which something is wrong.
type Affected struct {
	Relation
	Since  time.Time
	Things []BadThing // the first first
	// Count is how many there are; not all of them need be among Things.
	Count int
}

// Wide tells which services around are affected, that which went bad first first. count is how many things are bad of
// each service, where not all are given.
func Wide(around []Relation, things []BadThing, count map[string]int) []Affected {
	var out []Affected
	for _, r := range around {
		a := Affected{Relation: r}
		for _, t := range things {
			if t.Service == r.Service {
				a.Things = append(a.Things, t)
			}
		}
		if len(a.Things) == 0 {
			continue
		}
		slices.SortStableFunc(a.Things, func(x, y BadThing) int { return x.At.Compare(y.At) })
		a.Since, a.Count = a.Things[0].At, max(count[r.Service], len(a.Things))
		out = append(out, a)
	}
	slices.SortStableFunc(out, func(x, y Affected) int {
		return cmp.Or(x.Since.Compare(y.Since), cmp.Compare(x.Service, y.Service))
	})
	return out
}

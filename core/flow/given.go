package flow

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"urgentis/core/expr"
	"urgentis/core/reading"
	"urgentis/core/runbook"
)

// Given is the value of a reading that somebody gave by hand: for every target, or for each that is named.
type Given struct {
	Name     string
	typ      expr.Type
	value    any
	byTarget map[string]any // nil: value holds for every target
}

// GiveReading reads a value given by hand. An object whose keys are targets has a value for each.
func GiveReading(book *runbook.Book, begun Begun, name string, v any) (Given, error) {
	look, typ := book.TypeOf(name)
	if look == nil {
		return Given{}, fmt.Errorf("no look takes the reading %s; there is %s", name, Listed(book.ReadingNames()))
	}
	g := Given{Name: name, typ: typ, value: v}
	object, is := v.(map[string]any)
	if !is {
		return g, nil
	}
	unknown := ""
	for _, t := range slices.Sorted(maps.Keys(object)) {
		known := slices.ContainsFunc(begun.Estate, func(x Target) bool { return x.Name == t })
		if known {
			g.byTarget = object
		} else {
			unknown = t
		}
	}
	if unknown != "" && (g.byTarget != nil || typ != expr.JSON) {
		return Given{}, fmt.Errorf("reading %s: the service has no target %s", name, unknown)
	}
	return g, nil
}

// Of is the value for one target, of the reading's type. ok: there is one.
func (g Given) Of(target string) (v any, ok bool, err error) {
	v = g.value
	if g.byTarget != nil {
		if v, ok = g.byTarget[target]; !ok {
			return nil, false, nil
		}
	}
	if v, err = reading.Convert(v, g.typ); err != nil {
		return nil, false, fmt.Errorf("reading %s: %w", g.Name, err)
	}
	return v, true, nil
}

// round is a taking of the reading on every target that has a value.
func (g Given) round(book *runbook.Book, begun Begun, now time.Time) (*expr.Round, error) {
	r := &expr.Round{Path: book.Takes(g.Name).Path, Samples: map[string]expr.Sample{}}
	targets := []string{""}
	if len(begun.Estate) > 0 {
		targets = nil
	}
	for _, t := range begun.Estate {
		targets = append(targets, t.Name)
	}
	for _, t := range targets {
		v, ok, err := g.Of(t)
		if err != nil {
			return nil, err
		}
		if ok {
			r.Asked = append(r.Asked, t)
			r.Samples[t] = expr.Sample{Value: v, Target: t, At: now}
		}
	}
	return r, nil
}

// Listed writes names for people.
func Listed(names []string) string {
	if len(names) == 0 {
		return "none"
	}
	const most = 12
	out := ""
	for i, n := range names {
		if i == most {
			return out + fmt.Sprintf(" and %d more", len(names)-most)
		}
		if i > 0 {
			out += ", "
		}
		out += n
	}
	return out
}

package flow

import (
	"slices"
	"time"

	"urgentis/core/expr"
	"urgentis/core/runbook"
)

// scope is what expressions see at one place, on one target where the step acts on targets.
func (w *walker) scope(f *frame, place Place, target string) *expr.Scope {
	s, b := w.s, w.s.Begun
	d := s.dataOf(place)
	sc := &expr.Scope{
		Alert: b.Alert, AlertNow: s.alertNow(), Inputs: d.inputs, Incident: b.Incident, Service: b.Service,
		Now: w.now, Names: f.names,
		Run:      map[string]any{"id": b.Run, "runbook": b.Runbook, "started_by": b.StartedBy, "begun_at": s.BegunAt},
		Readings: s.view(place, f.target, proved(f.book, place)),
		Checks:   d.seen("checks", place), Answers: d.seen("answers", place), Calls: d.seen("calls", place),
	}
	if f.trouble != nil {
		sc.Error = map[string]any{
			"because": f.trouble.Because, "step": f.troubleAt.String(), "title": w.title(f.troubleAt),
		}
	}
	if target == "" {
		target = f.target
	}
	sc.Target = s.target(target)
	return sc
}

func (w *walker) title(place Place) string {
	if st, _ := Find(w.s.book, place); st != nil {
		return st.Title
	}
	return place.String()
}

// target is what expressions see of a target; nil without one.
func (s *State) target(name string) map[string]any {
	if name == "" {
		return nil
	}
	for _, t := range s.Begun.Estate {
		if t.Name == name {
			labels, known := t.Labels, t.Known
			if labels == nil {
				labels = map[string]string{}
			}
			if known == nil {
				known = map[string]any{}
			}
			return map[string]any{"name": t.Name, "address": t.Address, "labels": labels, "known": known}
		}
	}
	return nil
}

func (s *State) alertNow() map[string]any {
	if s.alert != nil {
		return map[string]any{
			"state":    s.alert.State,
			"severity": s.alert.Severity,
			"cleared":  s.alert.Cleared,
			"worse":    s.alert.Worse,
		}
	}
	if s.Begun.Alert == nil {
		return nil
	}
	return map[string]any{
		"state":    s.Begun.Alert["state"],
		"severity": s.Begun.Alert["severity"],
		"cleared":  false,
		"worse":    false,
	}
}

// seen gives, by id, the newest fact of a kind that can be seen from a place.
func (d *data) seen(kind string, place Place) map[string]any {
	out := map[string]any{}
	for id, list := range d.facts[kind] {
		for i := len(list) - 1; i >= 0; i-- {
			if place.Sees(list[i].place) {
				out[id] = list[i].value
				break
			}
		}
	}
	return out
}

// proved is the change that the step at a place speaks of: which a check proves, or which it is; nil where there is
// none.
func proved(book *runbook.Book, place Place) *runbook.Step {
	s := book.Step(place.own().Static())
	switch {
	case s == nil:
		return nil
	case s.Proves != "":
		return book.ByID(s.Proves)
	case s.Verb == runbook.Change && s.Do != nil:
		return s
	}
	return nil
}

// view gives the readings as they are seen from a place. What runs beside it is not seen; inside an item
// readings narrow to its target; from outside, the items of an each count as one taking. since is the change before
// which before() goes back; nil is the newest.
func (s *State) view(place Place, target string, since *runbook.Step) map[string]*expr.Series {
	d := s.dataOf(place)
	frame := place.Frame()
	if v := d.views[frame]; v != nil && since == nil {
		return v
	}
	out := make(map[string]*expr.Series, len(d.readings))
	began := s.changeBegan(place, since)
	for name, rounds := range d.readings {
		series := &expr.Series{
			Name: name, Item: frame != place.Whole(), ChangeSeq: began,
		}
		for _, r := range rounds {
			if place.Sees(PlaceOf(r.Path)) {
				series.Rounds = append(series.Rounds, s.round(place, target, *r, since))
			}
		}
		s.addSilent(series)
		out[name] = series
	}
	if since == nil {
		d.views[frame] = out
	}
	return out
}

// changeBegan is where a change that can be seen from a place began first: on its first target, for its first item. of
// nil is the newest change, as is one that did not come about. What a call changed, its caller changed.
func (s *State) changeBegan(place Place, of *runbook.Step) int64 {
	began, newest := int64(0), ""
	for _, c := range slices.Backward(s.changes) {
		at, ofAny := c.place.asCaller(place), c.any
		if !place.Sees(at) || of != nil && at.own().Static() != of.Path {
			continue
		}
		if at != c.place {
			ofAny = at.ofAnyItem()
		}
		if newest == "" {
			newest = ofAny
		}
		if ofAny == newest {
			began = c.seq
		}
	}
	if began == 0 && of != nil {
		return s.changeBegan(place, nil)
	}
	return began
}

// round gives one round as it is seen from a place.
func (s *State) round(place Place, target string, r expr.Round, since *runbook.Step) expr.Round {
	at := PlaceOf(r.Path)
	if inner := at.Frame(); inner.inItem() && !place.In(inner) {
		// Taken for an item that is over: its own changes count, and its fellows belong to it.
		r.Change, r.Group = func() int64 { return s.changeBegan(at, since) }, at.Static()
		if item := s.itemOf(at); item != nil && item.Target == "" {
			r = labelled(r, item.Label)
		}
		return r
	}
	if target == "" {
		return r
	}
	for _, t := range r.Asked {
		if t == target {
			one := r
			one.Asked, one.Samples = []string{t}, map[string]expr.Sample{}
			if v, ok := r.Samples[t]; ok {
				one.Samples[t] = v
			}
			return one
		}
	}
	return r
}

// labelled makes the samples of one item's round tell from those of the others.
func labelled(r expr.Round, label string) expr.Round {
	out := r
	out.Asked, out.Samples = nil, map[string]expr.Sample{}
	for _, t := range r.Asked {
		key := label
		if t != "" {
			key = t + " for " + label
		}
		out.Asked = append(out.Asked, key)
		if v, ok := r.Samples[t]; ok {
			out.Samples[key] = v
		}
	}
	return out
}

// itemOf gives the innermost item that a place is in; nil without one.
func (s *State) itemOf(place Place) *Item {
	each, i, _ := place.Frame().ItemOf()
	if st := s.steps[each]; st != nil && st.each != nil && i < len(st.each.Items) {
		return &st.each.Items[i]
	}
	return nil
}

// addSilent counts items that failed before they were asked as asked: they are missing, not forgotten.
func (s *State) addSilent(series *expr.Series) {
	if len(series.Rounds) == 0 {
		return
	}
	last := &series.Rounds[len(series.Rounds)-1]
	if last.Group == "" {
		return
	}
	each, _, _ := PlaceOf(last.Path).Frame().ItemOf()
	st := s.steps[each]
	if st == nil || st.each == nil {
		return
	}
	asked := map[int]bool{}
	for _, r := range series.Rounds {
		if e, i, is := PlaceOf(r.Path).Frame().ItemOf(); is && e == each {
			asked[i] = true
		}
	}
	for i, item := range st.each.Items {
		if !asked[i] && (!st.items[i].over || st.items[i].failed != nil) {
			key := item.Target
			if key == "" {
				key = item.Label
			}
			last.Asked = append(append([]string{}, last.Asked...), key)
		}
	}
}

// ageOf is how long ago the oldest of the newest samples of a reading was taken; false where one is missing.
func (s *State) ageOf(place Place, target, name string, now time.Time) (time.Duration, bool) {
	series := s.view(place, target, nil)[name]
	if series == nil {
		return 0, false
	}
	oldest, ok := series.Oldest()
	return now.Sub(oldest), ok
}

package worth

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"time"
)

// leastRecent is of how many cases of the last days it is said that a runbook helps no longer: one may be chance.
const leastRecent = 3

// judge says how runbooks did on the incidents of a report, and by those of the time before it which ones fail, or help
// no longer.
func judge(all, in []Facts, runbooks []Known, until time.Time) []Runbook {
	found := map[string]*Runbook{}
	var names []string
	of := func(name string) *Runbook {
		if found[name] == nil {
			found[name] = &Runbook{Name: name}
			names = append(names, name)
		}
		return found[name]
	}
	for _, k := range runbooks {
		of(k.Name).known = until.Sub(k.Since)
	}
	for i := range in {
		for _, name := range ranOn(&in[i]) {
			of(name).take(&in[i])
		}
	}
	recent, older := until.Add(-recentDays*24*time.Hour), until.Add(-Looked)
	for i := range all {
		f := &all[i]
		if f.Closed.Before(older) || !f.Closed.Before(until) {
			continue
		}
		for _, name := range ranOn(f) {
			b := of(name)
			part := &b.before
			if !f.Closed.Before(recent) {
				part = &b.recent
			}
			part[1]++
			if f.helped(name) {
				part[0]++
			}
		}
	}
	slices.Sort(names)
	out := make([]Runbook, len(names))
	for i, name := range names {
		found[name].say()
		out[i] = *found[name]
	}
	slices.SortStableFunc(out, func(a, b Runbook) int { return cmp.Compare(b.Incidents, a.Incidents) })
	return out
}

// ranOn lists the runbooks that worked on an incident, each once.
func ranOn(f *Facts) []string {
	var out []string
	for _, r := range f.Runs {
		if !slices.Contains(out, r.Runbook) {
			out = append(out, r.Runbook)
		}
	}
	return out
}

// take counts an incident that it worked on.
func (b *Runbook) take(f *Facts) {
	b.Incidents++
	if f.helped(b.Name) {
		b.Helped++
	}
	if f.CameBack {
		b.CameBack++
	}
	if f.Closed.After(b.Last) {
		b.Last = f.Closed
	}
	for _, r := range f.Runs {
		if r.Runbook != b.Name {
			continue
		}
		switch r.Outcome {
		case HandedOver:
			b.HandedOver++
		case Failed:
			b.Failed++
		}
		if Well(r.Outcome) && !f.CameBack {
			b.Saved += r.Saves
		}
	}
}

// say gives the verdict. A runbook fails where not even the upper end of what its share may be (Wilson, 95 %) is a
// half; it helps no longer where that of the last 30 days, of some
// cases at least, lies below the lower end of the 90 days before.
func (b *Runbook) say() {
	_, upper := wilson(b.recent[0]+b.before[0], b.recent[1]+b.before[1])
	_, now := wilson(b.recent[0], b.recent[1])
	then, _ := wilson(b.before[0], b.before[1])
	switch {
	case b.Incidents == 0 && b.recent[1]+b.before[1] == 0:
		b.Says = "worked on no incident yet"
		if b.known >= recentDays*24*time.Hour {
			b.Verdict = NotStarted
			b.Says = fmt.Sprintf("worked on no incident in %d days", int(min(b.known, Looked)/(24*time.Hour)))
		}
	case b.recent[1] >= leastRecent && now < then:
		b.Verdict = HelpsNoLonger
		b.Says = fmt.Sprintf("helped on %d of %d in the last %d days, on %d of %d in the %d days before",
			b.recent[0], b.recent[1], recentDays, b.before[0], b.before[1], olderDays)
	case b.recent[1]+b.before[1] > 0 && upper < 0.5:
		b.Verdict = Fails
		b.Says = fmt.Sprintf("helped on %d of %d in %d days", b.recent[0]+b.before[0], b.recent[1]+b.before[1],
			recentDays+olderDays)
	default:
		b.Says = fmt.Sprintf("helped on %d of %d", b.Helped, b.Incidents)
	}
}

// z is that of an interval of 95 %.
const z = 1.96

// wilson is the score interval of a share (E. B. Wilson, 1927); all of it without a case.
func wilson(good, all int) (low, high float64) {
	if all == 0 {
		return 0, 1
	}
	n, p := float64(all), float64(good)/float64(all)
	mid := (p + z*z/(2*n)) / (1 + z*z/n)
	half := z / (1 + z*z/n) * math.Sqrt(p*(1-p)/n+z*z/(4*n*n))
	return mid - half, mid + half
}

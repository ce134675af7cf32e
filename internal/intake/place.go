package intake

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"urgentis/core/alert"
	"urgentis/core/incident"
	"urgentis/core/plain"
	"urgentis/core/route"
	"urgentis/internal/engine"
	"urgentis/internal/store"
)

// placing is the second stage: which incident a new alert joins, and by what others will join it.
type placing struct {
	*moment
	// joinable are open incidents by what alerts have in common with theirs, keys those that the batch sets.
	joinable, keys map[string]store.IncidentKey
	// last are incidents that are open, or were closed a moment ago, by conditions of theirs that are reported anew.
	last map[store.Identity]store.LastIncident
	// cleared are the keys of alerts that were open until now, with their incidents.
	cleared map[string]int64
	opened  []int64        // the incidents that were opened in this batch
	hasOpen map[int64]bool // incidents that are known to have an open alert
}

func newPlacing(m *moment) *placing {
	return &placing{moment: m, joinable: map[string]store.IncidentKey{}, keys: map[string]store.IncidentKey{},
		last: map[store.Identity]store.LastIncident{}, cleared: map[string]int64{}, hasOpen: map[int64]bool{}}
}

// over notes that an alert keeps its incident joinable no more.
func (p *placing) over(a *store.Alert) {
	if a.JoinKey != "" && a.Incident != nil {
		p.cleared[a.JoinKey] = *a.Incident
	}
}

// byHand notes an incident that a person opened: it is what its service's alerts are about from now on.
func (p *placing) byHand(i *store.Incident) error {
	p.opened = append(p.opened, i.Number)
	if i.Service == "" {
		return nil
	}
	key := incident.OfService(i.Service)
	p.keys[key] = store.IncidentKey{Key: key, Incident: i.Number, Until: p.now.Add(incident.DefaultWithin),
		Within: int64(incident.DefaultWithin.Seconds())}
	return p.tx.JoinLock([]string{key})
}

// expect finds the incidents that alerts of a batch will join, and reserves numbers for those that will be opened.
func (p *placing) expect(batch []*item, c *counting) error {
	type raising struct {
		store.Identity
		incident.Keys
	}
	looked := map[string]bool{}
	var fresh []raising
	var ids []store.Identity
	seen := map[store.Identity]bool{}
	for _, it := range batch {
		id := it.identity()
		if _, was := c.heard[it.once]; was {
			continue
		}
		if seen[id] || c.isOpen(id) || it.report.Severity == alert.Cleared {
			continue
		}
		seen[id] = true
		k := p.keysOf(raised(it.source, it.report, p.heard()).Snapshot())
		for _, key := range k.All() {
			looked[key] = true
		}
		fresh, ids = append(fresh, raising{id, k}), append(ids, id)
	}
	if len(looked) > maxLooked && len(batch) > 1 {
		return errTooWide
	}
	if err := p.findJoinable(slices.Collect(maps.Keys(looked))); err != nil {
		return err
	}
	if err := p.findLast(ids); err != nil {
		return err
	}
	opens, within := 0, map[string]bool{}
	for _, r := range fresh {
		if _, back := p.last[r.Identity]; back {
			continue
		}
		joins := slices.ContainsFunc(r.All(), func(key string) bool {
			return within[key] || p.joinable[key].Incident != 0
		})
		if !joins {
			opens++
		}
		for _, key := range r.Set() {
			within[key] = true
		}
	}
	return p.sheet.Reserve(opens)
}

// maxLooked bounds by how many keys incidents are looked for in one transaction: each may be a lock, of which the
// database has some thousands for all.
const maxLooked = 1024

// errTooWide lets a batch be taken alert by alert.
var errTooWide = errors.New("the alerts of this batch could join too many incidents to look for all at once")

// errMoved lets a batch be taken anew: an incident that it would join was closed, or became part of another one, in
// the same moment.
var errMoved = errors.New("the incident was closed meanwhile")

// keysOf gives what an alert joins by.
func (m *moment) keysOf(snapshot map[string]any) incident.Keys {
	return incident.KeysOf(m.index.joins, m.index.depends, snapshot)
}

// findLast finds the incidents that conditions had which are reported anew: those that are open, and those that were
// closed within their quiet time.
func (p *placing) findLast(ids []store.Identity) error {
	found, err := p.tx.LastIncidents(ids)
	if err != nil {
		return err
	}
	for _, l := range found {
		if l.State != "open" {
			quiet, err := p.quiet(l.Service)
			if err != nil {
				return err
			}
			if l.ClosedAt == nil || l.ClosedAt.Before(p.now.Add(-quiet)) {
				continue
			}
		}
		p.last[l.Identity] = l
	}
	return nil
}

// findJoinable finds the incidents that alerts may join. For what there is none yet, nobody else opens one meanwhile.
func (p *placing) findJoinable(keys []string) error {
	if len(keys) == 0 {
		return nil
	}
	found, err := p.tx.Joinable(keys)
	if err != nil {
		return err
	}
	var missing []string
	for _, k := range keys {
		if _, ok := found[k]; !ok {
			missing = append(missing, k)
		}
	}
	if len(missing) > 0 {
		if err := p.tx.JoinLock(missing); err != nil {
			return err
		}
		late, err := p.tx.Joinable(missing)
		if err != nil {
			return err
		}
		maps.Copy(found, late)
	}
	p.joinable = found
	return nil
}

// flush writes by what alerts join from now on, once their incidents are written.
func (p *placing) flush() error {
	if err := p.tx.KeepKeysOf(p.cleared); err != nil {
		return err
	}
	return p.tx.SetKeys(slices.SortedFunc(maps.Values(p.keys), func(a, b store.IncidentKey) int {
		return cmp.Compare(a.Key, b.Key) // in one order, so that two do not wait for each other
	}))
}

// incidentOf gives the incident that a new alert joins, or opens one: that of its own condition where it is open, then
// that of those who tell of the same, then that of its own condition which was closed a moment ago, then others that
// its keys lead to.
func (p *placing) incidentOf(a *store.Alert, snapshot map[string]any) (inc *store.Incident, joined bool, err error) {
	k := p.keysOf(snapshot)
	if inc, err = p.joins(a, k); err != nil {
		return nil, false, err
	}
	if joined = inc != nil; !joined {
		inc = &store.Incident{Title: engine.TitleOf(a), State: "open", WaitingOn: "nobody", Severity: a.Severity,
			Service: a.Service, OpenedAt: p.now}
		if err := p.sheet.Open(inc); err != nil {
			return nil, false, err
		}
		p.opened = append(p.opened, inc.Number)
	}
	a.JoinKey = p.lead(k, inc)
	return inc, joined, nil
}

// joins gives the incident that an alert joins; nil where there is none.
func (p *placing) joins(a *store.Alert, k incident.Keys) (*store.Incident, error) {
	last, was := p.last[store.Identity{Source: a.Source, Key: a.Key}]
	if was && last.State == "open" {
		return p.stillOpen(last.Number)
	}
	if own := p.joinable[k.Own]; own.Incident != 0 {
		return p.stillOpen(own.Incident)
	}
	if was && a.MutedBy == "" { // planned work opens nothing again
		return p.comesBack(a, last)
	}
	for _, key := range k.Others {
		if other := p.joinable[key]; other.Incident != 0 {
			return p.stillOpen(other.Incident)
		}
	}
	return nil, nil
}

// stillOpen locks an incident that was found open. Where it is open no more the batch is taken anew: its alerts and
// keys may be another's.
func (p *placing) stillOpen(number int64) (*store.Incident, error) {
	inc, err := p.sheet.Incident(number)
	if err == nil && inc.State != "open" {
		return nil, errMoved
	}
	return inc, err
}

// lead has the keys of an alert lead to its incident, but for those that lead to another one that is open, and gives
// the one that the alert keeps alive while it is open.
func (p *placing) lead(k incident.Keys, inc *store.Incident) (alive string) {
	until := p.now.Add(k.Within)
	for _, key := range k.Set() {
		was, found := p.joinable[key]
		if found && was.Incident != inc.Number {
			continue
		}
		if key == k.Own {
			alive = key
		}
		if found && until.Sub(was.Until) < leadAnew {
			continue
		}
		now := store.IncidentKey{Key: key, Incident: inc.Number, Until: until, Within: int64(k.Within.Seconds())}
		p.joinable[key], p.keys[key] = now, now
	}
	return alive
}

// leadAnew is how exact it is until when a key leads to an incident: in a storm not every alert writes it.
const leadAnew = time.Second

// comesBack opens the incident again that an alert's condition had, where that was closed within its quiet time.
func (p *placing) comesBack(a *store.Alert, last store.LastIncident) (*store.Incident, error) {
	inc, err := p.sheet.Incident(last.Number)
	if err != nil {
		return nil, err
	}
	if inc.MergedInto != nil {
		return nil, errMoved
	}
	if inc.State == "open" {
		return inc, nil // another alert of this batch opened it again
	}
	quiet, err := p.quiet(last.Service)
	if err != nil {
		return nil, err
	}
	if err := p.reopen(inc, fmt.Sprintf("the same condition is reported again within %s",
		plain.Span(quiet))); err != nil {
		return nil, err
	}
	return inc, p.send(inc, route.IncidentReopened, "back:"+a.ID, fmt.Sprintf("Incident %d is open again (%s): %s",
		inc.Number, a.Severity, a.Summary))
}

// firstOpen reports whether the alert at hand is the only one of its incident that is open: all before it are over. It
// is asked once for each incident of a batch.
func (p *placing) firstOpen(inc *store.Incident) (bool, error) {
	if p.hasOpen[inc.Number] || slices.Contains(p.opened, inc.Number) {
		return false, nil
	}
	p.hasOpen[inc.Number] = true
	worst, err := p.tx.WorstAlert(inc.Number)
	return worst == nil, err
}

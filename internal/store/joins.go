package store

import (
	"fmt"
	"maps"
	"slices"
	"time"
)

// JoinLock lets nobody else open an incident for keys until the end of the transaction. They are locked in one order,
// so that two do not wait for each other, and in one statement.
func (tx *Tx) JoinLock(keys []string) error {
	err := tx.run(`select pg_advisory_xact_lock(h) from (select distinct hashtextextended(k, ?) as h
		from unnest(?::text[]) k order by h) x`, aloneJoin, array{keys})
	if err != nil {
		return fmt.Errorf("lock what alerts have in common: %w", err)
	}
	return nil
}

// IncidentKey is by what alerts find an incident that they join.
type IncidentKey struct {
	Key      string
	Incident int64
	// Until is when it is good no more, unless an alert of the incident is open that has it.
	Until time.Time
	// Within is for how long it is good after the last of its alerts, in seconds.
	Within int64
}

// Joinable gives the open incidents that alerts of keys may join now, by their keys.
func (tx *Tx) Joinable(keys []string) (map[string]IncidentKey, error) {
	// Each key is looked up by itself: planned as a join, it reads all open alerts.
	rows, err := scan[IncidentKey](tx, `select k.* from unnest(?::text[]) as v(key)
		cross join lateral (select * from incident_key k where k.key = v.key limit 1) k
		cross join lateral (select from incident i where i.number = k.incident and i.state = 'open' limit 1) i
		where k.until >= now() or (select true from alert a where a.join_key = k.key and a.state = 'open'
			and a.incident = k.incident limit 1)`,
		array{keys})
	if err != nil {
		return nil, fmt.Errorf("find incidents to join: %w", err)
	}
	out := make(map[string]IncidentKey, len(rows))
	for _, r := range rows {
		out[r.Key] = r
	}
	return out, nil
}

// SetKeys has keys lead to incidents. Whoever sets one found it good for nobody else, or for the same incident.
func (tx *Tx) SetKeys(keys []IncidentKey) error {
	n := len(keys)
	if n == 0 {
		return nil
	}
	names, numbers, untils, withins := make([]string, n), make([]int64, n), make([]time.Time, n), make([]int64, n)
	for i, k := range keys {
		names[i], numbers[i], untils[i], withins[i] = k.Key, k.Incident, k.Until, k.Within
	}
	err := tx.run(`insert into incident_key as k (key, incident, until, within)
		select * from unnest(?::text[], ?::bigint[], ?::timestamptz[], ?::bigint[])
		on conflict (key) do update set incident = excluded.incident, within = excluded.within,
			until = case when k.incident = excluded.incident then greatest(k.until, excluded.until)
				else excluded.until end`, array{names}, array{numbers}, array{untils}, array{withins})
	if err != nil {
		return fmt.Errorf("note by what alerts join: %w", err)
	}
	return nil
}

// KeepKeysOf lets keys of incidents be good for as long as they are after an alert, from now on.
func (tx *Tx) KeepKeysOf(keys map[string]int64) error {
	if len(keys) == 0 {
		return nil
	}
	names := slices.Sorted(maps.Keys(keys))
	numbers := make([]int64, len(names))
	for i, k := range names {
		numbers[i] = keys[k]
	}
	return tx.run(`update incident_key k set until = greatest(k.until, now() + k.within * interval '1 second')
		from unnest(?::text[], ?::bigint[]) as v(key, incident) where k.key = v.key and k.incident = v.incident`,
		array{names}, array{numbers})
}

// KeepKeys is KeepKeysOf for all keys of an incident, such as one that is opened again.
func (tx *Tx) KeepKeys(incident int64) error {
	return tx.run(`update incident_key set until = greatest(until, now() + within * interval '1 second')
		where incident = ?`, incident)
}

// MergeInto gives all alerts of an incident, and by what alerts joined it, to another one, and gives those alerts.
// Whoever holds both incidents finds every alert that was committed to the first one, and no other comes after it. It
// waits a moment only for who alters one of them, and fails then so that Raced says yes.
func (tx *Tx) MergeInto(from, to int64) ([]string, error) {
	if err := tx.run("set local lock_timeout = '200ms'"); err != nil {
		return nil, err
	}
	ids, err := scan[string](tx, "update alert set incident = ? where incident = ? returning id", to, from)
	if err != nil {
		return nil, fmt.Errorf("move the alerts of incident %d: %w", from, err)
	}
	if err := tx.run("update incident_key set incident = ? where incident = ?", to, from); err != nil {
		return nil, fmt.Errorf("move the keys of incident %d: %w", from, err)
	}
	return ids, tx.run("set local lock_timeout = 0")
}

// LockAlerts lets nobody else alter alerts of an incident until the end of the transaction; ids nil is all of them.
// Whoever locks alerts and incidents locks alerts first, in the order of Identity.Compare.
func (tx *Tx) LockAlerts(incident int64, ids []string) ([]Alert, error) {
	if ids == nil {
		return scan[Alert](tx, "select * from alert where incident = ? order by source, key, id for update", incident)
	}
	return scan[Alert](tx, `select * from alert where incident = ? and id = any (?::text[])
		order by source, key, id for update`,
		incident, array{ids})
}

// SplitInto gives alerts to another incident. They keep no key of the first one alive any more: what else joins by it
// joins that one.
func (tx *Tx) SplitInto(ids []string, to int64) error {
	return tx.run(`update alert set incident = ?, join_key = '', since = now()
		where id = any (?::text[])`, to, array{ids})
}

// LastIncident is the incident of the last alert of a condition.
type LastIncident struct {
	Identity
	Number   int64
	Service  string // of the alert
	State    string
	ClosedAt *time.Time
}

// LastIncidents finds, for conditions that are reported anew, the incidents that their last alerts are in.
func (tx *Tx) LastIncidents(ids []Identity) ([]LastIncident, error) {
	if len(ids) == 0 {
		return nil, nil
	}
	sources, keys := make([]string, len(ids)), make([]string, len(ids))
	for i, id := range ids {
		sources[i], keys[i] = id.Source, id.Key
	}
	found, err := scan[LastIncident](tx, `select v.source, v.key, i.number, a.service, i.state, i.closed_at
		from unnest(?::text[], ?::text[]) as v(source, key)
		cross join lateral (select incident, service from alert
			where source = v.source and key = v.key and state = 'cleared' order by first_at desc limit 1) a
		join incident i on i.number = a.incident`, array{sources}, array{keys})
	if err != nil {
		return nil, fmt.Errorf("find the incidents that conditions had: %w", err)
	}
	return found, nil
}

package store

import (
	"cmp"
	"fmt"
	"time"

	"urgentis/core/alert"
	"urgentis/core/incident"

	"urgentis/core/access"
)

// within narrows a list to the services of a scope.
func within(s access.Scope, where string, args []any) (string, []any) {
	if s.All {
		return where, args
	}
	return "(" + where + ") and service in ?", append(args, s.Services)
}

// Place is where a page of a list that is ordered by time and id goes on; the zero Place is its beginning.
type Place struct {
	At time.Time
	ID string
}

// after is the condition of a page: what comes after a place, newest first by a column.
func (p Place) after(column string) (string, []any) {
	if p.ID == "" {
		return "true", nil
	}
	return fmt.Sprintf("(%s < ? or %s = ? and id > ?)", column, column), []any{p.At, p.At, p.ID}
}

// and adds a condition on a column where a value is given.
func and(where string, args []any, column, value string) (string, []any) {
	if value == "" {
		return where, args
	}
	return where + " and " + column + " = ?", append(args, value)
}

// WhichAlerts narrows a list of alerts; what is "" narrows nothing.
type WhichAlerts struct{ State, Service, Source string }

// Alerts lists alerts, newest first.
func (tx *Tx) Alerts(s access.Scope, which WhichAlerts, from Place, most int) ([]Alert, error) {
	where, args := from.after("first_at")
	where, args = and(where, args, "state", which.State)
	where, args = and(where, args, "service", which.Service)
	where, args = and(where, args, "source", which.Source)
	where, args = within(s, where, args)
	var out []Alert
	err := tx.db.Order("first_at desc, id").Where(where, args...).Limit(most).Find(&out).Error
	return out, err
}

// Alert reads an alert.
func (tx *Tx) Alert(id string) (*Alert, error) { return take[Alert](tx, "id = ?", id) }

// MostAlertsOf bounds how many alerts of an incident are listed.
const MostAlertsOf = 500

// AlertsOf lists the first alerts of an incident, oldest first; how many there are stands in its head.
func (tx *Tx) AlertsOf(incident int64) ([]Alert, error) {
	return scan[Alert](
		tx,
		"select * from alert where incident = ? order by first_at, id limit ?",
		incident,
		MostAlertsOf,
	)
}

// SinceNow has all open alerts of an incident be as bad as they are since now: it is opened again.
func (tx *Tx) SinceNow(incident int64) error {
	return tx.run("update alert set since = now() where incident = ? and state = 'open'", incident)
}

// OpenAlertsOf lists the open alerts of an incident, the worst first, and counts those that are not listed.
func (tx *Tx) OpenAlertsOf(incident int64, most int) ([]Alert, int, error) {
	list, err := scan[Alert](tx, `select * from alert where incident = ? and state = 'open' order by
		array_position(array['critical', 'major', 'minor', 'warning'], severity), first_at, id limit ?`, incident, most)
	if err != nil || len(list) < most {
		return list, 0, err
	}
	n, err := one[int](tx, "select count(*) from alert where incident = ? and state = 'open'", incident)
	return list, n - len(list), err
}

// Identity is what one condition is known by.
type Identity struct {
	Source string `json:"source"`
	Key    string `json:"key"`
}

// Compare orders identities as all who lock several alerts do.
func (i Identity) Compare(j Identity) int {
	return cmp.Or(cmp.Compare(i.Source, j.Source), cmp.Compare(i.Key, j.Key))
}

// OpenAlert is an alert that is open.
type OpenAlert struct {
	Alert
	ClosedAt *time.Time // when its incident was closed; nil where that is open
}

// OpenAlerts reads the open alerts of identities, so that nobody else alters them until the end of the transaction.
// Each identity is one probe of the index of open alerts, however many are open.
func (tx *Tx) OpenAlerts(ids []Identity) ([]OpenAlert, error) {
	if len(ids) == 0 {
		return nil, nil
	}
	sources, keys := make([]string, len(ids)), make([]string, len(ids))
	for i, id := range ids {
		sources[i], keys[i] = id.Source, id.Key
	}
	found, err := scan[OpenAlert](tx, `select a.*, i.closed_at as closed_at
		from unnest(?::text[], ?::text[]) as v(source, key)
		cross join lateral (select * from alert
			where state = 'open' and source = v.source and key = v.key limit 1 for update) a
		left join incident i on i.number = a.incident and i.state = 'closed'`, array{sources}, array{keys})
	if err != nil {
		return nil, fmt.Errorf("read open alerts: %w", err)
	}
	return found, nil
}

// maxQuiet bounds how many quiet alerts are given at once.
const maxQuiet = 256

// QuietAlerts gives open alerts of a source that nothing reported for a time, those that are quiet longest first.
func (tx *Tx) QuietAlerts(source string, after time.Duration) ([]Alert, error) {
	return scan[Alert](tx, `select * from alert where state = 'open' and source = ?
		and last_at < now() - ? * interval '1 second' order by last_at limit ?`, source, after.Seconds(), maxQuiet)
}

// OpenKeys gives the keys of open alerts of a source that begin in some way.
func (tx *Tx) OpenKeys(source, prefix string) ([]string, error) {
	return scan[string](tx, `select key from alert where state = 'open' and source = ? and starts_with(key, ?)
		order by key`, source, prefix)
}

// Repeat is a report that alters nothing of an open alert but how often, and when last, it was made.
type Repeat struct {
	Identity
	Severity string
	Times    int64
	At       alert.Said
}

// Counted is what reports repeat.
type Counted struct {
	// Alerts are those that are open just as they are reported.
	Alerts []CountedAlert
	// Others is how many alerts are open otherwise than they are reported, or are altered by somebody else.
	Others int
	// Config is the version of the configuration, see ConfigVersion.
	Config int64
}

// CountedAlert is an alert whose reports are counted.
type CountedAlert struct {
	ID       string
	Report   int    // which of the reports repeats it, from 0
	Incident *int64 // nil without one
	Closed   bool   // its incident is closed, or it was treated a while ago
}

// CountRepeats counts reports of alerts that are open just as they are reported; nobody else alters those until the end
// of the transaction. It takes one row to write for each alert, where reading it first takes two, and gives no more of
// it than most reports need.
func (tx *Tx) CountRepeats(reports []Repeat) (*Counted, error) {
	n := len(reports)
	sources, keys, severities := make([]string, n), make([]string, n), make([]string, n)
	times, ats := make([]int64, n), make([]time.Time, n)
	for i, r := range reports {
		sources[i], keys[i], severities[i], times[i], ats[i] = r.Source, r.Key, r.Severity, r.Times, r.At.Time
	}
	// A row is found again by its place, so that nothing is looked up twice: at another place it is another version.
	rows, err := tx.db.Raw(`with v as materialized (
			select v.*, a.ctid as place, a.severity as open_as
			from unnest(?::text[], ?::text[], ?::text[], ?::bigint[], ?::timestamptz[]) with ordinality
				as v(source, key, severity, times, at, n)
			cross join lateral (select ctid, severity from alert
				where state = 'open' and source = v.source and key = v.key limit 1) a),
		a as (update alert a set count = a.count + v.times, last_at = now(), last_said = v.at from v
			where a.ctid = v.place and v.open_as = v.severity
			returning v.n - 1 as report, a.id, a.incident,
				exists (select from incident i where i.number = a.incident and i.state = 'closed')
				or case when a.treated_run = '' then false else now() > a.treated_at + `+quietOf+` end as closed)
		select config.version, (select count(*) from v) - (select count(*) from a), coalesce(a.report, 0),
			coalesce(a.id, ''), a.incident, coalesce(a.closed, false)
		from config left join a on true`,
		array{sources}, array{keys}, array{severities}, array{times}, array{ats}).Rows()
	if err != nil {
		return nil, fmt.Errorf("count repeated alerts: %w", err)
	}
	defer rows.Close()
	out := &Counted{}
	for rows.Next() {
		var a CountedAlert
		if err := rows.Scan(&out.Config, &out.Others, &a.Report, &a.ID, &a.Incident, &a.Closed); err != nil {
			return nil, fmt.Errorf("count repeated alerts: %w", err)
		}
		if a.ID != "" { // otherwise the row is there for the version alone
			out.Alerts = append(out.Alerts, a)
		}
	}
	return out, rows.Err()
}

// Lapse has a treatment of an alert count no more: it goes on to be reported.
func (tx *Tx) Lapse(id string) error {
	return tx.run(`update alert set treated_run = '', treated_as = '', treated_worth = 0, treated_at = null,
		since = now() where id = ?`, id)
}

// KeepMute writes the planned work that holds an alert back, and nothing else of it.
func (tx *Tx) KeepMute(a *Alert) error {
	return tx.run("update alert set muted_by = ?, muted_until = ?, since = ? where id = ?", a.MutedBy, a.MutedUntil,
		a.Since, a.ID)
}

// DueMutes lists open alerts that planned work held back until a time that is over.
func (tx *Tx) DueMutes(now time.Time, most int) ([]Identity, error) {
	return scan[Identity](tx, `select source, key from alert where muted_by <> '' and state = 'open'
		and muted_until <= ? order by muted_until, source, key limit ?`, now, most)
}

// LiftMute has planned work hold an open alert back no more.
func (tx *Tx) LiftMute(id Identity) error {
	return tx.run(`update alert set muted_by = '', muted_until = null, since = now()
		where source = ? and key = ? and state = 'open'`, id.Source, id.Key)
}

// OpenAfter lists open alerts in the order of their identities, after one.
func (tx *Tx) OpenAfter(after Identity, most int) ([]Alert, error) {
	return scan[Alert](tx, `select * from alert where state = 'open' and (source, key) > (?, ?)
		order by source, key limit ?`, after.Source, after.Key, most)
}

// KeepVerdicts writes what an alert started, and nothing else of it.
func (tx *Tx) KeepVerdicts(a *Alert) error {
	if err := tx.run("update alert set verdicts = ? where id = ?", string(a.Verdicts), a.ID); err != nil {
		return fmt.Errorf("keep what an alert started: %w", err)
	}
	return nil
}

// Waiting is a start that waits whether its alert stays so, or for its hours.
type Waiting struct {
	Alert, Runbook, Start string
	// Idle says that it is no help until it is due: it counts for nothing that works on its alert.
	Idle bool
}

// AddWaiting lets a start wait until it is due.
func (tx *Tx) AddWaiting(w Waiting, due time.Time) error {
	err := tx.run(`insert into starting (alert, runbook, start, due, idle) values (?, ?, ?, ?, ?)
		on conflict do nothing`, w.Alert, w.Runbook, w.Start, due, w.Idle)
	if err != nil {
		return fmt.Errorf("let a start wait: %w", err)
	}
	return nil
}

// DropWaiting takes a start out of those that wait.
func (tx *Tx) DropWaiting(w Waiting) error {
	err := tx.run("delete from starting where alert = ? and runbook = ? and start = ?", w.Alert, w.Runbook, w.Start)
	if err != nil {
		return fmt.Errorf("drop a start: %w", err)
	}
	return nil
}

// DueWaiting gives up to most starts that are due. Each is locked together with its alert, whose next report either
// came before, or finds the start gone.
func (tx *Tx) DueWaiting(most int) ([]Waiting, error) {
	return scan[Waiting](tx, `select s.alert, s.runbook, s.start from starting s join alert a on a.id = s.alert
		where s.due <= now() order by s.due, s.alert, s.runbook, s.start limit ? for update of s, a skip locked`, most)
}

// GiveUpWaiting takes the first start that is due out of those that wait, and gives it with its incident; nil for none.
func (tx *Tx) GiveUpWaiting() (*Waiting, *int64, error) {
	type due struct {
		Waiting
		Incident *int64
	}
	found, err := scan[due](tx, `delete from starting where ctid in (
			select s.ctid from starting s join alert a on a.id = s.alert where s.due <= now()
			order by s.due, s.alert, s.runbook, s.start limit 1 for update of s skip locked)
		returning alert, runbook, start, (select incident from alert where id = alert) as incident`)
	if err != nil || len(found) == 0 {
		return nil, nil, err
	}
	return &found[0].Waiting, found[0].Incident, nil
}

// NextWaiting is when the next start that waits is due by the database's clock, from now; 0 without one.
func (tx *Tx) NextWaiting() (time.Duration, error) {
	return tx.until("select extract(epoch from min(due) - now()) from starting")
}

// until reads how many seconds it is until something; at least a millisecond, and 0 where there is nothing.
func (tx *Tx) until(statement string) (time.Duration, error) {
	seconds, err := one[*float64](tx, statement)
	if err != nil || seconds == nil {
		return 0, err
	}
	return max(time.Millisecond, time.Duration(*seconds*float64(time.Second))), nil
}

// CountStart counts a start of a runbook, unless it began most times already since a time: then it reports false. Two
// who count at once come one after the other, so that both do not take the last one.
func (tx *Tx) CountStart(runbook, start string, most int, since, now time.Time) (bool, error) {
	if err := tx.alone(aloneStarts, "starts"); err != nil {
		return false, err
	}
	n, err := one[int](
		tx,
		"select count(*) from started where runbook = ? and start = ? and at > ?",
		runbook,
		start,
		since,
	)
	if err != nil {
		return false, fmt.Errorf("count starts: %w", err)
	}
	if n >= most {
		return false, nil
	}
	return true, tx.run("insert into started (runbook, start, at) values (?, ?, ?)", runbook, start, now)
}

// Content is an alert as the record keeps it.
func (a *Alert) Content() incident.AlertContent {
	return incident.AlertContent{
		ID: a.ID, Source: a.Source, Key: a.Key, Severity: a.Severity, State: a.State, Summary: a.Summary,
		Service: a.Service, Link: a.Link, Labels: a.Labels, Count: int(a.Count), FirstAt: a.FirstAt.UTC(),
		LastAt: a.LastAt.UTC(), FirstSaid: a.FirstSaid.UTC(), LastSaid: a.LastSaid.UTC(),
	}
}

// Snapshot is an alert as expressions see it.
func (a *Alert) Snapshot() map[string]any {
	labels := map[string]string(a.Labels)
	if labels == nil {
		labels = map[string]string{}
	}
	return map[string]any{
		"id":         a.ID,
		"source":     a.Source,
		"key":        a.Key,
		"severity":   a.Severity,
		"state":      a.State,
		"summary":    a.Summary,
		"service":    a.Service,
		"link":       a.Link,
		"labels":     labels,
		"count":      a.Count,
		"first_at":   a.FirstAt.UTC(),
		"last_at":    a.LastAt.UTC(),
		"first_said": a.FirstSaid.UTC(),
		"last_said":  a.LastSaid.UTC(),
	}
}

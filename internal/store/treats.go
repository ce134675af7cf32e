package store

import (
	"fmt"
	"slices"
	"time"

	"urgentis/core/incident"
)

// Treats is what a run was begun for.
type Treats struct {
	Run   string
	Alert string // "" for its incident as a whole
	How   string
	Worth int // of the alert's severity, as the run was begun for it
}

// How a run came to treat an alert.
const (
	TreatsStarted = "started" // it began the run
	TreatsSame    = "same"    // it would have begun one for the same
	TreatsByHand  = "by-hand" // a person began the run, for it
)

// AddTreats notes what runs were begun for. What was noted first stands: a run does not learn that an alert is worse.
func (tx *Tx) AddTreats(rows []Treats) error {
	if len(rows) == 0 {
		return nil
	}
	n := len(rows)
	runs, alerts, hows, worths := make([]string, n), make([]string, n), make([]string, n), make([]int64, n)
	for i, r := range rows {
		runs[i], alerts[i], hows[i], worths[i] = r.Run, r.Alert, r.How, int64(r.Worth)
	}
	err := tx.run(`insert into treats (run, alert, how, worth) select * from unnest(?::text[], ?::text[], ?::text[],
		?::bigint[]) on conflict do nothing`, array{runs}, array{alerts}, array{hows}, array{worths})
	if err != nil {
		return fmt.Errorf("note what runs were begun for: %w", err)
	}
	return nil
}

// TreatedBy lists what a run was begun for.
func (tx *Tx) TreatedBy(run string) ([]Treats, error) {
	return scan[Treats](tx, "select run, alert, how, worth from treats where run = ? order by alert", run)
}

// TreatedAlert is an alert that a run was begun for.
type TreatedAlert struct {
	Treats
	Severity, Summary string // as they are now
	// Enough says that it ended so that this was enough for the alert as it is now.
	Enough bool
}

// TreatedAlerts lists the alerts that a run was begun for, the worst first.
func (tx *Tx) TreatedAlerts(run string) ([]TreatedAlert, error) {
	return scan[TreatedAlert](tx, `select t.*, a.severity, a.summary, a.treated_run = t.run and `+settled+` as enough
		from treats t join alert a on a.id = t.alert where t.run = ? order by
		array_position(array['critical', 'major', 'minor', 'warning'], a.severity), a.first_at, a.id limit ?`, run,
		mostUnsettled)
}

// Treated notes how a run ended what it was begun for, and gives the alerts among it, as they are now. What ended as
// failed before for one of them is done with. Whoever asks holds no incident yet.
func (tx *Tx) Treated(run, outcome, because string) ([]Alert, error) {
	err := tx.run("update treats set outcome = ?, because = ?, at = now() where run = ?", outcome, because, run)
	if err != nil {
		return nil, fmt.Errorf("note how a run ended: %w", err)
	}
	// Alerts are locked in one order by everybody.
	alerts, err := scan[Alert](tx, `select a.* from alert a join treats t on t.alert = a.id
		where t.run = ? order by a.source, a.key, a.id for update of a`, run)
	if err != nil {
		return nil, fmt.Errorf("read what a run was begun for: %w", err)
	}
	if err := tx.run(`update alert a set treated_run = t.run, treated_as = t.outcome, treated_worth = t.worth,
		treated_at = now() from treats t where t.run = ? and a.id = t.alert`, run); err != nil {
		return nil, fmt.Errorf("note how alerts were treated: %w", err)
	}
	return alerts, tx.run(`update hand_over h set settled_at = now(), settled_by = ? where h.settled_at is null
		and (h.run in (with recursive again as (select again_of as id from run where id = ? and again_of <> ''
				union select r.again_of from again join run r on r.id = again.id where r.again_of <> '')
			select id from again)
		or h.to_whom = '' and exists (select from treats t join treats o on o.alert = t.alert and o.alert <> ''
			where t.run = ? and o.run = h.run))`, "run/"+run, run, run)
}

// HandOver is a run that left its matter to people.
type HandOver struct {
	Run      string `gorm:"primaryKey"`
	Incident *int64
	// ToWhom was asked, such as on-call/quayside; "" where it ended otherwise than it should, and nobody was named.
	ToWhom    string
	State     string // the run's
	Because   string
	At        time.Time
	SettledAt *time.Time
	SettledBy string
}

// AddHandOvers notes what runs leave to people.
func (tx *Tx) AddHandOvers(rows []HandOver) error {
	if len(rows) == 0 {
		return nil
	}
	if err := tx.db.Create(&rows).Error; err != nil {
		return fmt.Errorf("note what is handed over: %w", err)
	}
	return nil
}

// LeftOf tells what runs of an incident left to people and nobody is done with: each by its runbook, and why.
func (tx *Tx) LeftOf(incident int64) ([]string, error) {
	return scan[string](tx, `select r.runbook || ': ' || h.because from hand_over h join run r on r.id = h.run
		where h.incident = ? and h.settled_at is null order by h.at, h.run`, incident)
}

// SettleHandOver notes that somebody says that what a run left is done with; false where there is no such any more.
func (tx *Tx) SettleHandOver(run, by string) (bool, error) {
	n, err := tx.exec(`update hand_over set settled_at = now(), settled_by = ?
		where run = ? and settled_at is null`, by, run)
	return n > 0, err
}

// SettleHandOvers is that for all runs of an incident.
func (tx *Tx) SettleHandOvers(incident int64, by string) error {
	return tx.run(`update hand_over set settled_at = now(), settled_by = ?
		where incident = ? and settled_at is null`, by, incident)
}

// MoveHandOvers gives what runs of an incident left to people to another incident.
func (tx *Tx) MoveHandOvers(from, to int64) error {
	return tx.run("update hand_over set incident = ? where incident = ?", to, from)
}

// quietOf is the quiet time of an alert's service.
const quietOf = `coalesce((select make_interval(mins => nullif(quiet_minutes, 0)) from service where name = a.service),
	interval '15 minutes')`

// settled is the condition that an open alert was treated as it is, and is not reported any more.
const settled = `(a.treated_run <> '' and a.treated_worth >= array_position(array['cleared', 'warning', 'minor',
		'major', 'critical'], a.severity) - 1
	and a.last_at <= a.treated_at + ` + quietOf + `
	and not exists (select from starting w where w.alert = a.id and not w.idle))`

// mostUnsettled bounds how many open alerts are told for which nothing was enough.
const mostUnsettled = 200

// Unsettled lists the open alerts of an incident for which nothing was enough, the worst first, and counts those that
// are not listed.
func (tx *Tx) Unsettled(number int64) ([]incident.Unsettled, int, error) {
	type row struct {
		ID, Summary, Severity, TreatedRun string
		Pending, Worse                    bool
		MutedUntil                        *time.Time
		Of                                int
	}
	rows, err := scan[row](tx, `select a.id, a.summary, a.severity, a.treated_run, a.muted_until,
			count(*) over () as of,
			exists (select from starting w where w.alert = a.id and not w.idle) as pending,
			a.treated_worth < array_position(array['cleared', 'warning', 'minor', 'major', 'critical'], a.severity) - 1
				as worse
		from alert a where a.incident = ? and a.state = 'open' and not `+settled+`
		order by a.muted_until is not null, array_position(array['critical', 'major', 'minor', 'warning'], a.severity),
			a.first_at, a.id limit ?`, number, mostUnsettled)
	if err != nil {
		return nil, 0, fmt.Errorf("read the open alerts of incident %d: %w", number, err)
	}
	out, more := make([]incident.Unsettled, len(rows)), 0
	for i, r := range rows {
		why := incident.ReportedSince
		switch {
		case r.Pending:
			why = incident.StartPending
		case r.TreatedRun == "":
			why = incident.NoRunWorked
		case r.Worse:
			why = incident.WorseSince
		}
		out[i] = incident.Unsettled{Alert: r.ID, Summary: r.Summary, Severity: r.Severity, Why: why}
		if r.MutedUntil != nil {
			out[i].MutedUntil = *r.MutedUntil
		}
		more = r.Of - len(rows)
	}
	return out, more, nil
}

// EndOf reads what decides whether an incident ends, but for what the transaction has not written yet. ending are runs
// that end in it.
func (tx *Tx) EndOf(i *Incident, ending []string) (incident.Now, error) {
	n := incident.Now{Holder: i.Holder}
	var err error
	if n.Unsettled, n.More, err = tx.Unsettled(i.Number); err != nil {
		return n, err
	}
	type run struct{ ID, Runbook string }
	runs, err := scan[run](tx, `select id, runbook from run where incident = ? and ended_at is null
		order by begun_at, id`, i.Number)
	if err != nil {
		return n, fmt.Errorf("read the runs of incident %d: %w", i.Number, err)
	}
	for _, r := range runs {
		if !slices.Contains(ending, r.ID) {
			n.Working = append(n.Working, r.Runbook)
		}
	}
	n.HandOvers, err = scan[incident.HandOver](tx, `select h.run, r.runbook, h.to_whom as to, h.state, h.at
		from hand_over h join run r on r.id = h.run where h.incident = ? and h.settled_at is null order by h.at, h.run`,
		i.Number)
	if err != nil {
		return n, fmt.Errorf("read what was handed over of incident %d: %w", i.Number, err)
	}
	n.Treated, err = scan[incident.Treated](tx, `select distinct t.outcome, t.because, t.run from alert a
			join treats t on t.run = a.treated_run and t.alert = a.id where a.incident = ? and a.treated_run <> ''
		union select * from (select t.outcome, t.because, t.run from treats t join run r on r.id = t.run
			where r.incident = ? and t.alert = '' and t.outcome <> '' order by t.at desc limit 1) x`,
		i.Number, i.Number)
	if err != nil {
		return n, fmt.Errorf("read how alerts of incident %d were treated: %w", i.Number, err)
	}
	n.Untreated, err = one[bool](tx, `select exists (select from alert where incident = ? and state <> 'open'
		and treated_run = '')`, i.Number)
	return n, err
}

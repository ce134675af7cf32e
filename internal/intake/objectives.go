package intake

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"urgentis/core/alert"
	"urgentis/core/estate"
	"urgentis/core/objective"
	"urgentis/core/reading"
	"urgentis/internal/engine"
	"urgentis/internal/store"
)

// measureEvery is how often it is asked which objectives have a minute to be measured; tests measure themselves.
var measureEvery = 2 * time.Second

const (
	// measureLag is how long it is waited for readings of a minute that is over.
	measureLag = 5 * time.Second
	// maxBehind is how far back what was missed is measured; what is older stays unknown. maxMinutes bounds one go.
	maxBehind  = 24 * time.Hour
	maxMinutes = 240
)

// measure measures objectives, minute by minute, and raises alerts of our own where a budget burns too fast or is
// spent. Each instance does so; whoever takes an objective first does it.
func (in *Intake) measure() {
	defer in.done.Done()
	for {
		select {
		case <-in.stop:
			return
		case <-time.After(measureEvery):
		}
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		if err := in.measureDue(ctx); err != nil {
			in.log.Warn("measure objectives", "error", err)
		}
		cancel()
	}
}

// measureDue measures what is due, one after the other: one that cannot be measured stops none of the others, and is
// tried again the next time.
func (in *Intake) measureDue(ctx context.Context) error {
	failed := []string{}
	for {
		name, err := in.measureNext(ctx, failed)
		switch {
		case name == "" && err == nil:
			return in.endForgotten(ctx)
		case name == "":
			return err
		case err != nil:
			in.log.Warn("measure an objective", "objective", name, "error", err)
			failed = append(failed, name)
		}
	}
}

// measureNext measures the next objective that is due but those, and tells what came of it; "" where none is.
func (in *Intake) measureNext(ctx context.Context, but []string) (name string, err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("the program failed on it: %v", r)
		}
	}()
	err = in.store.Tx(ctx, func(tx *store.Tx) error { return in.measureOne(tx, but, &name) })
	if err != nil || name == "" {
		return name, err
	}
	return name, in.tellObjective(ctx, name)
}

// measureOne measures one objective as far as its minutes are over, and gives its name; "" where none is left.
func (in *Intake) measureOne(tx *store.Tx, but []string, name *string) error {
	end := in.clock().UTC().Add(-measureLag).Truncate(objective.Step)
	row, err := tx.UnmeasuredObjective(end, but)
	if err != nil || row == nil {
		return err
	}
	*name = row.Name
	o, err := readObjective(tx, row)
	if err != nil {
		// What cannot be read any more is not measured, and says so.
		in.log.Warn("read an objective", "objective", row.Name, "error", err)
		return tx.Measured(row, []objective.Measured{{At: end, Unknown: reading.Why(err.Error())}}, end)
	}
	from := row.MeasuredUntil.UTC()
	if oldest := end.Add(-maxBehind); from.Before(oldest) {
		from = oldest
	}
	if most := from.Add(maxMinutes * objective.Step); end.After(most) {
		end = most
	}
	minutes, end, err := in.minutes(tx, o, from, end)
	if err != nil {
		return err
	}
	if err := tx.Measured(row, minutes, end); err != nil {
		return err
	}
	sheet := in.engine.Sheet(tx)
	sheet.Changed(store.Feed{Topic: "objective", Ref: o.Name, Service: o.Service})
	return sheet.Flush()
}

// readObjective reads what an objective says in the revision that is measured.
func readObjective(tx *store.Tx, row *store.Objective) (*objective.Objective, error) {
	d, err := tx.DocumentRevision(estate.Objective, row.Name, row.Number)
	if err != nil {
		return nil, err
	}
	docs, found := estate.Parse([]estate.File{{Name: row.Name, Text: d.Text}})
	if len(docs) != 1 || docs[0].Objective == nil {
		return nil, fmt.Errorf("it is not sound under this program: %v", found)
	}
	return docs[0].Objective, nil
}

// minutes measures the minutes between two times, and says up to when: of very many readings not all are taken in at
// once.
func (in *Intake) minutes(
	tx *store.Tx, o *objective.Objective, from, end time.Time,
) ([]objective.Measured, time.Time, error) {
	targets, err := tx.SampledTargets(o.Service, o.Readings)
	if err != nil {
		return nil, end, err
	}
	var expected []string
	for _, t := range targets {
		if o.Expects(t.Labels) {
			expected = append(expected, t.Name)
		}
	}
	// Counters are compared with how they stood before, which may be longer ago than what counts as fresh.
	back := o.Fresh
	if o.Holds == nil {
		back = max(back, time.Hour)
	}
	rows, err := tx.Sampled(o.Service, o.Readings, from.Add(-back), end)
	if err != nil {
		return nil, end, err
	}
	if len(rows) == store.MaxSampled {
		if last := rows[len(rows)-1].At.UTC().Truncate(objective.Step); last.After(from) {
			end = last
		}
	}
	read := map[string][]objective.Sample{}
	for _, r := range rows {
		if slices.Contains(expected, r.Target) {
			read[r.Name] = append(read[r.Name], objective.Sample{Target: r.Target, At: r.At.UTC(), Value: r.Value})
		}
	}
	var out []objective.Measured
	for at := from.Add(objective.Step); !at.After(end); at = at.Add(objective.Step) {
		out = append(out, o.Measure(at, expected, read))
	}
	return out, end, nil
}

// Budget tells how an objective stood at the end of what is measured.
func Budget(tx *store.Tx, row *store.Objective) (*objective.Objective, objective.Budget, error) {
	o, err := readObjective(tx, row)
	if err != nil {
		return nil, objective.Budget{}, err
	}
	at := row.MeasuredUntil.UTC()
	sums, err := tx.Sums(row.Name, o.Windows(at), at)
	if err != nil {
		return nil, objective.Budget{}, err
	}
	return o, o.Stand(at, row.BeganAt.UTC(), sums), nil
}

// tellObjective raises the alerts about an objective that stand, and ends those that do not any more.
func (in *Intake) tellObjective(ctx context.Context, name string) error {
	tx := in.store.In(ctx)
	row, err := tx.Objective(name)
	if err != nil {
		return err
	}
	o, budget, err := Budget(tx, row)
	if err != nil {
		return nil // it was said as it was measured
	}
	open, err := tx.OpenKeys(store.OurSource, "objective/"+name+"/")
	if err != nil {
		return err
	}
	justHere := in.clock().Sub(in.since) < objective.BlindAfter
	for _, a := range o.Alerts(budget) {
		// What nobody was there to measure is no blindness.
		a.Unsure = a.Unsure || a.Blind && a.On && justHere
		if i := slices.Index(open, a.Key); i >= 0 {
			open = slices.Delete(open, i, i+1)
			if a.On || a.Unsure {
				continue
			}
		} else if !a.On || a.Unsure {
			continue
		}
		if err := in.tellOfObjective(ctx, o, a); err != nil {
			return err
		}
	}
	for _, key := range open { // of a burn that the objective has no more
		if err := in.tellOfObjective(ctx, o, objective.Alert{Key: key, Summary: o.Title}); err != nil {
			return err
		}
	}
	return nil
}

// tellOfObjective is an alert about an objective, or its end.
func (in *Intake) tellOfObjective(ctx context.Context, o *objective.Objective, a objective.Alert) error {
	r := alert.Report{Key: a.Key, Severity: alert.Cleared, At: alert.SaidAt(in.clock().UTC()), Service: o.Service,
		Summary: a.Summary + ": over", Labels: map[string]string{"signal": engine.SignalObjective, "objective": o.Name}}
	if a.On {
		r.Severity, r.Summary = a.Severity, a.Summary
	}
	_, err := in.Take(ctx, store.OurSource, r)
	return err
}

// endForgotten ends the alerts about objectives that are there no more.
func (in *Intake) endForgotten(ctx context.Context) error {
	keys, err := in.store.In(ctx).OpenKeys(store.OurSource, "objective/")
	if err != nil {
		return err
	}
	for _, key := range keys {
		name, _, _ := strings.Cut(strings.TrimPrefix(key, "objective/"), "/")
		known, err := in.store.In(ctx).HasObjective(name)
		if err != nil {
			return err
		}
		if known {
			continue
		}
		if _, err := in.Take(ctx, store.OurSource, alert.Report{Key: key, Severity: alert.Cleared,
			At: alert.SaidAt(in.clock().UTC()), Summary: "The objective " + name + " is there no more"}); err != nil {
			return err
		}
	}
	return nil
}

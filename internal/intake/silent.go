package intake

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"urgentis/core/alert"
	"urgentis/core/estate"
	"urgentis/core/plain"
	"urgentis/internal/store"
)

// lookEvery is how often it is asked whether sources have fallen silent, and alerts.
const lookEvery = 10 * time.Second

// expectation is what a source's document says of its silence.
type expectation struct {
	says  string
	after time.Duration // 0: it may be silent for ever
	over  time.Duration // after which its alerts are over that nothing reports; 0: never
}

// look raises an alert for each source that is silent for longer than its document says, and ends it when it is heard
// again; and it ends alerts that nothing reports any more, of sources that say so. Each instance does so; identity
// makes one alert of it.
func (in *Intake) look() {
	defer in.done.Done()
	silent, expected := map[string]bool{}, map[string]expectation{}
	for {
		select {
		case <-in.stop:
			return
		case <-time.After(lookEvery):
		}
		for _, job := range []struct {
			what string
			do   func(context.Context) error
		}{
			{"look for silent sources", func(ctx context.Context) error { return in.hear(ctx, silent, expected) }},
			{"look for alerts that are over", func(ctx context.Context) error { return in.endQuiet(ctx, expected) }},
			{"look for incidents that are over", in.closeQuiet},
			{"look for sources that are full of what cannot be read", in.tellUnparsed},
			{"note what was seen", in.noteSeen},
			{"look for keys that end soon", in.tellExpiring},
		} {
			// One that takes long costs no other its time.
			ctx, cancel := context.WithTimeout(context.Background(), lookEvery)
			if err := job.do(ctx); err != nil {
				in.log.Warn(job.what, "error", err)
			}
			cancel()
		}
	}
}

// endQuiet ends the alerts that nothing reported for as long as their source's document says. Time in which nobody was
// there to hear does not count.
func (in *Intake) endQuiet(ctx context.Context, expected map[string]expectation) error {
	for _, name := range slices.Sorted(maps.Keys(expected)) {
		x := expected[name]
		if x.over == 0 || in.clock().Sub(in.since) < x.over {
			continue
		}
		quiet, err := in.store.In(ctx).QuietAlerts(name, x.over)
		if err != nil {
			return err
		}
		items := make([]Item, len(quiet))
		for i, a := range quiet {
			items[i] = Item{
				Report: alert.Report{Key: a.Key, Severity: alert.Cleared, At: alert.SaidAt(in.clock().UTC())},
				Why:    "nothing reported it again for " + plain.Span(x.over),
			}
		}
		for _, o := range in.TakeItems(ctx, name, items) {
			if o.Err != nil {
				return o.Err
			}
		}
	}
	return nil
}

// closeAfter is how long all alerts of an incident must be over until it is closed by itself.
const closeAfter = 10 * time.Minute

// closeQuiet closes incidents all of whose alerts are over and that nobody needs to look at.
func (in *Intake) closeQuiet(ctx context.Context) error {
	numbers, err := in.store.In(ctx).Quiet(closeAfter, 0, 100)
	if err != nil {
		return err
	}
	for _, n := range numbers {
		err := in.store.Tx(ctx, func(tx *store.Tx) error {
			sheet := in.engine.Sheet(tx)
			i, err := sheet.Incident(n)
			if err != nil || i.State != "open" || i.Holder != "" {
				return err
			}
			still, err := tx.Quiet(closeAfter, n, 1)
			if err != nil || len(still) == 0 {
				return err // it is not over after all
			}
			sheet.Quiet(i)
			return sheet.Flush()
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// hear compares how long each source has been silent with what is expected of it. silent and expected are what was
// known the last time; both are brought up to date.
func (in *Intake) hear(ctx context.Context, silent map[string]bool, expected map[string]expectation) error {
	heard, err := in.store.In(ctx).Heard()
	if err != nil {
		return err
	}
	// What nobody was there to hear is no silence.
	longest := in.clock().Sub(in.since)
	for _, h := range heard {
		x, ok := expected[h.Name]
		if !ok || x.says != h.Says {
			x = expect(h.Says)
			expected[h.Name] = x
		}
		quiet := time.Duration(h.Quiet * float64(time.Second))
		is := x.after > 0 && quiet > x.after
		if was, known := silent[h.Name]; known && was == is || is && longest <= x.after {
			continue
		}
		if err := in.tellSilence(ctx, h.Name, is, x.after, min(longest, quiet)); err != nil {
			return err
		}
		silent[h.Name] = is
	}
	return nil
}

// expect reads what a document says of silence; one that cannot be read expects nothing.
func expect(says string) expectation {
	x := expectation{says: says}
	if docs, _ := estate.Parse([]estate.File{{Name: "source", Text: says}}); len(docs) == 1 && docs[0].Source != nil {
		x.after, x.over = docs[0].Source.SilentAfter, docs[0].Source.OverAfter
	}
	return x
}

// tellSilence is an alert of our own about a source, or its end.
func (in *Intake) tellSilence(ctx context.Context, source string, is bool, after, quiet time.Duration) error {
	r := alert.Report{
		Key: "silent/" + source, Severity: alert.Cleared, At: alert.SaidAt(in.clock().UTC()),
		Summary: fmt.Sprintf("The source %s is heard again", source),
		Labels:  map[string]string{"signal": "source_silent", "source": source},
	}
	switch {
	case !is && after == 0:
		r.Summary = fmt.Sprintf("The source %s may be silent", source)
	case is:
		r.Severity = alert.Warning
		r.Summary = fmt.Sprintf("Nothing was heard of the source %s for %s", source,
			plain.Span(quiet.Truncate(time.Second)))
	}
	_, err := in.Take(ctx, store.OurSource, r)
	return err
}

// lossesOver is how long nothing must be lost until the alert about losses ends.
const lossesOver = 10 * time.Minute

// losses are what listeners said last that they lost.
type losses struct {
	mu   sync.Mutex
	last map[string]lost
}

type lost struct {
	count int64
	at    time.Time
	told  bool // that it is over
}

// tellUnparsed raises an alert for each source of which as much waits to be read as is kept, so that what it sends and
// cannot be read is refused, and ends it when there is room again.
func (in *Intake) tellUnparsed(ctx context.Context) error {
	const begins = "unparsed/"
	tx := in.store.In(ctx)
	full, err := tx.FullOfUnparsed("")
	if err != nil {
		return err
	}
	told, err := tx.OpenKeys(store.OurSource, begins)
	if err != nil {
		return err
	}
	var reports []alert.Report
	for _, source := range full {
		if !slices.Contains(told, begins+source) {
			reports = append(reports, alert.Report{
				Key: begins + source, Severity: alert.Major, At: alert.SaidAt(in.clock().UTC()),
				Summary: fmt.Sprintf("As much of what %s sent and cannot be read is kept as there is room for: "+
					"the next is refused. Mend its document, and read it again", source),
				Labels: map[string]string{"signal": "unparsed_full", "source": source},
			})
		}
	}
	for _, key := range told {
		if source := strings.TrimPrefix(key, begins); !slices.Contains(full, source) {
			reports = append(reports, alert.Report{
				Key: key, Severity: alert.Cleared, At: alert.SaidAt(in.clock().UTC()),
			})
		}
	}
	for _, r := range reports {
		if _, err := in.Take(ctx, store.OurSource, r); err != nil {
			return err
		}
	}
	return nil
}

// TellLosses raises an alert where a listener of this machine lost more than it said last, and ends it when nothing was
// lost for a while.
func (in *Intake) TellLosses(ctx context.Context, listener, host string, count int64) error {
	in.losses.mu.Lock()
	defer in.losses.mu.Unlock()
	if in.losses.last == nil {
		in.losses.last = map[string]lost{}
	}
	was, known := in.losses.last[listener]
	if !known {
		was.at = in.clock()
	}
	r := alert.Report{
		Key: "lost/" + listener + "/" + host, Severity: alert.Cleared, At: alert.SaidAt(in.clock().UTC()),
		Labels: map[string]string{"signal": "messages_lost", "listener": listener, "host": host},
	}
	switch {
	case count > was.count:
		r.Severity = alert.Major
		r.Summary = fmt.Sprintf("The listener %s on %s lost %d messages since it began: there was no room for them",
			listener, host, count)
		was = lost{count: count, at: in.clock()}
	case was.told || in.clock().Sub(was.at) < lossesOver:
		in.losses.last[listener] = was
		return nil
	default:
		was.told = true
	}
	if _, err := in.Take(ctx, store.OurSource, r); err != nil {
		return err
	}
	in.losses.last[listener] = was
	return nil
}

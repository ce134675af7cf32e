package intake

import (
	"context"
	"fmt"
	"time"

	"urgentis/core/alert"
	"urgentis/core/estate"
	"urgentis/core/plain"
	"urgentis/internal/store"
)

// listenEvery is how often it is asked whether sources have fallen silent.
const listenEvery = 10 * time.Second

// expectation is what a source's document says of its silence.
type expectation struct {
	says  string
	after time.Duration // 0: it may be silent for ever
}

// listen raises an alert for each source that is silent for longer than its document says, and ends it when it is heard
// again. Each instance does so; identity makes one alert of it.
func (in *Intake) listen() {
	defer in.done.Done()
	silent, expected := map[string]bool{}, map[string]expectation{}
	for {
		select {
		case <-in.stop:
			return
		case <-time.After(listenEvery):
		}
		ctx, cancel := context.WithTimeout(context.Background(), listenEvery)
		if err := in.hear(ctx, silent, expected); err != nil {
			in.log.Warn("look for silent sources", "error", err)
		}
		cancel()
	}
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
		x.after = docs[0].Source.SilentAfter
	}
	return x
}

// tellSilence is an alert of our own about a source, or its end.
func (in *Intake) tellSilence(ctx context.Context, source string, is bool, after, quiet time.Duration) error {
	r := alert.Report{
		Key: "silent/" + source, Severity: alert.Cleared, At: in.clock().UTC(),
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

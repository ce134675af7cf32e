package source

import (
	"maps"
	"slices"
	"time"

	"urgentis/core/alert"
)

// Alert is a report of a condition.
type Alert struct{ alert.Report }

// FieldNames are the fields of a report that a source maps, in the order in which people read them.
var FieldNames = []string{"key", "severity", "summary", "service", "at", "link"}

// knownAlert makes a report of our own JSON, or of the data of an event of CloudEvents.
func knownAlert(one []byte, from *cloudEvent) (Event, string, error) {
	a := &Alert{}
	if err := decode(one, &a.Report); err != nil {
		return nil, "", err
	}
	if from == nil {
		return a, "our own JSON", nil
	}
	if a.Key == "" {
		a.Key = from.Subject
	}
	if a.At.IsZero() {
		a.At = alert.SaidAt(from.at)
	}
	return a, "CloudEvents", nil
}

func madeAlert(v *values) (Event, string) {
	return &Alert{alert.Report{
		Key: v.text["key"], Severity: alert.Severity(v.text["severity"]), Summary: v.text["summary"],
		Service: v.text["service"], Link: v.text["link"], Labels: v.labels, At: v.at,
	}}, ""
}

func (a *Alert) complete(heard alert.Heard) error { return a.Complete(heard.Time) }

func (a *Alert) fields() []said {
	out := []said{{"key", a.Key}, {"severity", string(a.Severity)}, {"summary", a.Summary}, {"service", a.Service},
		{"at", a.At.UTC().Format(time.RFC3339)}, {"link", a.Link}}
	for _, name := range slices.Sorted(maps.Keys(a.Labels)) {
		out = append(out, said{"labels." + name, a.Labels[name]})
	}
	return out
}

package tell

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestStandingOfService(t *testing.T) {
	at := time.Date(2026, 11, 29, 3, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		name        string
		facts       ServiceFacts
		state, says string
		below       []string
	}{
		{"nothing measures it", ServiceFacts{}, ServiceUnknown, "No incident is open",
			[]string{"No objective measures it: whether it is well is not known."}},
		{"kept", ServiceFacts{Kept: []string{"Clocks agree"}}, ServiceGood, "Good: “Clocks agree” is kept", nil},
		{"several kept", ServiceFacts{Kept: []string{"A", "B"}}, ServiceGood, "Good: all 2 objectives are kept", nil},
		{"one of two is not known", ServiceFacts{Kept: []string{"A"}, Blind: []string{"B"}}, ServiceUnknown,
			"Not known: nothing was measured for “B”", []string{"No incident is open."}},
		{"missed", ServiceFacts{Missed: []string{"A", "B"}, Blind: []string{"C"}}, ServiceMissed, "Objective missed: A",
			[]string{"Objective missed: B", "Nothing was measured for “C”", "No incident is open."}},
		{"the worst of those that are open, the older of two", ServiceFacts{Missed: []string{"A"}, Open: []OpenIncident{
			{1, "Old warning", "warning", at}, {3, "Younger", "critical", at.Add(2)}, {2, "Older", "critical", at.Add(1)},
		}}, ServiceBad, "Bad now: Older", []string{"Objective missed: A"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := StandingOfService(c.facts)
			assert.Equal(t, c.state, s.State)
			assert.Equal(t, c.says, s.Says)
			assert.Equal(t, c.below, s.Below)
			assert.Equal(t, s.State == ServiceBad, !s.Since.IsZero())
		})
	}
}

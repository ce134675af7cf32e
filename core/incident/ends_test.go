package incident

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// An incident of two alerts, on which two runs may work, that may be handed over, held and muted: in each of all cases
// it ends only where nothing of it is open, and never better than the worst that was said of it.
func TestEndsOfTwoAlertsAndTwoRuns(t *testing.T) {
	at := time.Date(2031, 3, 1, 2, 10, 0, 0, time.UTC)
	fates := append([]string{"cleared", "open", "muted", "worse"}, Outcomes...)
	n := 0
	for _, a := range fates {
		for _, b := range fates {
			for bits := range 16 {
				works, handed, held, quiet := bits&1 > 0, bits&2 > 0, bits&4 > 0, bits&8 > 0
				now := Now{Quiet: quiet}
				for i, f := range []string{a, b} {
					u := Unsettled{Alert: fmt.Sprint(i), Summary: fmt.Sprint("alert ", i), Severity: "major", Why: NoRunWorked}
					switch f {
					case "cleared":
						now.Untreated = true
					case "open":
						now.Unsettled = append(now.Unsettled, u)
					case "muted":
						u.MutedUntil = at
						now.Unsettled = append(now.Unsettled, u)
					case "worse":
						u.Why = WorseSince
						now.Unsettled = append(now.Unsettled, u)
						now.Treated = append(now.Treated, Treated{Outcome: Repaired})
					default:
						now.Treated = append(now.Treated, Treated{Outcome: f, Because: f + " it is"})
					}
				}
				if works {
					now.Working = []string{"mender"}
				}
				if handed {
					now.HandOvers = []HandOver{{Run: "r1", Runbook: "mender", To: "on-call/quayside", At: at}}
				}
				if held {
					now.Holder = "mara"
				}
				e := Ends(now)
				says := fmt.Sprint(a, " ", b, " ", bits)
				n++
				open := slices.ContainsFunc([]string{a, b}, func(f string) bool {
					return f == "open" || f == "muted" || f == "worse"
				})
				treated := len(now.Treated) > 0
				ends := !open && !works && !handed && !held && (treated || quiet)
				require.Equal(t, ends, e.Outcome != "", says)
				require.Equal(t, open || works || handed || held, len(e.Open) > 0, says)
				require.Equal(t, works, e.Works, says)
				require.Equal(t, held, e.Kept == "mara", says)
				if !ends {
					continue
				}
				for _, f := range []string{a, b} {
					if f == "cleared" {
						f = ClearedItself
					}
					require.LessOrEqual(t, weight(e.Outcome), weight(f), "%s: %s is better than %s", says, e.Outcome, f)
				}
				require.NotEmpty(t, e.Because, says)
			}
		}
	}
	assert.Equal(t, 10*10*16, n)
}

func TestWhatKeepsAnIncidentOpenIsSaid(t *testing.T) {
	at := time.Date(2031, 3, 1, 2, 10, 0, 0, time.UTC)
	disk := Unsettled{Summary: "The disk is full", Severity: "critical", Why: NoRunWorked}
	for want, n := range map[string]Now{
		"The disk is full is open (critical): no runbook worked on it": {Unsettled: []Unsettled{disk}},
		"mender still works; handed over to on-call/quayside at 02:10 UTC; mara has it and closes it": {
			Working: []string{"mender"}, HandOvers: []HandOver{{To: "on-call/quayside", At: at}}, Holder: "mara"},
		"mender ended as failed at 02:10 UTC": {HandOvers: []HandOver{{Runbook: "mender", State: "failed", At: at}}},
		"The disk is full is open (critical): no runbook worked on it; The disk is full is open (critical): no runbook " +
			"worked on it; The disk is full is open (critical): no runbook worked on it; 7 more alerts are open": {
			Unsettled: []Unsettled{disk, disk, disk, disk, disk}, More: 5},
		"planned work until 02:10 UTC": {Unsettled: []Unsettled{{Summary: "x", MutedUntil: at}}},
		"":                             {},
	} {
		assert.Equal(t, want, Ends(n).Says())
	}
	assert.Empty(t, Ends(Now{Untreated: true}).Outcome, "what clears by itself is looked at for a while")
	assert.Equal(t, ClearedItself, Ends(Now{Untreated: true, Quiet: true}).Outcome)
	assert.Equal(t, ClearedItself, Ends(Now{Untreated: true, Treated: []Treated{{Outcome: FalseAlarm}}}).Outcome)
}

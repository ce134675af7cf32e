package route

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/alert"
)

// Two things in one incident, of any severity, each raised before or after somebody took it, muted or not, worked on or
// not, looked at before and after a runbook had its time: somebody is called exactly where one of them is bad, unmuted,
// taken by nobody, and without a runbook that still has time.
func TestAttentionOfTwoThings(t *testing.T) {
	w := quayside(t)
	at := func(minutes int) time.Time { return night.Add(time.Duration(minutes) * time.Minute) }
	n := 0
	var items []Item
	for _, severity := range []alert.Severity{alert.Critical, alert.Major, alert.Minor, alert.Warning} {
		for _, since := range []int{0, 20} {
			for _, muted := range []time.Time{{}, at(90)} {
				for _, works := range []bool{false, true} {
					items = append(items, Item{string(severity), at(since), muted, works})
				}
			}
		}
	}
	for _, a := range items {
		for _, b := range items {
			for _, taken := range []int{-1, 0, 10, 30} {
				for _, now := range []int{5, 25, 31, 100} {
					m := &Matter{Open: true, Items: []Item{a, b}}
					if taken >= 0 {
						m.Holder, m.TakenAt = "mara", at(taken)
					}
					want, since := false, time.Time{}
					for _, x := range m.Items {
						bad := x.Severity == "critical" || x.Severity == "major"
						has := taken >= 0 && !at(taken).Before(x.Since)
						time := x.Works && at(now).Before(x.Since.Add(DefaultPage))
						if !bad || has || time || x.MutedUntil.After(at(now)) {
							continue
						}
						if want = true; since.IsZero() || x.Since.Before(since) {
							since = x.Since
						}
					}
					got := Attention(m, w, at(now))
					says := fmt.Sprint(a, b, taken, now)
					require.Equal(t, want, len(got.Calls) == 1, says)
					require.Equal(t, want, got.Nobody == "", says)
					if want {
						require.Equal(t, since, got.Calls[0].Since, says)
					}
					if !got.LookAt.IsZero() {
						require.True(t, got.LookAt.After(at(now)), says)
						later := Attention(m, w, got.LookAt)
						other := len(later.Calls) == 1 || later.Nobody != got.Nobody || later.LookAt != got.LookAt
						require.True(t, other, "it is another answer then: %s", says)
					}
					n++
				}
			}
		}
	}
	assert.Equal(t, 32*32*4*4, n)
}

func TestAttention(t *testing.T) {
	w := quayside(t)
	w.People["otto"].Decides = false
	gate := Want{Thing: "gate/1", Kind: ApprovalNeeded, Since: night}
	critical := Item{Severity: "critical", Since: night}
	kinds := func(m Matter) (out []Kind) {
		for _, c := range Attention(&m, w, night.Add(time.Hour)).Calls {
			out = append(out, c.Kind)
		}
		return out
	}
	after := night.Add(time.Minute)
	for name, c := range map[string]struct {
		m    Matter
		want []Kind
	}{
		"over":           {Matter{Items: []Item{critical}, Wants: []Want{gate}}, nil},
		"nobody works":   {Matter{Open: true, Items: []Item{critical}}, []Kind{NobodyStarted}},
		"a gate":         {Matter{Open: true, Wants: []Want{gate}}, []Kind{ApprovalNeeded}},
		"a gate, taken":  {Matter{Open: true, Wants: []Want{gate}, Holder: "mara", TakenAt: after}, nil},
		"by who may not": {Matter{Open: true, Wants: []Want{gate}, Holder: "otto", TakenAt: after}, []Kind{ApprovalNeeded}},
		"before it was asked": {Matter{Open: true, Wants: []Want{gate}, Holder: "mara", TakenAt: night.Add(-1)},
			[]Kind{ApprovalNeeded}},
		"handed on, not taken": {Matter{Open: true, Items: []Item{critical}, Holder: "mara"}, []Kind{NobodyStarted}},
		"set to minor by hand": {Matter{Open: true, Items: []Item{critical}, SetSeverity: "minor", SetAt: after}, nil},
		"worse since that": {Matter{Open: true, Items: []Item{{Severity: "critical", Since: after.Add(1)}},
			SetSeverity: "minor", SetAt: after}, []Kind{NobodyStarted}},
		"set to major by hand": {Matter{Open: true, Items: []Item{{Severity: "minor", Since: night}}, SetSeverity: "major",
			SetAt: after}, []Kind{NobodyStarted}},
	} {
		assert.Equal(t, c.want, kinds(c.m), name)
	}
	w.Routes = append(w.Routes, &Route{Name: "patient", Page: 3 * time.Hour, Tell: []string{"room/quay"}})
	assert.Empty(t, kinds(Matter{Open: true, Items: []Item{{Severity: "critical", Since: night, Works: true}}}))
}

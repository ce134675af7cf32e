package route

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// TestWhoIsToldAheadIsTold plays notices of generated kinds, in a world in which everything arrives and nobody takes
// anything, and holds who was to be told against who was.
func TestWhoIsToldAheadIsTold(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		w := quayside(t)
		n := &Notice{
			Kind:  rapid.SampledFrom([]Kind{IncidentPage, ApprovalNeeded, AnswerNeeded, Said}).Draw(t, "kind"),
			To:    rapid.SampledFrom([]string{"", "team/quayside", "on-call/quayside", "person/iva"}).Draw(t, "to"),
			Owner: "quayside", Urgent: rapid.Bool().Draw(t, "urgent"), Severity: "critical", At: night,
			Holder: rapid.SampledFrom([]string{"", "iva"}).Draw(t, "holder"),
		}
		until := night.Add(time.Duration(rapid.IntRange(0, 90).Draw(t, "minutes")) * time.Minute)
		first := Next(n, Stood{}, nil, w, night)
		var told []Told
		for _, s := range first.Send {
			told = append(told, Told{To: s.To, Contact: s.Contact, Rung: s.Rung, At: night})
		}
		var came []string
		stood, at := first.Stood, first.LookAt
		for !at.IsZero() && !at.After(until) && len(came) < 20 {
			d := Next(n, stood, told, w, at)
			for _, s := range d.Send {
				told = append(told, Told{To: s.To, Contact: s.Contact, Rung: s.Rung, At: at})
				if Room(s.To) == "" {
					came = append(came, at.Format("15:04:05 ")+s.To)
				}
			}
			stood = d.Stood
			if !d.LookAt.After(at) {
				break
			}
			at = d.LookAt
		}
		told = nil
		for _, s := range first.Send {
			told = append(told, Told{To: s.To, Contact: s.Contact, Rung: s.Rung, At: night})
		}
		var foreseen []string
		for _, l := range Foretell(n, first.Stood, told, w, night, until).Later(night) {
			for _, p := range l.People {
				foreseen = append(foreseen, l.At.Format("15:04:05 ")+p)
			}
		}
		assert.ElementsMatch(t, unique(came), unique(foreseen))
	})
}

func unique(list []string) []string {
	seen := map[string]bool{}
	out := []string{}
	for _, x := range list {
		if !seen[x] {
			seen[x] = true
			out = append(out, x)
		}
	}
	return out
}

func TestAheadNamesTheNextRung(t *testing.T) {
	w := quayside(t)
	n := &Notice{Kind: ApprovalNeeded, To: "on-call/quayside", Owner: "quayside", Urgent: true, Severity: "critical",
		At: night}
	d := Next(n, Stood{}, nil, w, night)
	var told []Told
	for _, s := range d.Send {
		told = append(told, Told{To: s.To, Contact: s.Contact, Rung: s.Rung, At: night})
	}
	ahead := Foretell(n, d.Stood, told, w, night, night.Add(20*time.Minute)).Later(night)
	assert.NotEmpty(t, ahead)
	assert.Equal(t, []string{"mara"}, ahead[0].People, "by her other way")
	assert.Equal(t, []string{"jonas"}, ahead[1].People)
	assert.Empty(t, Foretell(n, d.Stood, told, w, night, night.Add(time.Second)).Later(night))
}

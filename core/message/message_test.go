package message

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"urgentis/core/route"
)

func TestForms(t *testing.T) {
	m := &Message{
		Kind: route.ApprovalNeeded, Subject: "Approve? Restart <b>2</b> workers", Link: "https://u/incidents/7",
		Lines: []Line{
			{Name: "Why", Text: "depth 2600 > 300"},
			{Name: "What runs", Text: "restart a\nrestart b", Fixed: true},
		},
		Choices: []Choice{
			{"open", "Look and decide", "https://u/a/k1"},
		}, Also: []string{"It is worse"}, Why: "You are on call.",
	}
	assert.Equal(
		t,
		"Approve? Restart <b>2</b> workers\nWhy: depth 2600 > 300\nWhat runs:\n    restart a\n    restart b\n"+
			"Also: It is worse\nLook and decide: https://u/a/k1\nhttps://u/incidents/7",
		m.Text(),
	)
	assert.NotContains(t, m.HTML(), "<b>2", "it is escaped")
	assert.Contains(t, m.HTML(), "Why")
	short := m.Short(60)
	assert.LessOrEqual(t, len([]rune(short)), 60)
	assert.True(t, strings.HasSuffix(short, "https://u/a/k1"), short)
}

func TestAShortMessageKeepsItsLink(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := &Message{
			Subject: rapid.String().Draw(t, "subject"),
			Link: "https://u/" + rapid.StringMatching(`[a-z]{0,20}`).
				Draw(t, "link"),
		}
		for range rapid.IntRange(0, 5).Draw(t, "lines") {
			m.Lines = append(m.Lines, Line{Name: "n", Text: rapid.String().Draw(t, "text")})
		}
		most := rapid.IntRange(60, 400).Draw(t, "most")
		short := m.Short(most)
		if len([]rune(short)) > most || !strings.HasSuffix(short, m.Link) {
			t.Fatalf("%q", short)
		}
	})
}

func TestFold(t *testing.T) {
	at := time.Date(2026, 11, 25, 3, 0, 0, 0, time.UTC)
	opened := &Message{Kind: route.IncidentOpened, Subject: "opened", At: at}
	worse := &Message{Kind: route.IncidentWorse, Subject: "worse", At: at.Add(time.Second)}
	gate := &Message{Kind: route.ApprovalNeeded, Urgent: true, Subject: "approve?", At: at.Add(time.Second)}
	over := &Message{Kind: route.IncidentClosed, Subject: "closed", At: at.Add(time.Minute)}
	m := Fold([]*Message{opened, gate, worse, worse})
	assert.Equal(t, "approve?", m.Subject)
	assert.Equal(t, []string{"worse"}, m.Also, "the facts say that it began")
	assert.Equal(t, "closed", Fold([]*Message{gate, over}).Subject)
	assert.Equal(t, "worse", Fold([]*Message{opened, worse}).Subject, "the newest of equals")
	assert.Empty(t, opened.Also)
}

// Every kind leads somewhere by some way: to single people, or by a word that names it.
func TestEveryKindCanBeTold(t *testing.T) {
	for _, k := range Kinds {
		assert.True(t, k.Personal || len(k.Named) > 0, "nothing can ever be told by a connection of the kind %s", k.Name)
		assert.False(t, k.Addressed && !k.Personal, k.Name)
		for _, key := range k.Needs {
			assert.NotContains(t, k.May, key, k.Name)
		}
		assert.Equal(t, k.Name, KindNamed(k.Name).Name)
	}
	assert.Empty(t, KindNamed("pigeon").Name)
	_, err := KindNamed(Mail).Address("Mara <mara@merrow.example>")
	assert.ErrorContains(t, err, "is no mail address such as")
}

package tell

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/flow"
	"urgentis/core/runbook"
)

// The way through a procedure forgets what somebody went back over, names answers by their labels, tells what answered
// itself from what a person said, and leaves out questions about what became of a change.
func TestQuestionsOf(t *testing.T) {
	b, found := runbook.Parse([]byte(header + `steps:
  - ask: Is it the lamp?
    choices:
      yes_lamp:
        label: Yes, the lamp
        steps:
          - ask: Is it red?
            choices: {red: go on}
  - ask: Who comes?
    choices: {porter: go on}
  - close: repaired
    because: b
`))
	require.False(t, found.Failed(), found.Format("x", nil))
	began := time.Date(2026, 11, 29, 3, 0, 0, 0, time.UTC)
	lamp, red, who := "1", "1.choices.yes_lamp.1", "2"
	var log []flow.Event
	add := func(place string, body flow.Body) {
		log = append(log, flow.Event{At: began.Add(time.Duration(len(log)) * time.Minute), Place: flow.PlaceOf(place),
			Body: body})
	}
	raise := func(id, place string) {
		add(place, flow.QuestionRaised{Question: id, Text: "t", Labels: map[string]string{"yes_lamp": "Yes, the lamp"}})
	}
	says := func() string {
		out := ""
		for _, q := range QuestionsOf(b, log) {
			out += fmt.Sprintf("%s [%s|%s|%v] ", q.Title, q.Answer, q.By, q.Open)
		}
		return out
	}
	raise("q1", lamp)
	assert.Equal(t, "Is it the lamp? [||true] ", says())
	add(lamp, flow.QuestionAnswered{Question: "q1", Choice: "yes_lamp", By: "iva"})
	raise("q2", red)
	assert.Equal(t, "Is it the lamp? [Yes, the lamp|iva|false] Is it red? [||true] ", says())
	add(red, flow.QuestionAnswered{Question: "q2", Choice: runbook.Back, By: "iva"})
	raise("q3", lamp)
	assert.Equal(t, "Is it the lamp? [||true] ", says(), "back again")
	add(lamp, flow.QuestionAnswered{Question: "q3", Choice: "yes_lamp", By: flow.Itself})
	add("2", flow.QuestionRaised{Question: "u", Attempt: "a1", Text: "Did it happen?"})
	raise("q4", who)
	add(who, flow.QuestionExpired{Question: "q4"})
	assert.Equal(t, "Is it the lamp? [Yes, the lamp||false] Who comes? [||false] ", says())
}

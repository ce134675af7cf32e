package scheduled

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"urgentis/core/flow"
)

func TestWhyALookDidNotGiveAll(t *testing.T) {
	ended := func(exit int) flow.Outcome { return flow.Outcome{State: flow.Failed, Exit: &exit} }
	for want, o := range map[string]flow.Outcome{
		"pier-1: no answer": {State: flow.Failed, Error: "no answer"}, "pier-1: it failed": {State: flow.Failed},
		"pier-1: it answered 404": ended(404), "pier-1: it ended with exit 127": ended(127),
		"pier-1: depth is missing: no match": {State: flow.OK, Missing: map[string]string{"depth": "no match", "lag": "x"}},
	} {
		assert.Equal(t, want, troubleOf("pier-1", o))
	}
}

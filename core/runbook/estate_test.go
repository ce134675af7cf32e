package runbook

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestARunbookAgainstTheEstate(t *testing.T) {
	b, found := Parse([]byte(first))
	require.NotNil(t, b, found)
	role := func(r string) map[string]string { return map[string]string{"role": r, "berth": "north"} }
	for _, c := range []struct {
		what   string
		estate Estate
		want   string
	}{
		{"all is there", Estate{[]string{"berths"}, []EstateTarget{{"broker-1", role("consumer")}}}, ""},
		{"no such service", Estate{[]string{"berth", "fares"}, nil}, "there is no service berths; did you mean berth?"},
		{"no such value", Estate{[]string{"berths"}, []EstateTarget{{"a", role("consumers")}, {"b", role("broker")}}},
			"no target of the service berths has role: consumer; there are consumers, broker; did you mean consumers?"},
		{"no such label", Estate{[]string{"berths"}, []EstateTarget{{"a", nil}}}, "no target of the service berths " +
			"has a label role"},
		{"no targets", Estate{[]string{"berths"}, nil}, "no target of the service berths has a label role"},
	} {
		found := b.Against(c.estate)
		if c.want == "" {
			assert.Empty(t, found, c.what)
			continue
		}
		require.NotEmpty(t, found, c.what)
		assert.Equal(t, c.want, found[0].Sentence(), c.what)
		assert.True(t, found[0].Warning)
		assert.NotEqual(t, 1, found[0].Line, c.what)
	}
}

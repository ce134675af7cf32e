package leave

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/task"
)

func TestDecide(t *testing.T) {
	for _, c := range []struct {
		q    Question
		want Verdict
	}{
		{Question{Stance: Act}, Yes},
		{Question{Stance: Act, HasGate: true}, Gate},
		{Question{Stance: Ask}, Gate},
		{Question{}, Gate}, // an unknown stance asks
		{Question{Stance: Suggest}, No},
		{Question{Stance: Act, Halted: true}, No},
		{Question{Stance: Ask, HasGate: true, Halted: true}, No},
		{Question{Stance: Act, Unpinned: []string{"a"}}, No},
	} {
		a := Decide(c.q)
		assert.Equal(t, c.want, a.Verdict, c.q)
		assert.NotEmpty(t, a.Reasons)
	}
}

// Every field of a proposal counts in its digest.
func TestDigestCoversEverything(t *testing.T) {
	full := Proposal{Runbook: "a", Revision: "b", Path: "5", Until: "9", Requests: []task.Request{{
		Kind: "ssh", Target: task.Facts{
			Name: "h", Address: "127.0.0.1", Port: 22, Account: "ops", HostKey: "k", Secret: "s@1"},
		Words: []string{"a", "b"},
		Env:   map[string]string{"A": "1"},
		As:    "root", Method: "POST", URL: "http://a/", Headers: map[string]string{"X": "1"}, Body: "b",
		Accept: []int{0}, Timeout: 5, Undo: &task.Request{Kind: "ssh"}}}}
	base, err := full.Digest()
	require.NoError(t, err)
	raw, _ := json.Marshal(full)
	var tree any
	require.NoError(t, json.Unmarshal(raw, &tree))
	n := 0
	var visit func(v any, set func(any))
	visit = func(v any, set func(any)) {
		switch x := v.(type) {
		case map[string]any:
			for k := range x {
				visit(x[k], func(nv any) { x[k] = nv })
			}
		case []any:
			for i := range x {
				visit(x[i], func(nv any) { x[i] = nv })
			}
		default:
			var other any = "other"
			if _, num := v.(float64); num {
				other = 77
			}
			set(other)
			changed, _ := json.Marshal(tree)
			var p Proposal
			require.NoError(t, json.Unmarshal(changed, &p))
			d, err := p.Digest()
			require.NoError(t, err)
			assert.NotEqual(t, base, d, string(changed))
			set(v)
			n++
		}
	}
	visit(tree, nil)
	assert.GreaterOrEqual(t, n, 18)
	// Words do not run together.
	a, _ := Proposal{Requests: []task.Request{{Words: []string{"ab", "c"}}}}.Digest()
	b, _ := Proposal{Requests: []task.Request{{Words: []string{"a", "bc"}}}}.Digest()
	assert.NotEqual(t, a, b)
}

func TestDiffer(t *testing.T) {
	was := []task.Facts{{Name: "a", Address: "x", Port: 22, HostKey: "k"}, {Name: "b"}}
	assert.Empty(t, Differ(was, was))
	assert.Equal(
		t,
		[]string{"the host key of a was k and is j", "target b is gone"},
		Differ(was, []task.Facts{{Name: "a", Address: "x", Port: 22, HostKey: "j"}}),
	)
}

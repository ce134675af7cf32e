package trigger

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"urgentis/core/alert"
	"urgentis/core/expr"
)

func triggers(t require.TestingT, conditions ...string) []Trigger {
	c, err := expr.NewCompiler(expr.Schema{})
	require.NoError(t, err)
	var out []Trigger
	for i, s := range conditions {
		p, err := c.Compile(s, expr.InStart)
		require.NoError(t, err, s)
		out = append(out, Trigger{Runbook: fmt.Sprint("r", i), Name: s, Start: &Start{Alert: p}})
	}
	return out
}

// The index finds exactly what evaluating every condition finds.
func TestIndexAgreesWithEvaluation(t *testing.T) {
	vals := []string{"a", "b", ""}
	conds := []string{
		`alert.severity == "major"`,
		`alert.summary != "x"`,
		`alert.labels.q == "a" || alert.source == "b"`,
		`alert.labels.q == "a" && alert.labels.q == "b"`,
		`"q" in alert.labels && alert.labels.q == "a"`,
		`alert.count == 3 && alert.source == "a"`,
	}
	for _, f := range []string{"labels.q", "source", "service"} {
		for _, v := range vals {
			conds = append(conds, fmt.Sprintf(`alert.%s == %q && alert.severity in ["major", "minor"]`, f, v))
		}
	}
	x := New(triggers(t, conds...))
	rapid.Check(t, func(rt *rapid.T) {
		pick := func(n string) string { return rapid.SampledFrom(vals).Draw(rt, n) }
		a := map[string]any{
			"severity": rapid.SampledFrom([]string{"major", "minor", "critical"}).Draw(rt, "s"),
			"source":   pick("source"),
			"service":  pick("service"),
			"summary":  "x",
			"labels":   map[string]string{"q": pick("q")},
			"count":    int64(3),
		}
		if rapid.Bool().Draw(rt, "bare") {
			a["labels"] = map[string]string{}
		}
		want := map[string]bool{}
		for _, v := range x.Explain(a, alert.New) {
			if v.Started {
				want[v.Name] = true
			}
		}
		got := map[string]bool{}
		for _, v := range x.Match(a, alert.New) {
			if v.Started {
				got[v.Name] = true
			}
		}
		if len(want) != len(got) {
			rt.Fatalf("want %v, got %v", want, got)
		}
		for k := range want {
			if !got[k] {
				rt.Fatalf("missed %s", k)
			}
		}
	})
}

func TestExplainTellsWhichPartDecided(t *testing.T) {
	x := New(triggers(t, `alert.severity == "critical"`))
	v := x.Explain(map[string]any{"severity": "minor"}, alert.Worse)
	assert.Equal(t, []expr.Value{{Part: "alert.severity", Text: "minor"}}, v[0].Values)
	assert.False(t, v[0].Started)
}

func BenchmarkMatch(b *testing.B) {
	for _, n := range []int{1000, 10000} {
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			var conds []string
			for i := range n {
				conds = append(
					conds,
					fmt.Sprintf(`alert.labels.signal == "s%d" && alert.severity in ["critical", "major"]`, i),
				)
			}
			x := New(triggers(b, conds...))
			a := map[string]any{"severity": "major", "labels": map[string]string{"signal": "s77"}}
			for b.Loop() {
				if len(x.Match(a, alert.New)) != 1 {
					b.Fatal("not matched")
				}
			}
		})
	}
}

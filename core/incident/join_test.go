package incident

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"urgentis/core/expr"
)

func compile(t *testing.T, text string) *expr.Program {
	t.Helper()
	c, err := expr.NewCompiler(expr.Schema{})
	require.NoError(t, err)
	p, err := c.Compile(text, expr.InStart)
	require.NoError(t, err)
	return p
}

func TestNear(t *testing.T) {
	d := NewDepends(map[string][]string{
		"gates": {"fares", "clocks"}, "fares": {"disks", "net"}, "clocks": {"net"}, "net": {"power"},
		"power": {"grid"}, "grid": {"power"},
	})
	both := []Direction{DependsOn, NeededBy}
	for _, c := range []struct {
		of    string
		along []Direction
		want  []string
	}{
		{"gates", []Direction{DependsOn}, []string{"fares", "clocks", "disks", "net", "power"}},
		{"power", []Direction{NeededBy}, []string{"grid", "net", "clocks", "fares", "gates"}},
		{"fares", both, []string{"disks", "net", "gates", "power", "grid"}},
		{"grid", []Direction{DependsOn}, []string{"power"}}, // a circle
		{"gates", nil, nil},
		{"unknown", both, nil},
		{"", both, nil},
	} {
		assert.Equal(t, c.want, d.Near(c.of, c.along), "%s along %v", c.of, c.along)
	}
	var none *Depends
	assert.Empty(t, none.Near("gates", both))
}

// TestNearAgainstASlowReference counts steps between all services instead.
func TestNearAgainstASlowReference(t *testing.T) {
	names := []string{"a", "b", "c", "d", "e", "f", "g"}
	rapid.Check(t, func(t *rapid.T) {
		needs := map[string][]string{}
		for _, n := range names {
			needs[n] = rapid.SliceOfNDistinct(rapid.SampledFrom(names), 0, 3, rapid.ID).Draw(t, n)
		}
		steps := map[[2]string]int{}
		for n, list := range needs {
			for _, to := range list {
				steps[[2]string{n, to}] = 1
			}
		}
		for _, via := range names {
			for _, from := range names {
				for _, to := range names {
					one, two := steps[[2]string{from, via}], steps[[2]string{via, to}]
					if was := steps[[2]string{from, to}]; one > 0 && two > 0 && (was == 0 || one+two < was) {
						steps[[2]string{from, to}] = one + two
					}
				}
			}
		}
		d := NewDepends(needs)
		for _, from := range names {
			near := d.Near(from, []Direction{DependsOn})
			at := 0
			for _, to := range near {
				n := steps[[2]string{from, to}]
				require.NotZero(t, n, "%s does not need %s", from, to)
				require.GreaterOrEqual(t, n, at, "the nearest first")
				at = n
			}
			for _, to := range names {
				n := steps[[2]string{from, to}]
				require.Equal(
					t,
					from != to && n > 0 && n <= maxSteps,
					slices.Contains(near, to),
					"%s to %s: %d",
					from,
					to,
					n,
				)
				require.Equal(t, slices.Contains(near, to), slices.Contains(d.Near(to, []Direction{NeededBy}), from))
			}
		}
	})
}

func TestKeysAlongDependencies(t *testing.T) {
	d := NewDepends(map[string][]string{"gates": {"fares"}, "fares": {"disks"}})
	along := &Join{Name: "pier", By: []*expr.Program{compile(t, "alert.service")}, Within: time.Minute,
		Also: []Direction{DependsOn}}
	here := func(service string) map[string]any { return map[string]any{"service": service} }
	keys := func(service string) Keys { return KeysOf([]*Join{along}, d, here(service)) }

	gates, fares, disks := keys("gates"), keys("fares"), keys("disks")
	assert.Equal(t, []string{fares.Own, disks.Own, "service:gates"}, gates.Others)
	assert.Equal(t, []string{disks.Own, "service:fares"}, fares.Others)
	assert.Equal(t, []string{"service:disks"}, disks.Others)
	assert.Equal(t, time.Minute, gates.Within)
	assert.Equal(t, append([]string{gates.Own}, gates.Others...), gates.All())

	some := &Join{Name: "some", When: compile(t, `alert.service == "gates"`), By: along.By, Also: along.Also}
	assert.Equal(t, []string{"service:gates"}, KeysOf([]*Join{some}, d, here("gates")).Others,
		"the join does not speak of the others")
	k := KeysOf([]*Join{some}, d, here("fares"))
	assert.Equal(t, "service:fares", k.Wide)
	assert.Equal(t, []string{k.Own, "service:fares"}, k.All())
	assert.Equal(t, k.All(), k.Set())
	assert.Equal(t, []string{gates.Own}, gates.Set(), "what a join speaks of joins by nothing else")
	assert.Empty(t, KeysOf(nil, d, here("")).All())
	own := func(labels map[string]string, source, key string) string {
		return KeysOf(nil, d, map[string]any{"service": "s", "labels": labels, "source": source, "key": key}).Own
	}
	assert.Equal(t, own(nil, "mon", "quay-1/disk"), own(nil, "mon", "quay-23/disk"))
	assert.NotEqual(t, own(nil, "mon", "quay-1/disk"), own(nil, "mon", "quay-1/load"))
	assert.NotEqual(t, own(nil, "mon", "quay-1/disk"), own(nil, "other", "quay-1/disk"))
	signal := map[string]string{"signal": "disk"}
	assert.Equal(t, own(signal, "mon", "a"), own(signal, "other", "b"), "two monitors that tell of the same")
}

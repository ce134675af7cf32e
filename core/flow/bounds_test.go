package flow

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func numbers(n int) string {
	out := make([]string, n)
	for i := range out {
		out[i] = fmt.Sprint(i)
	}
	return "[" + strings.Join(out, ", ") + "]"
}

// Items within items are bounded in all, not only each by itself.
func TestTheStepsOfARunAreBounded(t *testing.T) {
	const nested = `
limits: {steps: %d}
steps:
  - each: Outer
    over: '%s'
    at_once: 1
    steps:
      - each: Inner
        over: '%s'
        at_once: 30
        steps: [{note: N, text: n}]
`
	p := play(t, fmt.Sprintf(nested, 500, numbers(30), numbers(30))+closing)
	end := p.run()
	assert.Equal(t, HandedOver, end.State)
	assert.Contains(
		t,
		end.Because,
		"The run has begun 500 steps, and may begin no more; limits.steps can say another number.",
	)
	assert.Less(t, len(p.log), 1500)
	assert.LessOrEqual(t, len(find[Noted](p)), 500)

	p = play(t, fmt.Sprintf(nested, 2000, numbers(30), numbers(30))+closing)
	assert.Equal(t, Done, p.run().State)
	assert.Len(t, find[Noted](p), 900)
}

func TestTheReadingsOfARunAreBounded(t *testing.T) {
	p := play(t, `
steps:
  - each: Outer
    over: '`+numbers(100)+`'
    at_once: 1
    steps:
      - look: Much
        where: {name: g1}
        run: [much]
        read: {much: {whole: true}}
`+closing)
	much := strings.Repeat("x", 1<<20)
	p.says = func(Intent) string { return much }
	end := p.run()
	assert.Equal(t, HandedOver, end.State)
	assert.Contains(t, end.Because, "64 MiB of readings")
	assert.Less(t, len(find[Outcome](p)), 70)
}

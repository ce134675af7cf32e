package runbook

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// shipped are the files of the runbooks that come with the program, without those of their cases.
func shipped(t *testing.T) []string {
	var out []string
	for _, folder := range []string{"../../examples/ferry/runbooks/", "../../library/"} {
		files, err := filepath.Glob(folder + "*.yaml")
		require.NoError(t, err)
		for _, f := range files {
			if !strings.HasSuffix(f, ".cases.yaml") {
				out = append(out, f)
			}
		}
	}
	return out
}

// drawn are the runbooks whose pictures are judged: the examples, and one with all that can stand in a picture.
func drawn(t *testing.T) map[string]*Book {
	files := shipped(t)
	require.NotEmpty(t, files)
	out := map[string]*Book{}
	read := func(name string, src []byte) {
		b, f := Parse(src)
		require.NotNil(t, b, f.Format(name, src))
		out[name] = b
	}
	for _, f := range files {
		src, err := os.ReadFile(f)
		require.NoError(t, err)
		read(filepath.Base(f), src)
	}
	read("everything", []byte(everything))
	return out
}

const everything = `urgentis: runbook/1
name: everything
title: All that can stand in a picture, with a title that does not fit on one line of a node
owner: quayside
service: gates
starts:
  one: {alert: alert.severity == "critical", steady: 30s}
  two: {alert: alert.severity == "major", at_most: 2 per 1h}
steps:
  - look: Count
    id: count
    where: {role: gate}
    run: [count]
    read: {n: {json: .n, type: integer}}
  - change: A block
    id: block
    gate: {ask: team/quayside, within: 5m, people: 2, comment: true, refused: stop, unanswered: [{tell: Nobody}]}
    on_error: undo
    steps:
      - change: Restart
        id: restart
        where: {role: gate}
        run: [restart]
        still: own(readings.n) > 1
        undo: {run: [stop]}
      - check: Better?
        retake: count
        that: max(readings.n) < 1
        proves: restart
        fails: stop
  - together: Two at once
    branches:
      left:
        - look: Left
          where: {role: gate}
          run: [left]
      right:
        - each: All
          where: {role: gate}
          at_once: 2
          steps:
            - look: Right
              run: [right]
          between:
            - wait: A moment
              for: 1s
  - ask: What now?
    when: max(readings.n) > 3
    otherwise:
      - tell: Few
    choices:
      again: go on
      more:
        label: More of it
        steps:
          - look: More
            where: {role: gate}
            run: [more]
on_error:
  - tell: Trouble
finally:
  - tell: Last
if_cleared: stop
if_worse:
  - tell: Worse
`

// segment is a straight piece of an edge, from its smaller to its larger end.
type segment struct {
	x1, y1, x2, y2 float64
	edge           *Edge
}

func segments(t *testing.T, e *Edge) []segment {
	var out []segment
	var x, y float64
	rest := e.D
	for rest != "" {
		var v, w float64
		nx, ny := x, y
		switch rest[0] {
		case 'M':
			_, err := fmt.Sscanf(rest, "M%g %g", &v, &w)
			require.NoError(t, err)
			x, y, nx, ny = v, w, v, w
		case 'V':
			_, err := fmt.Sscanf(rest, "V%g", &ny)
			require.NoError(t, err)
		case 'H':
			_, err := fmt.Sscanf(rest, "H%g", &nx)
			require.NoError(t, err)
		}
		if nx != x || ny != y {
			out = append(out, segment{min(x, nx), min(y, ny), max(x, nx), max(y, ny), e})
		}
		x, y = nx, ny
		rest = rest[1:]
		if i := strings.IndexAny(rest, "VH"); i >= 0 {
			rest = rest[i:]
		} else {
			rest = ""
		}
	}
	return out
}

func TestNoLineCrossesAnotherOrANode(t *testing.T) {
	for name, b := range drawn(t) {
		g := b.Graph(nil)
		var all []segment
		for i := range g.Edges {
			all = append(all, segments(t, &g.Edges[i])...)
		}
		for i, s := range all {
			for _, n := range g.Nodes {
				in := s.x1 < n.X+n.Width && s.x2 > n.X && s.y1 < n.Y+n.Height && s.y2 > n.Y
				assert.False(t, in, "%s: %s to %s goes through %s", name, s.edge.From, s.edge.To, n.ID)
			}
			for _, o := range all[i+1:] {
				same := s.edge.From == o.edge.From || s.edge.To == o.edge.To || s.edge.From == o.edge.To ||
					s.edge.To == o.edge.From
				crosses := !same && (s.x1 < o.x1 && o.x2 < s.x2 && o.y1 < s.y1 && s.y2 < o.y2 ||
					o.x1 < s.x1 && s.x2 < o.x2 && s.y1 < o.y1 && o.y2 < s.y2)
				assert.False(t, crosses, "%s: %s to %s crosses %s to %s", name, s.edge.From, s.edge.To, o.edge.From,
					o.edge.To)
			}
		}
	}
}

func TestEveryStepIsDrawnInItsPlace(t *testing.T) {
	for name, b := range drawn(t) {
		g := b.Graph(nil)
		at := map[string]Node{}
		for _, n := range g.Nodes {
			assert.NotContains(t, at, n.ID, "%s: ids are their own", name)
			at[n.ID] = n
			assert.LessOrEqual(t, n.X+n.Width, g.Width)
			assert.LessOrEqual(t, n.Y+n.Height, g.Height)
		}
		for _, s := range b.All() {
			assert.Contains(t, at, s.Path, "%s: every step is drawn", name)
			if s.Gate != nil {
				assert.Contains(t, at, s.Path+".gate", "%s: every gate is drawn", name)
			}
		}
		// No node lies on another one, every way leads down, and whatever does not end leads on.
		on := map[string]bool{}
		for _, e := range g.Edges {
			if !e.Proves {
				on[e.From] = true
				assert.Greater(t, at[e.To].Y, at[e.From].Y, "%s: %s to %s", name, e.From, e.To)
			}
		}
		for i, a := range g.Nodes {
			ends := a.Kind == "end" || a.Kind == string(Close) || a.Kind == string(HandOver) ||
				strings.HasPrefix(a.ID, "finally.") || a.ID == "finally"
			assert.True(t, ends || on[a.ID], "%s: nothing follows %s", name, a.ID)
			for _, c := range g.Nodes[i+1:] {
				apart := a.X+a.Width <= c.X || c.X+c.Width <= a.X || a.Y+a.Height <= c.Y || c.Y+c.Height <= a.Y
				assert.True(t, apart, "%s: %s lies on %s", name, a.ID, c.ID)
			}
		}
		again, f := Parse(b.Source)
		require.NotNil(t, again, f)
		assert.Equal(t, g.SVG(), again.Graph(nil).SVG(), "%s: the same picture each time", name)
		assert.Equal(t, b.Text(nil), again.Text(nil), name)
	}
}

func TestWhatIsDrawn(t *testing.T) {
	b := drawn(t)["everything"]
	text := b.Text(nil)
	for _, want := range []string{
		`starts on two: alert.severity == "major"; 2 per 1h at most`,
		"gate: asks team/quayside, 2 people, with a comment, within 5m",
		"refused → ends as failed",
		"unanswered →",
		"only if then still own(readings.n) > 1",
		"undo: stop",
		`proved by "Better?" (2.do.2)`,
		`proves "Restart" (2.do.1)`,
		"on error → undoes changes, hands over",
		"again → goes on",
		"More of it →",
		"the steps are over",
		"if cleared",
		"the run goes on where it was",
	} {
		assert.Contains(t, text, want)
	}
	svg := b.Graph(nil).SVG()
	assert.Contains(t, svg, `marker-end="url(#head)"`)
	assert.Contains(t, svg, "with a title that does not fit o…</text>", "a long title takes two lines")
	g := b.Graph(nil)
	proofs := 0
	for _, e := range g.Edges {
		if e.Proves {
			proofs++
			assert.Equal(t, []string{"2.do.2", "2.do.1"}, []string{e.From, e.To})
		}
	}
	assert.Equal(t, 1, proofs)
}

func TestWhereARunHasBeen(t *testing.T) {
	b := drawn(t)["boarding-gate-errors.yaml"]
	taken := func(been *Been) (ends []string, edges []string) {
		g := b.Graph(been)
		for _, n := range g.Nodes {
			if n.State == "reached" {
				ends = append(ends, n.ID)
			}
		}
		for _, e := range g.Edges {
			if e.Taken {
				edges = append(edges, e.From+">"+e.To)
			}
		}
		return ends, edges
	}
	visits := map[string]Visit{
		"1": {State: "taken", Times: 1},
		"2": {State: "taken", Times: 1, Ways: []string{"passes"}},
		"3": {State: "taken", Times: 1},
	}
	ends, edges := taken(&Been{Visits: visits})
	assert.Empty(t, ends, "a run that is not over reached no end")
	assert.ElementsMatch(t, []string{"begin>1", "1>2", "2>3"}, edges)

	visits["4.gate"] = Visit{State: "failed", Times: 1, Ways: []string{"unanswered"}}
	ends, edges = taken(&Been{Visits: visits, Ended: true, End: "4", Way: "unanswered"})
	assert.Equal(t, []string{"4.refused"}, ends, "one end for both ways")
	assert.Contains(t, edges, "4.gate>4.refused")
	assert.NotContains(t, edges, "4.gate>4")

	ends, _ = taken(&Been{Visits: visits, Ended: true, End: "1"})
	assert.Equal(t, []string{"on_error.end"}, ends, "a trouble that nothing provides for")
	assert.Contains(t, b.Text(&Been{Visits: visits, Ended: true, End: "4", Way: "unanswered"}),
		"◉ refused, unanswered → hands over to on-call/terminals (reached)")
}

package runbook

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"strings"
	"time"
	"unicode/utf8"
)

// Graph is the flow of a runbook as a picture: lists run downward, branches stand side by side, and no line
// crosses another. Sizes are in pixels.
type Graph struct {
	Nodes         []Node
	Edges         []Edge
	Width, Height float64
}

// Node is one step, or the beginning or an end.
type Node struct {
	ID, Path, Kind, Title string
	X, Y, Width, Height   float64
	// Of a run: taken, waiting, failed or skipped; how often, and how long in all.
	State string
	Times int
	Took  time.Duration
}

// Edge leads from one node to another.
type Edge struct {
	From, To, Label string
	Taken           bool
}

// Visit is what a run did at one step.
type Visit struct {
	State string
	Times int
	Took  time.Duration
}

const (
	nodeWidth, nodeHeight = 230.0, 46.0
	gapX, gapY            = 26.0, 34.0
)

// Graph draws the runbook. visits tells, by path, what a run did; nil for none.
func (b *Book) Graph(visits map[string]Visit) *Graph {
	g := &grapher{out: &Graph{}, visits: visits}
	begin := g.node(Node{ID: "begin", Kind: "begin", Title: b.Title, Width: nodeWidth, Height: nodeHeight}, 0, 0)
	box := g.list(b.Steps, 0, nodeHeight+gapY)
	g.join([]exit{{begin, ""}}, box.entry)
	g.end(box.exits, 0, box.y+box.height)
	g.aside(b, box)
	g.finish()
	return g.out
}

// exit is a loose end: where the flow goes on from.
type exit struct{ from, label string }

// box is the space that a list or a step takes, its first node and its loose ends.
type box struct {
	x, y, width, height float64
	entry               string
	exits               []exit
}

type grapher struct {
	out    *Graph
	visits map[string]Visit
}

func (g *grapher) node(n Node, x, y float64) string {
	n.X, n.Y = x, y
	if v, ok := g.visits[n.Path]; ok && n.Path != "" {
		n.State, n.Times, n.Took = v.State, v.Times, v.Took
	}
	g.out.Nodes = append(g.out.Nodes, n)
	return n.ID
}

func (g *grapher) join(exits []exit, to string) {
	for _, e := range exits {
		g.out.Edges = append(g.out.Edges, Edge{From: e.from, To: to, Label: e.label})
	}
}

// aside draws what belongs to the whole beside the steps: its on_error, finally, if_cleared and if_worse.
func (g *grapher) aside(b *Book, main box) {
	x := main.x + main.width + 2*gapX
	for _, l := range b.lists()[1:] {
		if len(l.steps) == 0 {
			continue
		}
		id := g.node(
			Node{
				ID:     l.name,
				Kind:   "begin",
				Title:  strings.ReplaceAll(l.name, "_", " "),
				Width:  nodeWidth,
				Height: nodeHeight,
			},
			x,
			0,
		)
		in := g.list(l.steps, x, nodeHeight+gapY)
		g.join([]exit{{id, ""}}, in.entry)
		x += in.width + 2*gapX
	}
}

func (g *grapher) end(exits []exit, x, y float64) {
	if len(exits) == 0 {
		return
	}
	id := g.node(Node{ID: "end", Kind: "end", Title: "the runbook ends", Width: nodeWidth, Height: nodeHeight}, x, y)
	g.join(exits, id)
}

// list draws steps one below the other.
func (g *grapher) list(steps []*Step, x, y float64) box {
	out := box{x: x, y: y, width: nodeWidth}
	at := y
	for i, s := range steps {
		in := g.step(s, x, at)
		if i == 0 {
			out.entry = in.entry
		} else {
			g.join(out.exits, in.entry)
		}
		out.exits = in.exits
		out.width = max(out.width, in.width)
		at += in.height
	}
	out.height = at - y
	return out
}

// branch is one way on from a step.
type branch struct {
	label string
	steps []*Step
	word  string
}

// ways lists the ways on from a step, the one that goes straight on not among them. on tells whether there is one.
func (s *Step) ways() (out []branch, on bool, straight string) {
	add := func(label string, b Branch, def string) bool {
		b = b.Or(def)
		if b.Word == GoOn {
			return true
		}
		if b.Steps != nil || b.Word != "" {
			out = append(out, branch{label, b.Steps, b.Word})
		}
		return false
	}
	on = true
	switch {
	case s.Verb == Check:
		if on = add("passes", s.Passes, GoOn); on {
			straight = "passes"
		}
		if add("fails", s.Fails, HandOverWord) {
			on = true
		}
		if s.Unsure.Word != "" || s.Unsure.Steps != nil {
			on = add("unsure", s.Unsure, HandOverWord) || on
		}
	case s.Ask != nil:
		on = false
		for _, c := range s.Ask.Choices {
			if len(c.Steps) == 0 {
				on = true
				continue
			}
			out = append(out, branch{label: c.Label, steps: c.Steps})
		}
		on = on || len(s.Ask.Choices) == 0
		if s.Ask.None.Steps != nil {
			out = append(out, branch{label: "none of these", steps: s.Ask.None.Steps})
		}
		if s.Ask.Unanswered.Steps != nil {
			out = append(out, branch{label: "unanswered", steps: s.Ask.Unanswered.Steps})
		}
	case s.Verb == Together:
		on = false
		for _, b := range s.Branches {
			out = append(out, branch{label: b.Name, steps: b.Steps})
		}
	case len(s.Steps) > 0:
		out = append(out, branch{label: "does", steps: s.Steps})
		on = false
	}
	if s.Each != nil && s.Each.Between != nil {
		out = append(out, branch{label: "between", steps: s.Each.Between})
	}
	if s.Gate != nil {
		for label, b := range map[string]Branch{"refused": s.Gate.Refused, "unanswered": s.Gate.Unanswered} {
			if b.Steps != nil {
				out = append(out, branch{label: label, steps: b.Steps})
			}
		}
	}
	if s.Otherwise != nil {
		out = append(out, branch{label: "otherwise", steps: s.Otherwise})
	}
	if s.OnError.Steps != nil {
		out = append(out, branch{label: "on error", steps: s.OnError.Steps})
	}
	return out, on, straight
}

func (g *grapher) step(s *Step, x, y float64) box {
	id := g.node(
		Node{ID: s.Path, Path: s.Path, Kind: string(s.Verb), Title: s.Title, Width: nodeWidth, Height: nodeHeight},
		x,
		y,
	)
	out := box{x: x, y: y, width: nodeWidth, height: nodeHeight + gapY, entry: id}
	if s.Verb == Close || s.Verb == HandOver {
		return out
	}
	branches, on, straight := s.ways()
	at, below := x, 0.0
	if on && len(branches) > 0 {
		// The way straight on keeps its own column.
		at += nodeWidth + gapX
	}
	for _, b := range branches {
		var in box
		if b.steps != nil {
			in = g.list(b.steps, at, y+nodeHeight+gapY)
		} else {
			in = box{width: nodeWidth, height: nodeHeight + gapY}
			in.entry = g.node(Node{ID: s.Path + "." + b.label, Kind: "end", Title: b.word, Width: nodeWidth,
				Height: nodeHeight}, at, y+nodeHeight+gapY)
		}
		g.join([]exit{{id, b.label}}, in.entry)
		out.exits = append(out.exits, in.exits...)
		at += in.width + gapX
		below = max(below, in.height)
	}
	if on {
		out.exits = append(out.exits, exit{id, straight})
	}
	out.width = max(nodeWidth, at-gapX-x)
	out.height += below
	return out
}

// finish marks the edges that were taken, and measures.
func (g *grapher) finish() {
	states := map[string]string{"begin": "taken"}
	for _, n := range g.out.Nodes {
		g.out.Width, g.out.Height = max(g.out.Width, n.X+n.Width), max(g.out.Height, n.Y+n.Height)
		if n.State != "" {
			states[n.ID] = n.State
		}
	}
	for i, e := range g.out.Edges {
		g.out.Edges[i].Taken = g.visits != nil && states[e.From] != "" && states[e.To] != "" &&
			states[e.To] != "skipped"
	}
}

// SVG writes the graph as a picture that stands alone, light and dark.
func (g *Graph) SVG() string {
	var b bytes.Buffer
	const pad = 16.0
	at := map[string]Node{}
	for _, n := range g.Nodes {
		at[n.ID] = n
	}
	fmt.Fprintf(
		&b,
		`<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %.0f %.0f" width="%.0f" height="%.0f" role="img"
			aria-label="The flow of the runbook" font-family="Inter, sans-serif" font-size="12">`,
		g.Width+2*pad,
		g.Height+2*pad,
		g.Width+2*pad,
		g.Height+2*pad,
	)
	b.WriteString(`<style>
.n rect{fill:#f6f8fb;stroke:#5b6b80}.n text{fill:#16202c}.v{fill:#45566b;font-size:10px}.e{fill:none;stroke:#8a97a8}
	.l{fill:#45566b;font-size:10px}
.taken rect{stroke:#0b5c8a;stroke-width:2.5}.waiting rect{stroke:#8a5a00;stroke-width:2.5;stroke-dasharray:6 3}
	.failed rect{stroke:#b3261e;stroke-width:2.5}.skipped{opacity:.55}
.e.taken{stroke:#0b5c8a;stroke-width:2.5}
@media (prefers-color-scheme: dark){.n rect{fill:#1b2430;stroke:#8795a8}.n text{fill:#e7edf5}.v,.l{fill:#a9b7c8}
	.e{stroke:#66758a}.taken rect,.e.taken{stroke:#6cc3f5}.waiting rect{stroke:#f0b54a}.failed rect{stroke:#ff8a80}}
</style>`)
	for _, e := range g.Edges {
		from, to := at[e.From], at[e.To]
		class := "e"
		if e.Taken {
			class = "e taken"
		}
		x1, y1, x2, y2 := from.X+24+pad, from.Y+from.Height+pad, to.X+24+pad, to.Y+pad
		mid := y2 - gapY/2
		fmt.Fprintf(&b, `<path class="%s" d="M%.0f %.0fV%.0fH%.0fV%.0f"/>`, class, x1, y1, mid, x2, y2)
		if e.Label != "" {
			fmt.Fprintf(&b, `<text class="l" x="%.0f" y="%.0f">%s</text>`, x2+5, y2-5, escape(e.Label))
		}
	}
	for _, n := range g.Nodes {
		fmt.Fprintf(
			&b,
			`<g class="n %s" transform="translate(%.0f %.0f)"><title>%s</title>
				<rect width="%.0f" height="%.0f" rx="%s"/>`,
			n.State,
			n.X+pad,
			n.Y+pad,
			escape(n.Kind+": "+n.Title),
			n.Width,
			n.Height,
			corner(n.Kind),
		)
		fmt.Fprintf(
			&b,
			`<text class="v" x="10" y="16">%s</text><text x="10" y="34">%s</text></g>`,
			escape(n.says()),
			escape(clipTo(n.Title, 34)),
		)
	}
	b.WriteString("</svg>\n")
	return b.String()
}

// corner gives what touches square corners, what ends round ones.
func corner(kind string) string {
	switch kind {
	case string(Change):
		return "0"
	case "begin", "end", string(Close), string(HandOver):
		return "22"
	}
	return "8"
}

// says is the line above a node's title: its verb, and what a run did there.
func (n Node) says() string {
	out := strings.ReplaceAll(n.Kind, "_", " ")
	if n.State != "" {
		out += " · " + n.State
	}
	if n.Times > 1 {
		out += fmt.Sprintf(" · %d times", n.Times)
	}
	if n.Took > 0 {
		out += " · " + n.Took.Round(time.Millisecond).String()
	}
	return out
}

func clipTo(s string, n int) string {
	if utf8.RuneCountInString(s) <= n {
		return s
	}
	return string([]rune(s)[:n-1]) + "…"
}

func escape(s string) string {
	var b bytes.Buffer
	xml.EscapeText(&b, []byte(s)) //nolint:errcheck // a buffer takes everything
	return b.String()
}

// Text writes the flow as indented lines.
func (b *Book) Text(visits map[string]Visit) string {
	var out strings.Builder
	fmt.Fprintf(&out, "%s\n", b.Title)
	var write func(steps []*Step, indent string)
	write = func(steps []*Step, indent string) {
		for _, s := range steps {
			n := Node{Kind: string(s.Verb)}
			if v, ok := visits[s.Path]; ok {
				n.State, n.Times, n.Took = v.State, v.Times, v.Took
			}
			mark := " "
			switch n.State {
			case "taken":
				mark = "●"
			case "waiting":
				mark = "◐"
			case "failed":
				mark = "✗"
			case "skipped":
				mark = "○"
			}
			fmt.Fprintf(
				&out,
				"%s%s %-6s %s: %s\n",
				indent,
				mark,
				s.Path[strings.LastIndexByte(s.Path, '.')+1:],
				n.says(),
				s.Title,
			)
			branches, _, _ := s.ways()
			for _, br := range branches {
				if br.steps == nil {
					fmt.Fprintf(&out, "%s    %s → %s\n", indent, br.label, br.word)
					continue
				}
				fmt.Fprintf(&out, "%s    %s →\n", indent, br.label)
				write(br.steps, indent+"      ")
			}
		}
	}
	write(b.Steps, "  ")
	for _, l := range b.lists()[1:] {
		if len(l.steps) > 0 {
			fmt.Fprintf(&out, "%s\n", strings.ReplaceAll(l.name, "_", " "))
			write(l.steps, "  ")
		}
	}
	return out.String()
}

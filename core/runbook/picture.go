package runbook

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"strings"
	"time"

	"urgentis/core/expr"
	"urgentis/core/plain"
)

const svgStyle = `<style>
.n rect{fill:#f6f8fb;stroke:#5b6b80}.n text{fill:#16202c}.n .s,.l{fill:#45566b;font-size:10.5px}
.e{fill:none;stroke:#8a97a8}.p{fill:none;stroke:#8a97a8;stroke-dasharray:2 3}
.start rect,.gate rect{stroke-dasharray:5 3}
.taken rect,.reached rect{stroke:#0b5c8a;stroke-width:2.5}.reached rect{fill:#d9ecf8}
.waiting rect{stroke:#8a5a00;stroke-width:2.5}.failed rect{stroke:#b3261e;stroke-width:2.5}.skipped{opacity:.55}
.e.taken{stroke:#0b5c8a;stroke-width:2.5}marker path{fill:#5b6b80}
@media (prefers-color-scheme: dark){.n rect{fill:#1b2430;stroke:#8795a8}.n text{fill:#e7edf5}.n .s,.l{fill:#a9b7c8}
.e,.p{stroke:#66758a}.taken rect,.reached rect,.e.taken{stroke:#6cc3f5}.reached rect{fill:#123a52}
.waiting rect{stroke:#f0b54a}.failed rect{stroke:#ff8a80}marker path{fill:#a9b7c8}}
</style>
<defs><marker id="head" viewBox="0 0 8 8" refX="7" refY="4" markerWidth="8" markerHeight="8" orient="auto"
 markerUnits="userSpaceOnUse"><path d="M0 0L8 4L0 8Z"/></marker></defs>
`

// SVG writes the graph as a picture that stands alone, light and dark.
func (g *Graph) SVG() string {
	var b bytes.Buffer
	fmt.Fprintf(&b, `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 %.0f %.0f" width="%.0f" height="%.0f" `+
		`role="img" aria-label="The flow of the runbook" font-family="Inter, sans-serif" font-size="12">`+"\n",
		g.Width, g.Height, g.Width, g.Height)
	b.WriteString(svgStyle)
	for _, e := range g.Edges {
		class := "e"
		switch {
		case e.Proves:
			class = "p"
		case e.Taken:
			class = "e taken"
		}
		fmt.Fprintf(&b, `<path class="%s" d="%s" marker-end="url(#head)"/>`, class, e.D)
		if e.Label != "" {
			fmt.Fprintf(&b, `<text class="l" x="%.0f" y="%.0f">%s</text>`, e.X, e.Y, escape(clipTo(e.Label, narrow)))
		}
		b.WriteByte('\n')
	}
	for _, n := range g.Nodes {
		fmt.Fprintf(&b, `<g class="n %s %s" transform="translate(%.0f %.0f)"><title>%s</title>`+
			`<rect width="%.0f" height="%.0f" rx="%.0f"/>`,
			n.Kind, n.State, n.X, n.Y, escape(n.whole()), n.Width, n.Height, n.Corner())
		for _, l := range n.Lines {
			class := ""
			if l.Small {
				class = ` class="s"`
			}
			fmt.Fprintf(&b, `<text%s x="10" y="%.0f">%s</text>`, class, l.Y, escape(l.Text))
		}
		b.WriteString("</g>\n")
	}
	b.WriteString("</svg>\n")
	return b.String()
}

// whole is all that a node says, for whoever points at it.
func (n *Node) whole() string {
	return strings.Join(append([]string{n.says(), n.Title}, n.Notes...), "\n")
}

// Corner is the radius of a node's corners: what touches has square ones, what begins or ends round ones.
func (n *Node) Corner() float64 {
	switch n.Kind {
	case string(Change):
		return 0
	case "start", "begin", "aside", "end", string(Close), string(HandOver):
		return 22
	}
	return 8
}

func escape(s string) string {
	var b bytes.Buffer
	xml.EscapeText(&b, []byte(s)) //nolint:errcheck // a buffer takes everything
	return b.String()
}

// marks show in text what a run did at a step.
var marks = map[string]string{"taken": "●", "waiting": "◐", "failed": "✗", "skipped": "○", "reached": "◉"}

// Text writes the graph of a runbook as indented lines. been tells what a run did; nil for none.
func (b *Book) Text(been *Been) string {
	g := b.Graph(been)
	t := &texter{book: b, nodes: map[string]*Node{}}
	for i := range g.Nodes {
		t.nodes[g.Nodes[i].ID] = &g.Nodes[i]
	}
	fmt.Fprintf(&t.out, "%s\n", b.Title)
	for _, s := range b.Starts {
		fmt.Fprintf(&t.out, "  starts on %s: %s\n", s.Name, strings.Join(s.Says(), "; "))
	}
	t.list(b.Steps, "  ")
	if n := t.nodes["end"]; n != nil {
		t.line("  ", n, n.Title)
	}
	for _, a := range b.asides() {
		fmt.Fprintf(&t.out, "%s\n", strings.ReplaceAll(a.name, "_", " "))
		t.list(a.steps, "  ")
		if n := t.nodes[a.name+".end"]; n != nil {
			t.line("  ", n, n.Title)
		}
	}
	return t.out.String()
}

type texter struct {
	book  *Book
	nodes map[string]*Node
	out   strings.Builder
}

func (t *texter) line(indent string, n *Node, says string) {
	did := ""
	if n.Times > 1 {
		did += fmt.Sprintf(", %d times", n.Times)
	}
	if n.Took > 0 {
		did += ", " + plain.Span(n.Took.Round(time.Millisecond))
	}
	if n.State != "" {
		did = " (" + n.State + did + ")"
	}
	t.plain(indent, marks[n.State], says+did)
}

// plain writes a line behind its mark.
func (t *texter) plain(indent, mark, says string) {
	if mark == "" {
		mark = " "
	}
	fmt.Fprintf(&t.out, "%s%s %s\n", indent, mark, says)
}

func (t *texter) list(steps []*Step, indent string) {
	for _, s := range steps {
		if n := t.nodes[s.Path+".gate"]; n != nil {
			t.line(indent, n, "gate: "+n.Title)
			t.ways(s.Path, t.book.gateWays(s), indent+"    ")
		}
		place, verb := s.Path[strings.LastIndexByte(s.Path, '.')+1:], strings.ReplaceAll(string(s.Verb), "_", " ")
		t.line(indent, t.nodes[s.Path], place+" "+verb+": "+s.Title)
		for _, note := range t.book.notes(s) {
			t.plain(indent+"    ", "", note)
		}
		t.ways(s.Path, t.book.ways(s), indent+"    ")
	}
}

func (t *texter) ways(path string, list []way, indent string) {
	for _, w := range list {
		switch n := t.nodes[path+"."+w.key]; {
		case w.steps != nil:
			t.plain(indent, "", w.label+" →")
			t.list(w.steps, indent+"    ")
		case n != nil:
			t.line(indent, n, w.label+" → "+n.Title)
		case w.label != "" && w.label != "passes":
			t.plain(indent, "", w.label+" → goes on")
		}
	}
}

// brief is a way of doing as its author wrote it, in a few words.
func (d *Do) brief() string {
	switch {
	case d.Script != nil:
		return "a script for " + d.Script.Interpreter
	case d.HTTP != nil:
		return d.HTTP.Method + " " + d.HTTP.URL.Source
	case d.Job != nil:
		return "a job: " + d.Job.Start.Method + " " + d.Job.Start.URL.Source
	case d.SQL != nil:
		return d.SQL.Statement
	case d.Send != nil:
		return "sends " + d.Send.To.Source
	case d.Dialogue != nil:
		lines := make([]string, len(d.Dialogue))
		for i, l := range d.Dialogue {
			lines[i] = sources(l)
		}
		return strings.Join(lines, "; ")
	}
	return sources(d.Run)
}

// sources are words as their author wrote them.
func sources(list []*expr.Template) string {
	words := make([]string, len(list))
	for i, w := range list {
		words[i] = w.Source
	}
	return strings.Join(words, " ")
}

package runbook

import (
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"
)

// Graph is the flow of a runbook as a picture: what starts it above, lists run downward, ways on stand side by side,
// and no line crosses another. The same runbook gives the same picture. Sizes are in pixels.
type Graph struct {
	Nodes         []Node
	Edges         []Edge
	Width, Height float64
}

// Node is one step, a gate, what starts the run, its begin, an aside (what belongs to the whole, such as its on_error),
// or an end.
type Node struct {
	ID, Path, Kind, Title string
	X, Y, Width, Height   float64
	// Lines are what stands in the node, the first of them small: what it is, and what a run did there.
	Lines []Line
	// Notes are its small lines, whole.
	Notes []string
	// Of a run: taken, waiting, failed, skipped, or reached for an end; how often, and how long in all.
	State string
	Times int
	Took  time.Duration

	keys []string // of an end: the ways of its step that lead to it
}

// Line is one line of text in a node. Y is its base line, from the top of the node.
type Line struct {
	Text  string
	Y     float64
	Small bool
}

// Edge leads from one node to another. D is its line as an SVG path, X and Y the place of its label.
type Edge struct {
	From, To, Label, D string
	X, Y               float64
	// Taken says that a run went this way; Proves that this is no way, but leads from a check to the change it proves.
	Taken, Proves bool

	keys []string // of the ways of From that it stands for
}

// Visit is what a run did at one step.
type Visit struct {
	State string
	Times int
	Took  time.Duration
	Ways  []string // the ways on that it took, by their keys in the path
}

// Been is where a run has been.
type Been struct {
	Visits map[string]Visit // by the path of the step; that of its gate with .gate
	// End is the step at whose end, or on whose way Way, the run ended; Ended says that it did.
	End, Way string
	Ended    bool
}

// sizes of the picture
const (
	nodeWidth      = 236.0
	gapX, gapY     = 30.0, 38.0
	pad            = 20.0
	stem           = 24.0 // lines leave and enter a node here
	wide           = 33   // characters of a title's line
	narrow         = 38   // of a small line
	maxStartsDrawn = 6
)

// Graph draws the runbook. been tells what a run did; nil for none.
func (b *Book) Graph(been *Been) *Graph {
	g := &grapher{out: &Graph{}, book: b, been: been}
	begin := g.begin()
	y := g.below(begin)
	steps := g.list(b.Steps, 0, y)
	g.join([]exit{{from: begin}}, steps.entry)
	if len(steps.exits) > 0 {
		g.join(steps.exits, g.node(Node{ID: "end", Kind: "end", Title: "the steps are over"}, 0, steps.y+steps.height))
	}
	g.aside(max(steps.width, g.startsWidth()))
	g.proofs()
	g.finish()
	return g.out
}

// exit is a loose end: where the flow goes on from, and by which ways.
type exit struct {
	from, label string
	keys        []string
}

// box is the space that a list or a step takes, its first node and its loose ends.
type box struct {
	x, y, width, height float64
	entry               string
	exits               []exit
}

type grapher struct {
	out  *Graph
	book *Book
	been *Been // nil without a run
}

// node adds a node, and measures it by what stands in it.
func (g *grapher) node(n Node, x, y float64, notes ...string) string {
	n.X, n.Y, n.Width, n.Notes = x, y, nodeWidth, notes
	if g.been != nil {
		v := g.been.Visits[n.ID]
		n.State, n.Times, n.Took = v.State, v.Times, v.Took
	}
	n.Lines = []Line{{Text: n.says(), Y: 17, Small: true}}
	at := 17.0
	for _, t := range wrap(n.Title, wide, 2) {
		at += 17
		n.Lines = append(n.Lines, Line{Text: t, Y: at})
	}
	for _, note := range notes {
		for i, t := range wrap(note, narrow, 2) {
			if i > 0 {
				t = "  " + t
			}
			at += 15
			n.Lines = append(n.Lines, Line{Text: t, Y: at, Small: true})
		}
	}
	n.Height = at + 12
	g.out.Nodes = append(g.out.Nodes, n)
	return n.ID
}

// below is where what follows the newest nodes of a row begins.
func (g *grapher) below(id string) float64 {
	n := g.at(id)
	return n.Y + n.Height + gapY
}

func (g *grapher) at(id string) *Node {
	for i := len(g.out.Nodes) - 1; i >= 0; i-- {
		if g.out.Nodes[i].ID == id {
			return &g.out.Nodes[i]
		}
	}
	return &Node{}
}

// begin draws what starts the run, side by side, and the beginning below.
func (g *grapher) begin() string {
	var exits []exit
	y := 0.0
	for i, s := range g.book.Starts {
		if i == maxStartsDrawn-1 && len(g.book.Starts) > maxStartsDrawn {
			n := Node{ID: "starts.more", Kind: "start", Title: fmt.Sprintf("%d more", len(g.book.Starts)-i)}
			exits = append(exits, exit{from: g.node(n, float64(i)*(nodeWidth+gapX), 0)})
			break
		}
		id := g.node(Node{ID: "starts." + s.Name, Kind: "start", Title: s.Name}, float64(i)*(nodeWidth+gapX), 0,
			s.Says()...)
		y = max(y, g.below(id))
		exits = append(exits, exit{from: id})
	}
	note := "started so, or by hand"
	if len(g.book.Starts) == 0 {
		note = "started by hand"
	}
	id := g.node(Node{ID: "begin", Kind: "begin", Title: g.book.Title}, 0, y, note)
	g.join(exits, id)
	return id
}

func (g *grapher) startsWidth() float64 {
	n := float64(max(1, min(len(g.book.Starts), maxStartsDrawn)))
	return n*(nodeWidth+gapX) - gapX
}

func (g *grapher) join(exits []exit, to string) {
	for _, e := range exits {
		g.out.Edges = append(g.out.Edges, Edge{From: e.from, To: to, Label: e.label, keys: e.keys})
	}
}

// aside draws what belongs to the whole beside the steps.
func (g *grapher) aside(width float64) {
	x := width + 2*gapX
	for _, a := range g.book.asides() {
		head := g.node(Node{ID: a.name, Kind: "aside", Title: strings.ReplaceAll(a.name, "_", " ")}, x, 0)
		in := box{width: nodeWidth, exits: []exit{{from: head}}}
		if len(a.steps) > 0 {
			in = g.list(a.steps, x, g.below(head))
			g.join([]exit{{from: head}}, in.entry)
		}
		end := a.then
		if a.word != "" {
			end = g.book.endSays(a.word)
		}
		if end != "" && len(in.exits) > 0 {
			y := max(g.below(head), in.y+in.height)
			g.join(in.exits, g.node(Node{ID: a.name + ".end", Kind: "end", Title: end}, x, y))
		}
		x += in.width + 2*gapX
	}
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

// step draws a step, behind its gate where it has one.
func (g *grapher) step(s *Step, x, y float64) box {
	if s.Gate == nil {
		return g.bare(s, x, y)
	}
	id := g.node(Node{ID: s.Path + ".gate", Path: s.Path, Kind: "gate", Title: s.Gate.says(g.book)}, x, y)
	behind := g.bare(s, x, g.below(id))
	g.join([]exit{{from: id, label: "approved", keys: []string{"approved"}}}, behind.entry)
	out := g.fan(s.Path, id, g.book.gateWays(s), x, behind.width)
	out.entry = id
	out.exits = append(behind.exits, out.exits...)
	out.height = max(out.height, g.below(id)-y+behind.height)
	return out
}

// bare draws a step without its gate, and its ways on.
func (g *grapher) bare(s *Step, x, y float64) box {
	id := g.node(Node{ID: s.Path, Path: s.Path, Kind: string(s.Verb), Title: s.Title}, x, y, g.book.notes(s)...)
	ways := g.book.ways(s)
	straight := slices.IndexFunc(ways, way.goesOn)
	if straight < 0 {
		return g.fan(s.Path, id, ways, x, 0)
	}
	on := ways[straight]
	column := nodeWidth
	if len(ways) == 1 {
		column = 0
	}
	out := g.fan(s.Path, id, slices.Delete(slices.Clone(ways), straight, straight+1), x, column)
	// The way straight on comes last: its line is drawn over those that join it.
	out.exits = append(out.exits, exit{from: id, label: on.label, keys: append([]string{on.key}, on.also...)})
	return out
}

// fan draws the ways on from a node side by side below it; the first column, of a given width, is kept free.
func (g *grapher) fan(path, id string, ways []way, x, column float64) box {
	y, top := g.at(id).Y, g.below(id)
	out := box{x: x, y: y, width: max(nodeWidth, column), height: top - y, entry: id}
	at := x
	if column > 0 {
		at += column + gapX
	}
	for _, w := range ways {
		keys := append([]string{w.key}, w.also...)
		var in box
		if w.steps != nil {
			in = g.list(w.steps, at, top)
		} else {
			in = box{y: top, width: nodeWidth}
			in.entry = g.node(
				Node{ID: path + "." + w.key, Kind: "end", Title: g.book.endSays(w.word), keys: keys}, at, top)
			in.height = g.below(in.entry) - top
		}
		g.join([]exit{{from: id, label: w.label, keys: keys}}, in.entry)
		out.exits = append(out.exits, in.exits...)
		at += in.width + gapX
		out.height = max(out.height, top-y+in.height)
	}
	out.width = max(out.width, at-gapX-x)
	return out
}

// notes are what stands below a step's title: its condition, whether it can be undone, and what proves it.
func (b *Book) notes(s *Step) []string {
	var out []string
	for _, t := range b.Terms(s) {
		switch t.Kind {
		case "when", "still", "proof", "undo", "again":
			out = append(out, t.Says)
		}
	}
	if s.Undo != nil {
		out = append(out, "undo: "+s.Undo.brief())
	}
	return out
}

// proofs draws a line from each check to the change above it that it proves.
func (g *grapher) proofs() {
	for _, s := range g.book.All() {
		if s.Proves == "" {
			continue
		}
		if c := g.book.ByID(s.Proves); c != nil {
			g.out.Edges = append(g.out.Edges, Edge{From: s.Path, To: c.Path, Proves: true})
		}
	}
}

// finish routes the edges, marks where a run has been, and measures the whole.
func (g *grapher) finish() {
	g.markWays()
	g.markEnd()
	at := map[string]*Node{}
	for i := range g.out.Nodes {
		n := &g.out.Nodes[i]
		n.X, n.Y = n.X+pad, n.Y+pad
		n.Lines[0].Text = n.says()
		g.out.Width, g.out.Height = max(g.out.Width, n.X+n.Width+pad), max(g.out.Height, n.Y+n.Height+pad)
		at[n.ID] = n
	}
	branches := map[string]int{}
	for _, e := range g.out.Edges {
		branches[e.To]++
	}
	proofs := 0
	for i := range g.out.Edges {
		e := &g.out.Edges[i]
		from, to := at[e.From], at[e.To]
		if e.Proves {
			e.route(from, to, proofs)
			proofs++
			continue
		}
		e.line(from, to, branches[e.To] > 1)
		e.Taken = g.taken(e, from, to)
	}
}

// line leads down out of a node, across above the next, and down into it.
func (e *Edge) line(from, to *Node, shared bool) {
	x1, y1, x2, y2 := from.X+stem, from.Y+from.Height, to.X+stem, to.Y
	e.D = fmt.Sprintf("M%.0f %.0fV%.0fH%.0fV%.0f", x1, y1, y2-gapY/2, x2, y2)
	e.X, e.Y = x2+6, y2-7
	if shared {
		// Others come in here as well: the label stands where the line begins.
		e.X, e.Y = x1+6, y1+13
	}
}

// route leads a proof up along the left of both nodes.
func (e *Edge) route(from, to *Node, lane int) {
	x := min(from.X, to.X) - 7 - float64(lane%2)*6
	e.D = fmt.Sprintf("M%.0f %.0fH%.0fV%.0fH%.0f", from.X, from.Y+from.Height/2, x, to.Y+to.Height/2, to.X)
	e.X, e.Y = x, from.Y
}

// taken reports whether a run went along an edge.
func (g *grapher) taken(e *Edge, from, to *Node) bool {
	if g.been == nil || to.State == "" || to.State == "skipped" {
		return false
	}
	switch from.Kind {
	case "begin", "aside":
		return true
	case "start":
		return false // which of them started the run is not known here
	}
	if from.State == "" {
		return false
	}
	ways := g.been.Visits[from.ID].Ways
	return len(e.keys) == 0 || slices.Equal(e.keys, []string{""}) ||
		slices.ContainsFunc(e.keys, func(k string) bool { return slices.Contains(ways, k) })
}

// markEnd marks the end that a run reached.
func (g *grapher) markEnd() {
	if g.been == nil || !g.been.Ended {
		return
	}
	end := ""
	for _, n := range g.out.Nodes {
		of := strings.TrimSuffix(n.ID, "."+firstOf(n.keys))
		step := n.ID == g.been.End && (n.Kind == string(Close) || n.Kind == string(HandOver))
		if step || n.Kind == "end" && of == g.been.End && slices.Contains(n.keys, g.been.Way) {
			end = n.ID
		}
	}
	switch {
	case end != "":
	case g.been.End == "":
		end = "end"
	default:
		end = "on_error.end"
	}
	g.at(end).State = "reached"
}

// markWays marks the ends of ways that a step took, whatever took up the trouble then.
func (g *grapher) markWays() {
	for i := range g.out.Nodes {
		n := &g.out.Nodes[i]
		if g.been == nil || n.Kind != "end" || len(n.keys) == 0 {
			continue
		}
		of := strings.TrimSuffix(n.ID, "."+n.keys[0])
		ways := slices.Concat(g.been.Visits[of].Ways, g.been.Visits[of+".gate"].Ways)
		if slices.ContainsFunc(n.keys, func(k string) bool { return slices.Contains(ways, k) }) {
			n.State = "taken"
		}
	}
}

func firstOf(list []string) string {
	if len(list) == 0 {
		return ""
	}
	return list[0]
}

// says is the line above a node's title: what it is, and what a run did there.
func (n *Node) says() string {
	out := strings.ReplaceAll(n.Kind, "_", " ")
	if n.Path != "" {
		out = n.Path + " · " + out
	}
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

// wrap breaks a text into at most so many lines, at spaces where it can.
func wrap(s string, width, lines int) []string {
	var out []string
	for len(out) < lines-1 && utf8.RuneCountInString(s) > width {
		head := string([]rune(s)[:width+1])
		cut := strings.LastIndexByte(head, ' ')
		if cut <= 0 {
			break
		}
		out, s = append(out, s[:cut]), s[cut+1:]
	}
	return append(out, clipTo(s, width))
}

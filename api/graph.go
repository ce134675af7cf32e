package api

import "urgentis/core/runbook"

// GraphOf is the flow of a runbook as the service and the command line give it. been tells where a run was in it; nil
// for none.
func GraphOf(b *runbook.Book, been *runbook.Been) *Graph {
	g := b.Graph(been)
	out := &Graph{
		Width: float32(g.Width), Height: float32(g.Height), Svg: g.SVG(), Text: b.Text(been),
		Nodes: make([]Node, len(g.Nodes)), Edges: make([]Edge, len(g.Edges)),
	}
	for i, n := range g.Nodes {
		out.Nodes[i] = Node{
			Id: n.ID, Path: n.Path, Kind: n.Kind, Title: n.Title, State: n.State, Times: n.Times,
			TookMs: n.Took.Milliseconds(), Lines: make([]NodeLine, len(n.Lines)), Corner: float32(n.Corner()),
			X: float32(n.X), Y: float32(n.Y), Width: float32(n.Width), Height: float32(n.Height),
		}
		for j, l := range n.Lines {
			out.Nodes[i].Lines[j] = NodeLine{Text: l.Text, Y: float32(l.Y), Small: l.Small}
		}
	}
	for i, e := range g.Edges {
		out.Edges[i] = Edge{
			From: e.From, To: e.To, Label: e.Label, D: e.D, X: float32(e.X), Y: float32(e.Y),
			Taken: e.Taken, Proves: e.Proves,
		}
	}
	return out
}

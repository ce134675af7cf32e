package incident

import (
	"fmt"
	"html"
	"strings"
	"time"

	"urgentis/core/plain"
)

// The measures of the strip as SVG.
const (
	svgWidth  = 960.0
	svgLeft   = 90.0
	svgLane   = 26.0
	svgTop    = 20.0
	svgBottom = 24.0
)

// svgColours are those of spans, by their state.
var svgColours = map[string]string{
	Going: "#8a94a3", Good: "#2f7d4f", Bad: "#b3372f", Unsure: "#a8741a", Waiting: "#c8a24a",
}

// SVG draws the strip: time from left to right, a lane for each kind of span, and marks above them.
func (s *Strip) SVG(opened time.Time) string {
	from, to := s.From, s.To
	if from.IsZero() {
		from = opened
	}
	if !to.After(from) {
		to = from.Add(time.Second)
	}
	x := func(t time.Time) float64 {
		if t.IsZero() || t.After(to) {
			t = to
		}
		return svgLeft + (svgWidth-svgLeft)*max(0, t.Sub(from).Seconds())/to.Sub(from).Seconds()
	}
	lanes := []string{Evidence, Decision, Change, Proof}
	height := svgTop + svgLane*float64(len(lanes)) + svgBottom
	b := &strings.Builder{}
	fmt.Fprintf(b, `<svg viewBox="0 0 %.0f %.0f" role="img" aria-label="What happened when" font-family="system-ui, `+
		`sans-serif" font-size="11" fill="#566273">`, svgWidth, height)
	for i, lane := range lanes {
		y := svgTop + svgLane*float64(i)
		fmt.Fprintf(b, `<text x="0" y="%.1f">%s</text><line x1="%.0f" x2="%.0f" y1="%.1f" y2="%.1f" stroke="#e3e7ec"/>`,
			y+svgLane/2+4, lane, svgLeft, svgWidth, y+svgLane, y+svgLane)
		for _, span := range s.Spans {
			if span.Lane != lane {
				continue
			}
			left, right := x(span.From), x(span.To)
			fmt.Fprintf(
				b,
				`<rect x="%.1f" y="%.1f" width="%.1f" height="%.1f" rx="2" fill="%s"><title>%s</title></rect>`,
				left,
				y+6,
				max(2, right-left),
				svgLane-12,
				svgColours[span.State],
				html.EscapeString(plain.Line(span.Title)),
			)
		}
	}
	for _, m := range s.Marks {
		fmt.Fprintf(
			b,
			`<line x1="%.1f" x2="%.1f" y1="%.0f" y2="%.1f" stroke="#8a94a3" stroke-dasharray="2 2"><title>%s`+
				`</title></line>`,
			x(m.At),
			x(m.At),
			svgTop-6,
			height-svgBottom,
			html.EscapeString(plain.Line(m.Title)),
		)
	}
	for i := range 5 {
		t := from.Add(time.Duration(float64(to.Sub(from)) * float64(i) / 4))
		anchor := []string{"start", "middle", "middle", "middle", "end"}[i]
		fmt.Fprintf(b, `<text x="%.1f" y="%.1f" text-anchor="%s">%s</text>`, x(t), height-6, anchor,
			t.UTC().Format("15:04:05"))
	}
	return b.String() + "</svg>"
}

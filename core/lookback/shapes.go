package lookback

import (
	"cmp"
	"regexp"
	"slices"
	"strings"
	"time"

	"urgentis/core/incident"
	"urgentis/core/plain"
)

// maxGroups bounds how many shapes are told apart, and maxLinesRead how many lines are read.
const (
	maxGroups    = 2000
	maxLinesRead = 200_000
)

// masked are what makes lines differ that say the same, in the order in which they are looked for.
var masked = []struct {
	of   *regexp.Regexp
	mark string
}{
	{regexp.MustCompile(`\b[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}\b`), "⟨id⟩"},
	{regexp.MustCompile(`\b\d{1,3}(?:\.\d{1,3}){3}(?::\d+)?\b`), "⟨address⟩"},
	{regexp.MustCompile(`"(?:[^"\\]|\\.)*"`), "⟨text⟩"},
	{regexp.MustCompile(`\b0x[0-9a-fA-F]+\b`), "⟨id⟩"},
	{regexp.MustCompile(`\b(?:[0-9a-f]*[a-f][0-9a-f]*\d|[0-9a-f]*\d[0-9a-f]*[a-f])[0-9a-f]{6,}\b`), "⟨id⟩"},
	{regexp.MustCompile(`\d+(?:[.,:]\d+)*`), "⟨n⟩"},
}

// stamped is a line that begins with when it was written (RFC 3339).
var stamped = regexp.MustCompile(`^\s*(\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d(?:\.\d+)?(?:Z|[+-]\d\d:?\d\d)?)[\s,:]*`)

// ShapeOf is a line without what makes it differ from others that say the same.
func ShapeOf(line string) string {
	for _, m := range masked {
		line = m.of.ReplaceAllString(line, m.mark)
	}
	return strings.Join(strings.Fields(line), " ")
}

// grouper groups lines by their shapes.
type grouper struct {
	onset time.Time
	by    map[string]*incident.LineShape
	lines int
	more  int // lines beyond the bounds
}

func newGrouper(onset time.Time) *grouper {
	return &grouper{onset: onset, by: map[string]*incident.LineShape{}}
}

// add takes in the lines of one target.
func (g *grouper) add(text, target string) {
	for line := range strings.SplitSeq(text, "\n") {
		at, rest := writtenAt(strings.TrimRight(line, "\r"))
		if strings.TrimSpace(rest) == "" {
			continue
		}
		if len(rest) > longestRow {
			rest = strings.ToValidUTF8(rest[:longestRow], "") + "…"
		}
		rest = plain.Line(strings.TrimSpace(rest))
		if g.lines++; g.lines > maxLinesRead {
			g.more++
			continue
		}
		shape := ShapeOf(rest)
		s := g.by[shape]
		if s == nil {
			if len(g.by) >= maxGroups {
				g.more++
				continue
			}
			s = &incident.LineShape{Text: shape, Example: rest}
			g.by[shape] = s
		}
		s.Count++
		switch {
		case at.IsZero():
		case at.Before(g.onset):
			s.Before++
		default:
			s.Since++
		}
		if target != "" && !slices.Contains(s.Targets, target) && len(s.Targets) < MaxSeries {
			s.Targets = append(s.Targets, target)
		}
	}
}

// writtenAt takes the time from the head of a line; the zero time where there is none.
func writtenAt(line string) (time.Time, string) {
	m := stamped.FindStringSubmatch(line)
	if m == nil {
		return time.Time{}, line
	}
	text := strings.Replace(m[1], " ", "T", 1)
	for _, form := range []string{time.RFC3339Nano, "2006-01-02T15:04:05Z0700", "2006-01-02T15:04:05"} {
		if t, err := time.Parse(form, text); err == nil {
			return t.UTC(), line[len(m[0]):]
		}
	}
	return time.Time{}, line
}

// shapes lists them: those first that came only since the onset, then the most frequent; and how many are left out.
func (g *grouper) shapes() ([]incident.LineShape, int) {
	out := []incident.LineShape{}
	for _, s := range g.by {
		slices.Sort(s.Targets)
		out = append(out, *s)
	}
	fresh := func(s incident.LineShape) int {
		if s.Before == 0 && s.Since > 0 {
			return 0
		}
		return 1
	}
	slices.SortFunc(out, func(a, b incident.LineShape) int {
		return cmp.Or(cmp.Compare(fresh(a), fresh(b)), cmp.Compare(b.Count, a.Count), cmp.Compare(a.Text, b.Text))
	})
	if n := len(out); n > MaxShapes {
		return out[:MaxShapes], n - MaxShapes + g.more
	}
	return out, g.more
}

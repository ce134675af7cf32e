package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"urgentis/api"
	"urgentis/core/doc"
	"urgentis/core/expr"
)

func (a *app) reading() *cobra.Command {
	var p api.ListReadingsParams
	list := lister(a, "List what was read last, of each target", "urgentis reading list --service berth-queue",
		"Nothing was read yet. Looks of runbooks keep what they read.",
		[]string{"service", "reading", "target", "value", "read"},
		func(cmd *cobra.Command, cl *client) (*[]api.Reading, error) {
			r, err := check(cl.ListReadingsWithResponse(cmd.Context(), &p))
			return r.JSON200, err
		},
		func(r api.Reading) []string {
			return []string{r.Service, r.Name, orDash(r.Target), clip(readingSays(r), 50), ago(r.At)}
		})
	list.Flags().StringVar(&p.Service, "service", "", "only those of a `SERVICE`")
	list.Flags().StringVar(&p.Name, "name", "", "only those of this `NAME`")
	a.offersFlag(list, "service", serviceNames)
	return noun("reading", "What looks read, over time", list, a.readingShow())
}

// readingSays is a value with its unit.
func readingSays(r api.Reading) string {
	if r.Value == nil {
		return r.Said
	}
	return strings.TrimSpace(expr.Say(*r.Value) + " " + r.Unit)
}

// courseWidth is how many columns a course has.
const courseWidth = 60

func (a *app) readingShow() *cobra.Command {
	var since, until string
	p := api.ReadingCoursesParams{Points: courseWidth}
	c := verb("show NAME", "A reading over a time, target by target",
		"urgentis reading show depth --service berth-queue --since 6h", cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			if p.Service == "" {
				return usage("say of which service: --service NAME")
			}
			var err error
			if p.From, p.Until, err = between(since, until); err != nil {
				return err
			}
			p.Name = args[0]
			r, err := check(cl.ReadingCoursesWithResponse(cmd.Context(), &p))
			if err != nil {
				return err
			}
			return a.print(listOf(*r.JSON200), func() { a.showCourses(*r.JSON200, p.From, p.Until) })
		}))
	c.Flags().StringVar(&p.Service, "service", "", "of this `SERVICE`")
	c.Flags().StringVar(&p.Target, "target", "", "only of this `TARGET`")
	c.Flags().StringVar(&since, "since", "2h", "from this `TIME` on: so long ago, or 2026-12-24T23:00:00Z")
	c.Flags().StringVar(&until, "until", "", "until this `TIME`; now unless said")
	a.offersFlag(c, "service", serviceNames)
	return c
}

// between reads the flags --since and --until; without the second one it is until now.
func between(since, until string) (from, to time.Time, err error) {
	if from, err = back("since", since); err != nil {
		return from, to, err
	}
	if to, err = back("until", until); to.IsZero() {
		to = time.Now()
	}
	return from, to, err
}

// back reads a time: one of RFC 3339, or how long ago; the zero time where none is given.
func back(flag, text string) (time.Time, error) {
	if d, err := doc.ParseDuration(text); err == nil {
		return time.Now().Add(-d).Truncate(time.Second), nil
	}
	t, err := ahead(flag, text)
	if err != nil {
		err = usage("--%s must be how long ago, such as 6h, or a time such as 2026-12-24T23:00:00Z", flag)
	}
	return t, err
}

// showCourses draws readings over time, all on one scale, so that the odd one stands out.
func (a *app) showCourses(list []api.Course, from, until time.Time) {
	low, high, any := 0.0, 0.0, false
	for _, c := range list {
		for _, p := range c.Points {
			if p.Value == nil {
				continue
			}
			if !any {
				low, high, any = *p.Low, *p.High, true
			}
			low, high = min(low, *p.Low), max(high, *p.High)
		}
	}
	a.say("%s  from %s until %s\n", a.paint(bold, list[0].Reading.Name), from.UTC().Format("2006-01-02 15:04"),
		until.UTC().Format("2006-01-02 15:04 MST"))
	var rows [][]string
	for _, c := range list {
		first, last := "-", "-"
		for _, p := range c.Points {
			if last = pointSays(p); first == "-" {
				first = last
			}
		}
		rows = append(rows, []string{orDash(c.Reading.Target), drawn(c.Points, from, until, low, high), first, last,
			c.Reading.Unit})
	}
	a.table("Nothing was read then.", []string{"target", "course", "first", "last", ""}, rows)
	if any {
		a.say(
			"%s\n",
			a.paint(dim, fmt.Sprintf("from %s at the bottom to %s at the top; where nothing was read is a gap",
				expr.Say(low), expr.Say(high))),
		)
	}
}

func pointSays(p api.ReadingPoint) string {
	if p.Value == nil {
		return clip(p.Said, 20)
	}
	return expr.Say(*p.Value)
}

// levels are the heights of a course in one line.
var levels = []rune("▁▂▃▄▅▆▇█")

// drawn draws a course in one line.
func drawn(points []api.ReadingPoint, from, until time.Time, low, high float64) string {
	line := []rune(strings.Repeat(" ", courseWidth))
	for _, p := range points {
		at := int(float64(courseWidth) * p.At.Sub(from).Seconds() / until.Sub(from).Seconds())
		if at < 0 || at >= courseWidth {
			continue
		}
		switch {
		case p.Value == nil:
			line[at] = '·'
		case high > low:
			line[at] = levels[int((*p.Value-low)/(high-low)*float64(len(levels)-1)+0.5)]
		default:
			line[at] = levels[0]
		}
	}
	return string(line)
}

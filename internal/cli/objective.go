package cli

import (
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"urgentis/api"
	"urgentis/core/expr"
	"urgentis/core/plain"
)

func (a *app) objectives() *cobra.Command {
	var p api.ListWatchesParams
	list := lister(a, "List scheduled looks, and how each went last", "urgentis watch list --service berth-queue",
		"No watches. A watch is a document: see docs/evidence.md, and push it with urgentis push.",
		[]string{"name", "service", "every", "reads", "taken", "answered", "took", "trouble"},
		func(cmd *cobra.Command, cl *client) (*[]api.Watch, error) {
			r, err := check(cl.ListWatchesWithResponse(cmd.Context(), &p))
			return r.JSON200, err
		},
		func(w api.Watch) []string {
			answered := "-"
			if !w.TakenAt.IsZero() {
				answered = fmt.Sprintf("%d of %d", w.Answered, w.Asked)
			}
			return []string{w.Name, w.Service, plain.Span(seconds(w.Every)), clip(strings.Join(w.Readings, ", "), 40),
				ago(w.TakenAt), answered, fmt.Sprintf("%.0f ms", w.Took*1000), clip(orDash(w.Trouble), 60)}
		})
	list.Flags().StringVar(&p.Service, "service", "", "only those of a `SERVICE`")
	a.offersFlag(list, "service", serviceNames)
	return noun("watch", "Scheduled looks", list)
}

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

func (a *app) objective() *cobra.Command {
	var p api.ListObjectivesParams
	list := lister(a, "List objectives: share that is good, budget left, burn rate",
		"urgentis objective list --service berth-queue",
		"No objectives. An objective is a document: see docs/objectives.md, and push it with urgentis push.",
		[]string{"name", "service", "target", "good", "budget left", "burn rate", "unknown"},
		func(cmd *cobra.Command, cl *client) (*[]api.Objective, error) {
			r, err := check(cl.ListObjectivesWithResponse(cmd.Context(), &p))
			return r.JSON200, err
		}, objectiveRow)
	list.Flags().StringVar(&p.Service, "service", "", "only those of a `SERVICE`")
	a.offersFlag(list, "service", serviceNames)
	return noun("objective", "What services are measured against, and what is left of their budgets", list,
		a.objectiveShow())
}

func objectiveRow(o api.Objective) []string {
	if o.Broken != "" {
		return []string{o.Name, o.Service, clip(o.Broken, 60), "-", "-", "-", "-"}
	}
	unknown := "-"
	if o.UnknownMinutes > 0 {
		unknown = plain.Span(time.Duration(o.UnknownMinutes) * time.Minute)
	}
	return []string{o.Name, o.Service, o.Says, share(o.Share), share(o.Left), burnSays(o), unknown}
}

// share is a share as a percentage, rounded down, so that it claims no more than there is.
func share(x *float64) string {
	if x == nil {
		return "-"
	}
	y := *x * 100
	switch {
	case y < 0:
		return fmt.Sprintf("%.1f %%", y)
	case y >= 99 && y < 100:
		return fmt.Sprintf("%.3f %%", float64(int(y*1000))/1000)
	}
	return fmt.Sprintf("%.1f %%", float64(int(y*10))/10)
}

// burnSays is the burn rate of a budget: over the first time in which it is too high, or over the shortest.
func burnSays(o api.Objective) string {
	if len(o.Burns) == 0 {
		return "-"
	}
	at := o.Burns[0]
	for _, b := range o.Burns {
		if b.On {
			return fmt.Sprintf("%.1f× (%s), too high", b.Long, b.Over)
		}
	}
	return fmt.Sprintf("%.1f× (%s)", at.Long, at.Over)
}

func (a *app) objectiveShow() *cobra.Command {
	var since, until string
	p := api.ObjectiveCourseParams{Points: courseWidth}
	c := verb("show NAME", "How an objective stands, and how it came to that",
		"urgentis objective show berths-in-time --since 7d", cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			var err error
			if p.From, p.Until, err = between(since, until); err != nil {
				return err
			}
			course, err := check(cl.ObjectiveCourseWithResponse(cmd.Context(), args[0], &p))
			if err != nil {
				return err
			}
			all, err := check(cl.ListObjectivesWithResponse(cmd.Context(), &api.ListObjectivesParams{}))
			if err != nil {
				return err
			}
			for _, o := range *all.JSON200 {
				if o.Name == args[0] {
					return a.print(map[string]any{"objective": o, "course": *course.JSON200}, func() {
						a.showObjective(o, *course.JSON200, p.From, p.Until)
					})
				}
			}
			return &failure{code: exitNotFound, err: fmt.Errorf("there is no objective %s", args[0])}
		}))
	c.Flags().StringVar(&since, "since", "24h", "from this `TIME` on: so long ago, or 2026-12-24T23:00:00Z")
	c.Flags().StringVar(&until, "until", "", "until this `TIME`; now unless said")
	a.offers(c, objectiveNames)
	return c
}

func (a *app) showObjective(o api.Objective, course []api.ObjectivePoint, from, until time.Time) {
	a.say("%s  %s\n", a.paint(bold, o.Title), a.paint(dim, o.Name+" of "+o.Service))
	a.say("target     %s\n", o.Says)
	a.say("good       %s (%s bad)\n", share(o.Share), expr.Say(o.Bad))
	a.say("left       %s of the budget, from %s\n", share(o.Left), o.From.UTC().Format("2006-01-02 15:04 MST"))
	if o.UnknownMinutes > 0 {
		a.say("unknown    %s; %s\n", plain.Span(time.Duration(o.UnknownMinutes)*time.Minute),
			orDash(o.WhyUnknown))
	}
	for _, b := range o.Burns {
		state := ours("")
		if b.On {
			state = a.paint(red, "  too high: "+b.Severity)
		}
		a.say("burn rate  %.1f× (%s), %.1f× lately; %s from %.1f× on%s\n", b.Long, b.Over, b.Short, b.Severity, b.Limit,
			state)
	}
	bad, left := make([]api.ReadingPoint, 0, len(course)), make([]api.ReadingPoint, 0, len(course))
	low, high := 0.0, 1.0
	for _, p := range course {
		if p.Good+p.Bad > 0 {
			share := p.Good / (p.Good + p.Bad)
			bad = append(bad, api.ReadingPoint{At: p.At, Value: &share})
		}
		if p.Left != nil {
			left = append(left, api.ReadingPoint{At: p.At, Value: p.Left})
			low = min(low, *p.Left)
		}
	}
	a.say("\n%s  from %s until %s\n", a.paint(bold, "course"), from.UTC().Format("2006-01-02 15:04"),
		until.UTC().Format("2006-01-02 15:04 MST"))
	a.say("good  %s\n", drawn(bad, from, until, 0, 1))
	a.say("left  %s\n", drawn(left, from, until, low, high))
	a.say("%s\n", a.paint(dim, "from nothing at the bottom to all at the top; where nothing is known is a gap"))
}

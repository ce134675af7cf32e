package cli

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"urgentis/api"
	"urgentis/core/expr"
	"urgentis/core/plain"
)

func (a *app) incidentAround() *cobra.Command {
	return a.onIncident(
		"around NUMBER",
		"How wide it is, recent changes, outliers, and whether it happened before",
		"urgentis incident around 12",
		cobra.ExactArgs(1),
		func(cmd *cobra.Command, cl *client, n int64, _ []string) error {
			r, err := check(cl.AroundIncidentWithResponse(cmd.Context(), n))
			if err != nil {
				return err
			}
			return a.print(r.JSON200, func() { a.around(r.JSON200) })
		},
	)
}

// mostThings is how many alerts of one service are told.
const mostThings = 8

// alongSays is how a service stands to the incident's own.
var alongSays = map[string]string{"": "itself", "depends_on": "it needs this", "needed_by": "needs it"}

func (a *app) around(x *api.Around) {
	a.say("%s\n", a.paint(bold, "How wide"))
	var rows [][]string
	for i, w := range x.Wide {
		first := ""
		if i == 0 && len(x.Wide) > 1 {
			first = "went bad first"
		}
		for n, t := range w.Things {
			if n == mostThings {
				rows = append(rows, []string{"", "", "", "", fmt.Sprintf("and %d more", w.Count-n), "", ""})
				break
			}
			state := t.Severity
			if t.Over {
				state = "over"
			}
			rows = append(rows, []string{w.Service, alongSays[w.Along], clock(t.At), state, clip(t.Summary, 60),
				orDash(t.Target), first})
			first = ""
		}
	}
	a.table(
		"Nothing that is known: it has no service, or no alert of its services stood while it was open.",
		[]string{"service", "is", "since", "state", "alert", "target", ""},
		rows,
	)
	a.say("\n%s  %s\n", a.paint(bold, "Before it"), a.paint(dim, "from "+clock(x.Since)+" on"))
	rows = nil
	for _, m := range x.Before {
		rows = append(rows, markRow(m))
	}
	a.table("Nothing was deployed, changed or set on its services in the two hours before.",
		[]string{"at", "what", "service", "which", "by"}, rows)
	if len(x.Odd) > 0 {
		a.say("\n%s\n", a.paint(bold, "Outliers"))
		for _, o := range x.Odd {
			a.say("%s\n", o.Says)
		}
	}
	a.say("\n%s\n", a.paint(bold, "Does it get worse?"))
	rows = nil
	for _, c := range x.Courses {
		then := "-"
		if c.Then != nil {
			then = expr.Say(*c.Then)
		}
		rows = append(rows, []string{c.Reading, c.Target, then, expr.Say(c.Now), c.Unit, movedSays(c), clock(c.NowAt)})
	}
	a.table("Nothing was read of its service since it was opened.",
		[]string{"reading", "target", "before it", "now", "unit", "is", "read"}, rows)
	a.say("\n%s\n", a.paint(bold, "Happened before"))
	if len(x.Returns) == 0 {
		a.say("First time with this alert on this service.\n")
		return
	}
	if x.Lately > 0 {
		a.say("%s in the 30 days before.\n", times(x.Lately))
	}
	rows = nil
	for _, r := range x.Returns {
		rows = append(
			rows,
			[]string{fmt.Sprint(r.Number), r.Outcome, orDash(r.Runbook), ago(r.At), clip(r.Because, 60)},
		)
	}
	a.table("", []string{"number", "outcome", "runbook", "closed", "reason"}, rows)
}

// movedSays says in words how a reading moved.
func movedSays(c api.ReadingMove) string {
	switch {
	case c.Then == nil:
		return "nothing was read before"
	case c.Says == "other":
		return "moved"
	}
	return c.Says
}

func markRow(m api.ServiceMark) []string {
	title := m.Title
	if m.Incident != 0 {
		title = fmt.Sprintf("%s (incident %d)", title, m.Incident)
	}
	return []string{clock(m.At), string(m.What), m.Service, clip(title, 60), orDash(m.By)}
}

// clock is a time of today by its hour, another one by its day too.
func clock(t time.Time) string {
	t = t.UTC()
	if t.Format(time.DateOnly) == time.Now().UTC().Format(time.DateOnly) {
		return t.Format("15:04:05")
	}
	return t.Format("2006-01-02 15:04")
}

func times(n int) string {
	if n == 1 {
		return "Once"
	}
	return fmt.Sprintf("%d times", n)
}

func (a *app) serviceShow() *cobra.Command {
	return verb("show NAME", "How a service stands: its objectives, what was read last, what happened to it",
		"urgentis service show berth-queue", cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			var out struct {
				Standing   api.ServiceStanding `json:"standing"`
				Objectives []api.Objective     `json:"objectives"`
				Watches    []api.Watch         `json:"watches"`
				Readings   []api.Reading       `json:"readings"`
				Marks      []api.ServiceMark   `json:"marks"`
			}
			ctx, name := cmd.Context(), args[0]
			standing, err := check(cl.ServiceStandingWithResponse(ctx, name, &api.ServiceStandingParams{}))
			if err != nil {
				return err
			}
			out.Standing = *standing.JSON200
			marks, err := check(cl.ServiceMarksWithResponse(ctx, name, &api.ServiceMarksParams{}))
			if err != nil {
				return err
			}
			objectives, err := check(cl.ListObjectivesWithResponse(ctx, &api.ListObjectivesParams{Service: name}))
			if err != nil {
				return err
			}
			watches, err := check(cl.ListWatchesWithResponse(ctx, &api.ListWatchesParams{Service: name}))
			if err != nil {
				return err
			}
			readings, err := check(cl.ListReadingsWithResponse(ctx, &api.ListReadingsParams{Service: name}))
			if err != nil {
				return err
			}
			out.Marks, out.Objectives = *marks.JSON200, *objectives.JSON200
			out.Watches, out.Readings = *watches.JSON200, *readings.JSON200
			return a.print(out, func() {
				a.sayStanding(out.Standing)
				a.say("\n%s\n", a.paint(bold, "Objectives"))
				a.table(
					"None: see docs/objectives.md.",
					[]string{"name", "target", "good", "budget left", "burn rate", "unknown"},
					rowsOf(out.Objectives, func(o api.Objective) []string {
						r := objectiveRow(o)
						return append(r[:1], r[2:]...)
					}),
				)
				a.say("\n%s\n", a.paint(bold, "Read last"))
				a.table("Nothing was read of it yet.", []string{"reading", "target", "value", "read"},
					rowsOf(out.Readings, func(r api.Reading) []string {
						return []string{r.Name, orDash(r.Target), clip(readingSays(r), 50), ago(r.At)}
					}))
				for _, w := range out.Watches {
					if w.Trouble != "" {
						a.say("%s\n", a.paint(red, fmt.Sprintf("watch %s: %s", w.Name, clip(w.Trouble, 100))))
					}
				}
				a.say("\n%s\n", a.paint(bold, "In the last day, here and on what it needs"))
				a.table(
					"Nothing happened.",
					[]string{"at", "what", "service", "which", "by"},
					rowsOf(out.Marks, markRow),
				)
			})
		}))
}

// sayStanding prints how a service stands, in its sentence.
func (a *app) sayStanding(s api.ServiceStanding) {
	color := map[api.ServiceStandingState]string{api.ServiceStandingStateBad: red, api.ServiceStandingStateMissed: red,
		api.ServiceStandingStateUnknown: amber}[s.State]
	says := clip(s.Says, 200)
	if !s.Since.IsZero() {
		says += ", for " + plain.Lasted(time.Since(s.Since))
	}
	a.say("%s\n", a.paint(color, says))
	for _, line := range s.Below {
		a.say("%s\n", line)
	}
	a.sayLinks(s.Links)
}

// sayLinks prints pages outside that tell more.
func (a *app) sayLinks(list []api.PageLink) {
	for _, l := range list {
		a.say("%s  %s\n", plain.Line(l.Title), plain.Line(l.Address))
	}
}

func rowsOf[T any](list []T, row func(T) []string) [][]string {
	out := make([][]string, len(list))
	for i, x := range list {
		out[i] = row(x)
	}
	return out
}

package cli

import (
	"bufio"
	"context"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"urgentis/api"
	"urgentis/core/doc"
)

func (a *app) incident() *cobra.Command {
	return noun(
		"incident",
		"Incidents and their records",
		a.incidentList(),
		a.offers(a.incidentShow(), incidentNumbers),
		a.offers(a.incidentFollow(), incidentNumbers),
		a.incidentOpen(),
		a.offers(a.incidentTake(), incidentNumbers),
		a.offers(a.incidentReassign(), incidentNumbers),
		a.offers(a.incidentNote(), incidentNumbers),
		a.offers(a.incidentLook(), incidentNumbers),
		a.offers(a.incidentSuggest(), incidentNumbers),
		a.offers(a.incidentAround(), incidentNumbers),
		a.offers(a.incidentHistory(), incidentNumbers),
		a.offers(a.incidentEdit(), incidentNumbers),
		a.offers(a.incidentMerge(), incidentNumbers),
		a.offers(a.incidentSplit(), incidentNumbers),
		a.offers(a.incidentClose(), incidentNumbers),
		a.offers(a.incidentReopen(), incidentNumbers),
		a.offers(a.incidentFiles(), incidentNumbers),
		a.offers(a.incidentAttach(), incidentNumbers),
		a.offers(a.incidentFile(), incidentNumbers),
		a.offers(a.incidentLink(), incidentNumbers),
		a.offers(a.incidentReport(), incidentNumbers),
		a.offers(a.incidentExport(), incidentNumbers),
		a.offers(a.incidentVerify(), incidentNumbers),
	)
}

// number reads the number of an incident.
func number(s string) (int64, error) { return numbered("incident", s) }

// numbered reads the number of a thing.
func numbered(what, s string) (int64, error) {
	n, err := strconv.ParseInt(s, 10, 64)
	if err != nil || n < 1 {
		return 0, usage("%q is no %s's number", s, what)
	}
	return n, nil
}

// onIncident makes a command whose first argument is an incident's number.
func (a *app) onIncident(
	use, short, example string,
	args cobra.PositionalArgs,
	run func(cmd *cobra.Command, cl *client, n int64, args []string) error,
) *cobra.Command {
	return verb(use, short, example, args, func(cmd *cobra.Command, got []string) error {
		n, err := number(got[0])
		if err != nil {
			return err
		}
		cl, err := a.client()
		if err != nil {
			return err
		}
		return run(cmd, cl, n, got)
	})
}

func (a *app) incidentList() *cobra.Command {
	var p api.ListIncidentsParams
	var all bool
	var limit int
	var since, before, saved, save string
	var narrowed bool
	c := doerList(
		a,
		"List open incidents, the newest first",
		"urgentis incident list --all --service berth-queue\n"+
			`urgentis incident list --all --text "pump or lamp" --since 24h`+"\n"+
			"urgentis incident list --label quay=north --save north; urgentis incident list --saved north",
		&limit,
		func(ctx context.Context, cl *client, cursor string, n int) ([]api.Incident, string, error) {
			if cursor == "" {
				if err := searching(ctx, cl, &p, saved, save); err != nil {
					return nil, "", err
				}
			}
			p.Cursor, p.Limit, p.State = cursor, n, "open"
			narrowed = p.Service+p.Text+p.Severity+p.Outcome+p.Holder+p.Label+p.Source+since+before != ""
			if all {
				p.State = ""
			}
			var err error
			if p.From, p.To, err = period(since, before); err != nil {
				return nil, "", err
			}
			r, err := check(cl.ListIncidentsWithResponse(ctx, &p))
			if err != nil {
				return nil, "", err
			}
			return r.JSON200.Items, r.JSON200.Next, nil
		},
		func(items []api.Incident) {
			var rows [][]string
			for _, i := range items {
				rows = append(rows, []string{
					fmt.Sprint(i.Number), i.Severity, string(i.State),
					orDash(
						strings.Replace(string(i.WaitingOn), "nobody", "", 1),
					), orDash(i.Outcome), orDash(i.Holder), fmt.Sprint(i.Alerts), ago(i.OpenedAt), clip(i.Title, 60),
				})
			}
			none := "No incidents. See the closed ones with --all."
			switch {
			case narrowed && all:
				none = "No incident is like that."
			case narrowed:
				none = "No open incident is like that. See the closed ones with --all."
			case all:
				none = "No incidents. None was ever opened."
			}
			a.table(
				none,
				[]string{"no", "severity", "state", "waits on", "outcome", "held by", "alerts", "opened", "title"},
				rows,
			)
		},
	)
	c.Flags().BoolVar(&all, "all", false, "closed ones too")
	f := c.Flags()
	f.StringVar(&p.Service, "service", "", "only those about this `SERVICE`")
	f.StringVar(&p.Text, "text", "", "only those that have these `WORDS`: words, \"phrases\", or, -without")
	f.StringVar(&p.Severity, "severity", "", "only those of this `SEVERITY`")
	f.StringVar(&p.Outcome, "outcome", "", "only those that ended with this `OUTCOME`")
	f.StringVar(&p.Holder, "holder", "", "only those that this `PERSON` holds")
	f.StringVar(&p.Label, "label", "", "only those with an alert that has this label, as `NAME=VALUE`")
	f.StringVar(&p.Source, "source", "", "only those with an alert of this `SOURCE`")
	f.StringVar(&since, "since", "", "only those opened since a `TIME`: 24h ago, or 2031-03-01T02:00:00Z")
	f.StringVar(&before, "before", "", "only those opened before a `TIME`")
	f.StringVar(&save, "save", "", "keep what is given here as a search of your own, under a `NAME`")
	f.StringVar(&saved, "saved", "", "narrow it as your search `NAME` does; what is given beside it counts more")
	a.offersFlag(c, "service", serviceNames)
	a.offersFlag(c, "source", sourceNames)
	a.offersFlag(c, "saved", searchNames)
	complete(c, "severity", "critical", "major", "minor", "warning")
	return c
}

// period reads the two times that narrow a list, --since and --before.
func period(since, before string) (from, to time.Time, err error) {
	if from, err = moment("since", since); err != nil {
		return from, to, err
	}
	to, err = moment("before", before)
	return from, to, err
}

// moment reads a time: one of RFC 3339, or how long ago.
func moment(flag, text string) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if d, err := doc.ParseDuration(text); err == nil {
		return time.Now().Add(-d), nil
	}
	t, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return t, usage("--%s must be how long ago, such as 24h, or a time such as 2031-03-01T02:00:00Z", flag)
	}
	return t, nil
}

func (a *app) incidentShow() *cobra.Command {
	var how showing
	c := a.onIncident(
		"show NUMBER",
		"Show an incident: its story, what was done, by whom, and what is left",
		"urgentis incident show 12\nurgentis incident show 12 --record",
		cobra.ExactArgs(1),
		func(cmd *cobra.Command, cl *client, n int64, _ []string) error {
			return a.showIncident(cmd.Context(), cl, n, how)
		},
	)
	c.Flags().BoolVar(&how.detail, "detail", false, "with every row of the story, and all lines below them")
	c.Flags().BoolVar(&how.record, "record", false, "the record itself, entry by entry, in the place of the story")
	return c
}

// showing is how much of an incident is shown.
type showing struct{ detail, record bool }

func (a *app) showIncident(ctx context.Context, cl *client, n int64, how showing) error {
	r, err := check(cl.GetIncidentWithResponse(ctx, n, nil))
	if err != nil {
		return err
	}
	t, err := check(cl.GetStoryWithResponse(ctx, n, &api.GetStoryParams{}))
	if err != nil {
		return err
	}
	return a.print(r.JSON200, func() {
		a.head(r.JSON200.Incident, r.JSON200.Harm, a.standing(ctx, cl, n))
		if how.record {
			for _, e := range r.JSON200.Entries {
				a.entry(e)
			}
		} else {
			a.rows(t.JSON200.Rows, how.detail)
			if !r.JSON200.Incident.ClosedAt.IsZero() {
				a.sum(t.JSON200.Sum)
			}
		}
		for _, t := range r.JSON200.Tickets {
			a.say("%s\n", a.paint(dim, fmt.Sprintf("ticket %s at %s is %s %s", t.Number, t.Desk, t.State, t.Link)))
		}
		a.changedBefore(r.JSON200.Deployments)
		a.waiting(r.JSON200.Gates, r.JSON200.Questions)
	})
}

// waiting says how to answer what is open.
func (a *app) waiting(gates []api.Gate, questions []api.Question) {
	for _, g := range gates {
		a.say("\n%s\n  urgentis gate show %s\n", a.paint(amber, "Waits for approval "+until(g.Until)+":"), g.Id)
	}
	for _, q := range questions {
		a.say(
			"\n%s\n  urgentis question answer %s %s\n",
			a.paint(amber, "Waits for an answer "+until(q.Until)+":"),
			q.Id,
			strings.Join(q.Choices, "|"),
		)
	}
}

func (a *app) incidentFollow() *cobra.Command {
	return a.onIncident(
		"follow NUMBER",
		"Print the record as it is written, until the incident is closed",
		"urgentis incident follow 12",
		cobra.ExactArgs(1),
		func(cmd *cobra.Command, cl *client, n int64, _ []string) error {
			return a.follow(cmd.Context(), cl, n)
		},
	)
}

// follow prints new entries until the incident is closed.
func (a *app) follow(ctx context.Context, cl *client, n int64) error {
	seen := int64(0)
	return a.watch(ctx, cl, func() (bool, error) {
		if seen == 0 {
			r, err := check(cl.GetIncidentWithResponse(ctx, n, nil))
			if err != nil {
				return false, err
			}
			a.head(r.JSON200.Incident, r.JSON200.Harm, a.standing(ctx, cl, n))
		}
		e, err := check(cl.ListEntriesWithResponse(ctx, n, &api.ListEntriesParams{After: seen}))
		if err != nil {
			return false, err
		}
		for _, x := range *e.JSON200 {
			a.entry(x)
			seen = x.Seq
			if x.Kind == "incident.closed" {
				return true, nil
			}
		}
		return false, nil
	})
}

// watch calls look at once and each time that something has changed, until it says that all is seen.
// A connection that breaks is made anew.
func (a *app) watch(ctx context.Context, cl *client, look func() (done bool, err error)) error {
	changed, err := cl.stream(ctx)
	if err != nil {
		return err
	}
	for {
		if done, err := look(); done || err != nil {
			return err
		}
		select {
		case _, ok := <-changed:
			if ok {
				continue
			}
			if ctx.Err() != nil {
				return nil
			}
			fmt.Fprintln(a.err, a.paint(dim, "the connection was lost; trying again"))
			time.Sleep(time.Second)
			if changed, err = cl.stream(ctx); err != nil {
				return err
			}
		case <-ctx.Done():
			return nil
		}
	}
}

// stream tells each time that something has changed; it is closed when the connection ends.
func (c *client) stream(ctx context.Context) (<-chan struct{}, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.kept.Server+"/api/v1/stream", nil)
	if err != nil {
		return nil, err
	}
	c.authorize(req)
	res, err := c.raw.Do(req)
	if err != nil {
		return nil, unreachable(err)
	}
	if res.StatusCode != http.StatusOK {
		res.Body.Close() //nolint:errcheck // it is not read
		return nil, refusal(res.StatusCode, nil)
	}
	out := make(chan struct{}, 1)
	go func() {
		defer close(out)
		defer res.Body.Close()
		lines := bufio.NewScanner(res.Body)
		lines.Buffer(make([]byte, 64<<10), 4<<20)
		for lines.Scan() {
			if l := lines.Text(); l == "event: changed" || l == "event: beat" || l == "event: behind" {
				select {
				case out <- struct{}{}:
				default:
				}
			}
		}
	}()
	return out, nil
}

func (a *app) incidentNote() *cobra.Command {
	var outward bool
	c := a.onIncident(
		"note NUMBER TEXT",
		"Write a note into the record",
		`urgentis incident note 12 "The pilot boat was told."`+"\n"+
			`urgentis incident note 12 --outward "Ferries run again from 04:00."`,
		cobra.MinimumNArgs(2),
		func(cmd *cobra.Command, cl *client, n int64, args []string) error {
			r, err := check(
				cl.AddNoteWithResponse(
					once(cmd.Context()),
					n,
					api.NewNote{Text: strings.Join(args[1:], " "), Outward: outward},
				),
			)
			if err != nil {
				return err
			}
			return a.print(r.JSON201, func() { a.say("Written as entry %d.\n", r.JSON201.Seq) })
		},
	)
	c.Flags().BoolVar(&outward, "outward", false, "for others than those who work on it; it stands first in the report")
	return c
}

func (a *app) incidentClose() *cobra.Command {
	var outcome, because string
	c := a.onIncident(
		"close NUMBER",
		"Close an incident by hand",
		`urgentis incident close 12 --outcome repaired-by-hand --because "Restarted the feed."`,
		cobra.ExactArgs(1),
		func(cmd *cobra.Command, cl *client, n int64, _ []string) error {
			if because == "" {
				return usage("the record says why: give --because")
			}
			r, err := check(
				cl.CloseIncidentWithResponse(
					cmd.Context(),
					n,
					api.Closing{Outcome: api.ClosingOutcome(outcome), Because: because},
				),
			)
			if err != nil {
				return err
			}
			return a.print(r.JSON200, func() { a.say("Incident %d is closed: %s.\n", n, outcome) })
		},
	)
	c.Flags().
		StringVar(&outcome, "outcome", "repaired-by-hand", "`OUTCOME`: repaired-by-hand, mitigated, false-alarm, "+
			"cleared-itself or not-repaired")
	c.Flags().StringVar(&because, "because", "", "`WHY`, for the record")
	complete(c, "outcome", "repaired-by-hand", "mitigated", "false-alarm", "cleared-itself", "not-repaired")
	return c
}

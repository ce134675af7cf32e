package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"urgentis/api"
)

func (a *app) incident() *cobra.Command {
	return noun(
		"incident",
		"Incidents and their records",
		a.incidentList(),
		a.offers(a.incidentShow(), incidentNumbers),
		a.offers(a.incidentFollow(), incidentNumbers),
		a.offers(a.incidentNote(), incidentNumbers),
		a.offers(a.incidentClose(), incidentNumbers),
		a.offers(a.incidentVerify(), incidentNumbers),
	)
}

func number(s string) (int64, error) {
	n, err := strconv.ParseInt(s, 10, 64)
	if err != nil || n < 1 {
		return 0, usage("%q is no incident's number", s)
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
	c := doerList(
		a,
		"List open incidents, the newest first",
		"urgentis incident list --all --service berth-queue",
		&limit,
		func(ctx context.Context, cl *client, cursor string, n int) ([]api.Incident, string, error) {
			p.Cursor, p.Limit, p.State = cursor, n, "open"
			if all {
				p.State = ""
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
					), orDash(i.Outcome), ago(i.OpenedAt), clip(i.Title, 60),
				})
			}
			a.table(
				"No incidents. "+map[bool]string{true: "None was ever opened.", false: "See the closed ones with " +
					"--all."}[all],
				[]string{"no", "severity", "state", "waits on", "outcome", "opened", "title"},
				rows,
			)
		},
	)
	c.Flags().BoolVar(&all, "all", false, "closed ones too")
	c.Flags().StringVar(&p.Service, "service", "", "only those about this `SERVICE`")
	a.offersFlag(c, "service", serviceNames)
	return c
}

func (a *app) incidentShow() *cobra.Command {
	return a.onIncident(
		"show NUMBER",
		"Show an incident with its record",
		"urgentis incident show 12",
		cobra.ExactArgs(1),
		func(cmd *cobra.Command, cl *client, n int64, _ []string) error {
			return a.showIncident(cmd.Context(), cl, n)
		},
	)
}

func (a *app) showIncident(ctx context.Context, cl *client, n int64) error {
	r, err := check(cl.GetIncidentWithResponse(ctx, n))
	if err != nil {
		return err
	}
	return a.print(r.JSON200, func() {
		a.head(r.JSON200.Incident)
		for _, e := range r.JSON200.Entries {
			a.entry(e)
		}
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
			r, err := check(cl.GetIncidentWithResponse(ctx, n))
			if err != nil {
				return false, err
			}
			a.head(r.JSON200.Incident)
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
	return a.onIncident(
		"note NUMBER TEXT",
		"Write a note into the record",
		`urgentis incident note 12 "The pilot boat was told."`,
		cobra.MinimumNArgs(2),
		func(cmd *cobra.Command, cl *client, n int64, args []string) error {
			r, err := check(cl.AddNoteWithResponse(cmd.Context(), n, api.NewNote{Text: strings.Join(args[1:], " ")}))
			if err != nil {
				return err
			}
			return a.print(r.JSON201, func() { a.say("Written as entry %d.\n", r.JSON201.Seq) })
		},
	)
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

func (a *app) incidentVerify() *cobra.Command {
	return a.onIncident(
		"verify NUMBER",
		"Check that no entry of the record was changed or taken away",
		"urgentis incident verify 12",
		cobra.ExactArgs(1),
		func(cmd *cobra.Command, cl *client, n int64, _ []string) error {
			r, err := check(cl.VerifyIncidentWithResponse(cmd.Context(), n))
			if err != nil {
				return err
			}
			if err := a.print(r.JSON200, func() { a.say("Incident %d: %s.\n", n, r.JSON200.Says) }); err != nil {
				return err
			}
			if !r.JSON200.Whole {
				return errors.New("the record is not as it was written")
			}
			return nil
		},
	)
}

package cli

import (
	"fmt"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"urgentis/api"
	"urgentis/core/doc"
	"urgentis/core/plain"
	"urgentis/core/route"
)

// who tells who is on call, and who would be told of something.
func (a *app) who() *cobra.Command {
	var at string
	var p api.WhoIsToldParams
	c := verb("who [TEAM]", "Who is on call, and who would be told of something, now or at a given time",
		"urgentis who --service berth-queue --severity critical --at 2026-12-24T23:00:00Z", cobra.MaximumNArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			when, err := ahead("at", at)
			if err != nil {
				return err
			}
			if p.Kind != "" || p.Service != "" || p.Severity != "" || p.To != "" {
				p.At = when
				return a.whoIsTold(cmd, cl, p)
			}
			of := api.ListOnCallParams{At: when}
			if len(args) > 0 {
				of.Team = args[0]
			}
			r, err := check(cl.ListOnCallWithResponse(cmd.Context(), &of))
			if err != nil {
				return err
			}
			return a.print(listOf(*r.JSON200), func() { a.showOnCall(*r.JSON200) })
		}))
	f := c.Flags()
	f.StringVar(&at, "at", "", "at this `TIME`: 8h from now, or 2026-12-24T23:00:00Z; now unless said")
	f.StringVar(&p.Service, "service", "", "who would be told of trouble with this `SERVICE`")
	f.StringVar(&p.Severity, "severity", "", "as bad as this: critical, major, minor or `warning`")
	f.StringVar(&p.Kind, "of", "", "of this kind of notice; handed.over unless said")
	f.StringVar(&p.To, "asked", "", "that is asked of them, such as `on-call/quayside`")
	complete(c, "severity", "critical", "major", "minor", "warning")
	complete(c, "of", route.KindNames()...)
	return a.offers(c, teamNames)
}

// whoIsTold tells who would be told of something, until somebody took it.
func (a *app) whoIsTold(cmd *cobra.Command, cl *client, p api.WhoIsToldParams) error {
	r, err := check(cl.WhoIsToldWithResponse(cmd.Context(), &p))
	if err != nil {
		return err
	}
	return a.print(r.JSON200, func() { a.showTold(r.JSON200) })
}

func (a *app) showTold(f *api.Foretold) {
	var rows [][]string
	for _, t := range f.Tells {
		after := "at once"
		if t.AfterSeconds > 0 {
			after = "after " + plain.Span(time.Duration(t.AfterSeconds)*time.Second)
		}
		by := t.Connection
		if t.Address != "" {
			by += " at " + t.Address
		}
		rows = append(rows, []string{after, t.To, by, t.Why})
	}
	empty := "Nobody would be told."
	if f.Silent != "" {
		empty = "Route " + f.Silent + " says that nobody is told of it."
	}
	a.table(empty, []string{"if nobody took it", "told", "by", "why"}, rows)
	for _, n := range f.None {
		a.say("%s\n", a.paint(amber, "Not told: "+n+"."))
	}
}

// ahead reads a time: one of RFC 3339, or in how long; the zero time where none is given.
func ahead(flag, text string) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if d, err := doc.ParseDuration(text); err == nil {
		return time.Now().Add(d).Truncate(time.Second), nil
	}
	t, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return t, usage("--%s must be in how long, such as 8h, or a time such as 2026-12-24T23:00:00Z", flag)
	}
	return t, nil
}

const clockShape = "Mon 2006-01-02 15:04 MST"

// inZone is a time by the clock on the wall of a zone.
func inZone(t time.Time, zone string) string {
	if z, err := time.LoadLocation(zone); err == nil {
		t = t.In(z)
	}
	return t.Format(clockShape)
}

func (a *app) showOnCall(list []api.OnCall) {
	var rows [][]string
	for _, t := range list {
		if len(t.Duties) == 0 {
			rows = append(rows, []string{t.Team, "-", "no rota", "", ""})
		}
		for _, d := range t.Duties {
			person, instead := d.Person, ""
			if d.InsteadOf != "" {
				instead = "instead of " + d.InsteadOf
			}
			if person == "" {
				person = "nobody"
			}
			rows = append(rows, []string{t.Team, fmt.Sprint(d.Line), person, inZone(d.Until, t.Zone), instead})
		}
	}
	a.table("No teams. Write one as a document: see docs/people-and-messages.md.",
		[]string{"team", "line", "on call", "until", ""}, rows)
	for _, t := range list {
		for i, h := range t.Holes {
			if i == 5 {
				a.say("%s\n", a.paint(amber, fmt.Sprintf("… and %d times more.", len(t.Holes)-i)))
				break
			}
			a.say("%s\n", a.paint(amber, fmt.Sprintf("Nobody of %s is on call from %s until %s.", t.Team,
				inZone(h.From, t.Zone), inZone(h.Until, t.Zone))))
		}
		for _, says := range twice(t) {
			a.say("%s\n", a.paint(amber, says))
		}
		for _, c := range t.Calendars {
			a.showCalendar(t, c)
		}
	}
}

// mostTwice bounds how many stretches are told in which one person is on call in two lines.
const mostTwice = 5

// twice tells when one person is on call in two lines.
func twice(t api.OnCall) (says []string) {
	for i, d := range t.Twice {
		if i == mostTwice {
			return append(says, fmt.Sprintf("… and %d times more.", len(t.Twice)-i))
		}
		says = append(says, fmt.Sprintf("%s is on call in lines %d and %d of %s from %s until %s: escalating reaches "+
			"nobody else.", d.Person, d.Lines[0], d.Lines[1], t.Team, inZone(d.From, t.Zone), inZone(d.Until, t.Zone)))
	}
	return says
}

// zoneOf is the zone of a team's rota; "" where that cannot be told.
func zoneOf(cmd *cobra.Command, cl *client, team string) string {
	r, err := check(cl.ListOnCallWithResponse(cmd.Context(), &api.ListOnCallParams{Team: team}))
	if err != nil || len(*r.JSON200) == 0 {
		return ""
	}
	return (*r.JSON200)[0].Zone
}

// thenTwice adds to what was said of a rota that was altered who is on call twice by it, where that can be told.
func thenTwice(cmd *cobra.Command, cl *client, team, says string) string {
	r, err := check(cl.ListOnCallWithResponse(cmd.Context(), &api.ListOnCallParams{Team: team}))
	if err != nil {
		return says
	}
	for _, t := range *r.JSON200 {
		says = strings.Join(append([]string{says}, twice(t)...), "\n")
	}
	return says
}

// showCalendar tells how it stands with the calendar from which a line is read, where something is wrong with it.
func (a *app) showCalendar(t api.OnCall, c api.RotaCalendar) {
	read := "It was not read yet"
	if !c.ReadAt.IsZero() {
		read = "It was read " + inZone(c.ReadAt, t.Zone)
	}
	if c.Trouble != "" || c.ReadAt.IsZero() {
		a.say(
			"%s\n",
			a.paint(amber, strings.TrimSpace(fmt.Sprintf("Line %d of %s is read from a calendar. %s. %s", c.Line,
				t.Team, read, c.Trouble))),
		)
	}
}

func (a *app) team() *cobra.Command {
	return noun("team", "Teams: their rotas, and who stands in", a.teamDuties(), a.teamStandIn(), a.teamStandIns(),
		a.teamRemoveStandIn(), a.teamSwap(), a.teamFeed(), a.teamRead(), a.teamHandOver())
}

func (a *app) teamDuties() *cobra.Command {
	var from, until string
	c := verb("duties TEAM", "Who is on call from one time to another", "urgentis team duties quayside",
		cobra.ExactArgs(1), a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			p := api.ListDutiesParams{}
			var err error
			if p.From, err = ahead("from", from); err != nil {
				return err
			}
			if p.Until, err = ahead("until", until); err != nil {
				return err
			}
			if p.From.IsZero() {
				p.From = time.Now()
			}
			if p.Until.IsZero() {
				p.Until = p.From.AddDate(0, 0, 28)
			}
			r, err := check(cl.ListDutiesWithResponse(cmd.Context(), args[0], &p))
			if err != nil {
				return err
			}
			zone := zoneOf(cmd, cl, args[0])
			return a.print(listOf(*r.JSON200), func() {
				var rows [][]string
				for _, d := range *r.JSON200 {
					person := d.Person
					if person == "" {
						person = "nobody"
					}
					if d.InsteadOf != "" {
						person += " instead of " + d.InsteadOf
					}
					rows = append(
						rows,
						[]string{fmt.Sprint(d.Line), inZone(d.From, zone), inZone(d.Until, zone), person},
					)
				}
				a.table("Nobody is on call then.", []string{"line", "from", "until", "on call"}, rows)
			})
		}))
	c.Flags().StringVar(&from, "from", "", "from this `TIME`, such as 8h from now; now unless said")
	c.Flags().StringVar(&until, "until", "", "until this `TIME`; four weeks later unless said")
	return a.offers(c, teamNames)
}

func (a *app) teamStandIn() *cobra.Command {
	var from, until string
	var b api.NewStandIn
	c := doer(a, "stand-in TEAM", "Enter somebody who is on call instead of whoever the rota says",
		"urgentis team stand-in quayside --person jonas --until 2026-12-24T08:00:00Z --why \"Mara is ill.\"",
		cobra.ExactArgs(1), func(cmd *cobra.Command, cl *client, args []string) (any, string, error) {
			var err error
			if b.From, err = ahead("from", from); err != nil {
				return nil, "", err
			}
			if b.Until, err = ahead("until", until); err != nil {
				return nil, "", err
			}
			if b.From.IsZero() {
				b.From = time.Now()
			}
			if b.Person == "" || b.Until.IsZero() {
				return nil, "", usage("say who stands in and until when: --person NAME --until TIME")
			}
			r, err := check(cl.AddStandInWithResponse(cmd.Context(), args[0], b))
			if err != nil {
				return nil, "", err
			}
			says := fmt.Sprintf("%s is on call for %s until %s. To undo: urgentis team stand-in-remove %s %d",
				b.Person, args[0], b.Until.Format(clockShape), args[0], r.JSON201.Id)
			return r.JSON201, thenTwice(cmd, cl, args[0], says), nil
		})
	c.Flags().StringVar(&b.Person, "person", "", "the `NAME` of who stands in, a member of the team")
	c.Flags().StringVar(&from, "from", "", "from this `TIME`, such as 8h from now; now unless said")
	c.Flags().StringVar(&until, "until", "", "until this `TIME`, such as 12h from now")
	c.Flags().StringVar(&b.InsteadOf, "instead-of", "", "only where this `PERSON` would be on call")
	c.Flags().StringVar(&b.Why, "why", "", "`WORDS` for whoever reads it")
	c.Flags().IntVar(&b.Line, "line", 1, "in this `LINE` of the rota")
	return a.offers(c, teamNames)
}

// teamSwap lets two duties change hands.
func (a *app) teamSwap() *cobra.Command {
	var at, with string
	var b api.NewSwap
	c := doer(a, "swap TEAM", "Two duties change hands, both or neither",
		"urgentis team swap quayside --at 2026-12-24T20:00:00Z --for 2026-12-31T20:00:00Z", cobra.ExactArgs(1),
		func(cmd *cobra.Command, cl *client, args []string) (any, string, error) {
			var err error
			if b.At, err = ahead("at", at); err != nil {
				return nil, "", err
			}
			if b.For, err = ahead("for", with); err != nil {
				return nil, "", err
			}
			if b.At.IsZero() || b.For.IsZero() {
				return nil, "", usage("say a time within each of the two duties: --at TIME --for TIME")
			}
			r, err := check(cl.SwapDutiesWithResponse(cmd.Context(), args[0], b))
			if err != nil {
				return nil, "", err
			}
			var says strings.Builder
			for _, s := range *r.JSON201 {
				fmt.Fprintf(
					&says,
					"%s is on call from %s until %s instead of %s.\n",
					s.Person,
					s.From.Format(clockShape),
					s.Until.Format(clockShape),
					s.InsteadOf,
				)
			}
			fmt.Fprintf(&says, "To undo both: urgentis team stand-in-remove %s %d", args[0], (*r.JSON201)[0].Id)
			return r.JSON201, thenTwice(cmd, cl, args[0], says.String()), nil
		})
	c.Flags().StringVar(&at, "at", "", "a `TIME` within the one duty: in how long, or 2026-12-24T20:00:00Z")
	c.Flags().StringVar(&with, "for", "", "a `TIME` within the other")
	c.Flags().IntVar(&b.Line, "line", 1, "in this `LINE` of the rota")
	c.Flags().StringVar(&b.Why, "why", "", "`WORDS` for whoever reads it")
	return a.offers(c, teamNames)
}

// teamRead reads the calendars of a rota.
func (a *app) teamRead() *cobra.Command {
	c := verb("read TEAM", "Read the calendars of a rota now; they are read each quarter of an hour as well",
		"urgentis team read skerry", cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			r, err := check(cl.ReadCalendarsWithResponse(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.print(r.JSON200, func() {
				a.showOnCall([]api.OnCall{*r.JSON200})
				for _, c := range r.JSON200.Calendars {
					if c.Trouble == "" {
						a.say("Line %d was read.\n", c.Line)
					}
				}
			})
		}))
	return a.offers(c, teamNames)
}

func (a *app) teamStandIns() *cobra.Command {
	c := verb("stand-ins TEAM", "Who stands in, now and later", "urgentis team stand-ins quayside", cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			r, err := check(cl.ListStandInsWithResponse(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.print(listOf(*r.JSON200), func() {
				var rows [][]string
				for _, s := range *r.JSON200 {
					rows = append(rows, []string{fmt.Sprint(s.Id), fmt.Sprint(s.Line), s.Person, orDash(s.InsteadOf),
						s.From.Format(clockShape), s.Until.Format(clockShape), s.EnteredBy, s.Why})
				}
				a.table(
					"Nobody stands in.",
					[]string{"id", "line", "person", "instead of", "from", "until", "by", "why"},
					rows,
				)
			})
		}))
	return a.offers(c, teamNames)
}

func (a *app) teamRemoveStandIn() *cobra.Command {
	c := doer(
		a,
		"stand-in-remove TEAM ID",
		"Remove a stand-in, or both of a swap",
		"urgentis team stand-in-remove quayside 3",
		cobra.ExactArgs(2),
		func(cmd *cobra.Command, cl *client, args []string) (any, string, error) {
			id, err := strconv.ParseInt(args[1], 10, 64)
			if err != nil {
				return nil, "", usage(
					"%s is no number of a stand-in; urgentis team stand-ins %s lists them",
					args[1],
					args[0],
				)
			}
			_, err = check(cl.RemoveStandInWithResponse(cmd.Context(), args[0], id))
			return nil, "Removed. The rota applies again.", err
		},
	)
	return a.offers(c, teamNames)
}

func (a *app) teamFeed() *cobra.Command {
	var file string
	c := verb(
		"feed TEAM",
		"The rota of the next 90 days as an iCalendar file",
		"urgentis team feed quayside --file quayside.ics",
		cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			r, err := check(cl.FeedRotaWithResponse(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			if file == "" {
				for line := range strings.Lines(string(r.Body)) {
					a.say("%s\n", strings.TrimRight(line, "\r\n"))
				}
				return nil
			}
			return os.WriteFile(file, r.Body, 0o644) //nolint:gosec // it is for others to read
		}),
	)
	c.Flags().StringVar(&file, "file", "", "write it to this `FILE` instead of printing it")
	return a.offers(c, teamNames)
}

// teamHandOver tells what one shift leaves to the next.
func (a *app) teamHandOver() *cobra.Command {
	c := verb("hand-over TEAM", "What one shift leaves to the next: what is open, whose, and what others were told",
		"urgentis team hand-over quayside", cobra.ExactArgs(1),
		a.asking(func(cmd *cobra.Command, cl *client, args []string) error {
			r, err := check(cl.HandOverShiftWithResponse(cmd.Context(), args[0]))
			if err != nil {
				return err
			}
			return a.print(listOf(*r.JSON200), func() {
				var rows [][]string
				for _, o := range *r.JSON200 {
					rows = append(rows, []string{fmt.Sprint(o.Number), o.Severity, clip(o.Title, 50), ago(o.OpenedAt),
						orDash(o.Holder), orDash(o.WaitingOn), clip(orDash(o.Promised), 50)})
				}
				a.table("Nothing is open.", []string{"incident", "severity", "title", "opened", "held by", "waits on",
					"others were told"}, rows)
			})
		}))
	return a.offers(c, teamNames)
}

package cli

import (
	"fmt"
	"strings"

	"urgentis/api"
	"urgentis/core/plain"
	"urgentis/core/story"
)

// mostBelow is how many lines below a row are printed where no detail is asked for.
const mostBelow = 5

// rowTones are the colours of the states of rows.
var rowTones = map[api.StoryRowState]string{
	"unknown": amber, "bad": red, "unsure": amber, "waiting": amber, "going": bold, "good": green,
}

// rows prints a story: those that are for whoever was not there, or all of them.
func (a *app) rows(rows []api.StoryRow, detail bool) {
	at, skipped := "", 0
	for _, r := range rows {
		if r.Weight != "tell" && !detail {
			skipped++
			continue
		}
		clock := r.At.UTC().Format("15:04:05")
		if clock == at {
			clock = ""
		} else {
			at = clock
		}
		tone := rowTones[r.State]
		if tone == "" {
			tone = "0"
		}
		says := api.Plain(r.Says)
		line := r.Title
		if says != "" && line != "" {
			line += story.Between(line)
		}
		a.say("%-8s  %s  %s\n", clock, a.paint(tone, fmt.Sprintf("%-10s", r.Word)), plain.Line(line+says))
		a.storyBelow(r, detail)
	}
	if skipped > 0 {
		a.say("%22s%s\n", "", a.paint(dim, fmt.Sprintf("%s more with --detail", many(skipped, "row"))))
	}
}

func (a *app) storyBelow(r api.StoryRow, detail bool) {
	lines := r.Below
	more := 0
	if n := len(lines) - mostBelow; n > 1 && !detail {
		lines, more = lines[:mostBelow], n
	}
	for _, l := range lines {
		a.say("%22s%s\n", "", a.paint(dim, plain.Line(api.Plain(l))))
	}
	if more > 0 {
		a.say("%22s%s\n", "", a.paint(dim, fmt.Sprintf("and %d more with --detail", more)))
	}
}

// sum prints the five answers that are left once an incident is over.
func (a *app) sum(s api.StorySum) {
	line := func(name string, list ...api.Text) {
		for i, t := range list {
			if i > 0 {
				name = ""
			}
			a.say("%s  %s\n", a.paint(dim, fmt.Sprintf("%-11s", name)), plain.Line(api.Plain(t)))
		}
	}
	a.say("\n")
	line("Cause", s.Cause)
	line("Done", s.Done...)
	line("Approved by", s.Approved...)
	line("Effect", s.Effect)
	line("Left over", s.Left...)
}

// head prints what an incident is.
func (a *app) head(i api.Incident, harm string, s *api.Standing) {
	const day = "2 Jan 2006, 15:04:05"
	a.say("%s  %s\n", a.paint(bold, fmt.Sprintf("Incident %d", i.Number)), a.paint(bold, i.Title))
	state := string(i.State)
	if i.WaitingOn != "" && i.WaitingOn != "nobody" {
		state += ", waits for " + string(i.WaitingOn)
	}
	when := "since " + i.OpenedAt.UTC().Format(day+" MST")
	if !i.ClosedAt.IsZero() {
		state = i.Outcome + " in " + plain.Lasted(i.ClosedAt.Sub(i.OpenedAt))
		until := i.ClosedAt.UTC().Format(day + " MST")
		if i.ClosedAt.UTC().YearDay() == i.OpenedAt.UTC().YearDay() && i.ClosedAt.Sub(i.OpenedAt) < 24*3600e9 {
			until = i.ClosedAt.UTC().Format("15:04:05 MST")
		}
		when = i.OpenedAt.UTC().Format(day) + " to " + until
	}
	parts := []string{state, string(i.Severity)}
	if i.Service != "" {
		parts = append(parts, i.Service)
	}
	if i.Holder != "" {
		parts = append(parts, "taken by "+i.Holder)
	}
	a.say("%s\n", strings.Join(append(parts, when), " · "))
	a.harm(harm, s)
	if i.ClosedAt.IsZero() {
		a.now(s, false)
	}
	if i.Because != "" {
		a.say("%s\n", i.Because)
	}
	a.say("\n")
}

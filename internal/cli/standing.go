package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"urgentis/api"
	"urgentis/core/expr"
	"urgentis/core/plain"
	"urgentis/core/tell"
)

// standing is how an incident stands; nil where there is none, or it cannot be had: what is asked for is shown all the
// same.
func (a *app) standing(ctx context.Context, cl *client, incident int64) *api.Standing {
	if incident == 0 {
		return nil
	}
	r, err := check(cl.GetStandingWithResponse(ctx, incident))
	if err != nil {
		return nil
	}
	return r.JSON200
}

// harm says whom it harms, or that nobody said so.
func (a *app) harm(harm string, s *api.Standing) {
	switch {
	case harm != "":
		a.say("%s\n", "Harm:    "+plain.Line(harm))
	default:
		who := "nobody owns this service"
		if s != nil && s.Owner != "" {
			who = s.Owner
		}
		a.say("%s\n", a.paint(amber, "Harm:    not stated by the author ("+who+")"))
	}
	if s != nil {
		for _, d := range s.Derived {
			a.say("%s\n", "         "+plain.Line(d))
		}
	}
}

// now says how bad it is, how it was as it was opened, and where it goes.
func (a *app) now(s *api.Standing, closed bool) {
	if s == nil {
		return
	}
	if s.Reading == nil {
		if !closed {
			a.say("%s\n", a.paint(amber, "Now:     not known: no reading of it tells"))
		}
		return
	}
	for i, line := range nowLines(s.Reading, closed) {
		name := ""
		switch {
		case i == 0 && closed:
			name = "Last:"
		case i == 0:
			name = "Now:"
		}
		a.say("%-8s %s\n", name, plain.Line(line))
	}
}

func nowLines(r *api.LeadingReading, closed bool) []string {
	first := r.Says
	age := ago(r.At)
	switch {
	case closed:
		age = "at " + r.At.UTC().Format("15:04:05 MST")
	case r.Old:
		age = "old: " + age
	}
	first += ", " + age
	if t := r.Then; t != nil {
		first += fmt.Sprintf("; %s at the alert", tell.Number(t.Value, r.Unit))
	}
	var more []string
	if r.Limit != nil && r.Of > 1 {
		more = append(more, fmt.Sprintf("%d of %d miss the target", r.Bad, r.Of))
	}
	if !closed {
		if !r.Beyond.IsZero() {
			more = append(more, "for "+plain.Lasted(time.Since(r.Beyond).Truncate(time.Second)))
		}
		over := " over " + plain.Lasted(time.Duration(r.SlopeSeconds)*time.Second)
		switch {
		case r.Trend == "":
			more = append(more, "read too few times to tell where it goes")
		case r.Trend == tell.Stays:
			more = append(more, r.Slope+over)
		default:
			more = append(more, r.Trend+": "+r.Slope+over)
		}
	}
	if len(more) == 0 {
		return []string{first}
	}
	return []string{first, strings.Join(more, ", ")}
}

// answers prints what follows each word. labels names the words of a question.
func (a *app) answers(rows []api.AnswerRow, labels map[string]string) {
	const width = 16
	for _, r := range rows {
		name := labels[r.Word]
		switch {
		case name != "":
		case r.Word == tell.Nobody:
			name = "Nobody answers"
		default:
			name = strings.ToUpper(r.Word[:1]) + r.Word[1:]
		}
		for _, l := range r.Later {
			a.say("  %-*s %s\n", width, clip(name, width), l.At.UTC().Format("15:04 MST")+" "+
				expr.Words(l.People)+map[bool]string{true: " is called.", false: " are called."}[len(l.People) == 1])
			name = ""
		}
		for i, line := range r.Says {
			if i == 0 && !r.At.IsZero() {
				line = r.At.UTC().Format("15:04 MST") + " " + line
			}
			a.say("  %-*s %s\n", width, clip(name, width), plain.Line(line))
			name = ""
		}
	}
}

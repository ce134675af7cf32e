// Package route tells who is told of what, and when: teams, who of them is on call, and what a notice leads to.
package route

import (
	"fmt"
	"maps"
	"strings"
	"time"

	"urgentis/core/calendar"
)

// Team is people who answer for something together.
type Team struct {
	Name, Title string
	Members     []string // by their names in sign-in, in the order in which they are listed
	Rota        *calendar.Rota
	// Feeds are where lines of the rota are read from, by line; nothing where their turns stand in the document.
	Feeds map[int]*Feed
	// Room is the connection that is the team's room; "" for none.
	Room string
}

// Feed is an iCalendar that a line of a rota is read from.
type Feed struct {
	// URL is its address, or Secret the name of the secret that is it.
	URL, Secret string
	// People are who a name or an address in it is, in small letters; members are known by their own names.
	People map[string]string
	// ReadAt is when it was read last, zero: never; Trouble what went wrong since, and what in it counts for nobody.
	ReadAt  time.Time
	Trouble string
}

// Address is where it is, as its document names it.
func (f *Feed) Address() string {
	if f.Secret != "" {
		return "secret " + f.Secret
	}
	return f.URL
}

// Turns reads what a line's feed says as the turns of that line. unparsed says which events of it count for nobody; err
// that nothing of it can be read.
func (t *Team) Turns(line int, text string, since time.Time) (turns []calendar.Turn, unparsed []string, err error) {
	known := map[string]string{}
	for _, m := range t.Members {
		known[m] = m
	}
	maps.Copy(known, t.Feeds[line].People)
	return calendar.ReadFeed(text, t.Rota.Zone, known, since)
}

// Says is the team's name for people.
func (t *Team) Says() string {
	if t.Title != "" {
		return t.Title
	}
	return t.Name
}

// OnCall tells who is on call at a moment: the first line, then the second, and so on. A line on which nobody is has
// a duty without a person, so that it is known.
func (t *Team) OnCall(at time.Time, standIns []calendar.StandIn) []calendar.Duty {
	if t.Rota == nil {
		return nil
	}
	out := make([]calendar.Duty, len(t.Rota.Lines))
	for i := range t.Rota.Lines {
		out[i], _ = t.Rota.OnCall(i, at, standIns)
	}
	return out
}

// The words for whoever is asked: a team, or whoever of it is on call.
const (
	teamPrefix   = "team/"
	onCallPrefix = "on-call/"
)

// TeamOf is the team that a word such as on-call/quayside names, and whether whoever is on call is meant; "" for a word
// that names none.
func TeamOf(word string) (team string, onCall bool) {
	if name, ok := strings.CutPrefix(word, onCallPrefix); ok {
		return name, true
	}
	name, _ := strings.CutPrefix(word, teamPrefix)
	if name == word {
		return "", false
	}
	return name, false
}

// Name tells who somebody is at a moment, in words: whoever is on call by name, and that nobody is, where nobody is.
// team is nil where there is no such team; then the word stays as it is.
func Name(word string, team *Team, at time.Time, standIns []calendar.StandIn) string {
	_, onCall := TeamOf(word)
	switch {
	case team == nil:
		return word
	case !onCall:
		return "the team " + team.Says()
	case team.Rota == nil:
		return fmt.Sprintf("whoever is on call for %s (it has no rota)", team.Says())
	}
	for i, d := range team.OnCall(at, standIns) {
		switch {
		case d.Person == "":
		case i == 0:
			return fmt.Sprintf("%s, on call for %s", d.Person, team.Says())
		default:
			return fmt.Sprintf("%s, on call for %s in line %d (nobody is in the first)", d.Person, team.Says(), i+1)
		}
	}
	return fmt.Sprintf("%s (nobody of %s is on call now)", word, team.Says())
}

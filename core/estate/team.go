package estate

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/calendar"
	"urgentis/core/route"
)

// personPattern is what the name of somebody who signs in looks like.
var personPattern = regexp.MustCompile(`^[a-z][a-z0-9.-]{0,62}$`)

// team decodes people who answer for something together, and their rota.
func (x *decoder) team(root ast.Node) {
	t := &route.Team{}
	x.d.Team = t
	got := x.Fields(root, "a team", map[string]func(ast.Node){
		"urgentis": func(ast.Node) {}, "name": x.name,
		"title":   func(n ast.Node) { t.Title = strings.TrimSpace(x.Word(n, "title")) },
		"members": func(n ast.Node) { t.Members = x.people(n, "members") },
		"room":    func(n ast.Node) { t.Room = x.Word(n, "room") },
		"rota":    func(n ast.Node) { t.Rota, t.Feeds = x.rota(n) },
	})
	t.Name = x.d.Name
	x.need(root, got, "team", "name", "members")
	if t.Rota == nil || x.Findings.Failed() {
		return
	}
	for _, p := range t.Rota.People() {
		if !slices.Contains(t.Members, p) {
			x.Warn(got["rota"], "%s has a turn and is no member", p)
		}
	}
}

// people reads a list of people, each once.
func (x *decoder) people(n ast.Node, what string) []string {
	var out []string
	for _, v := range x.List(n, what) {
		w := x.Word(v, "a person")
		switch {
		case !personPattern.MatchString(w):
			x.Fail(v, "%q is not how anybody signs in: small letters, digits, dots and hyphens", w)
		case slices.Contains(out, w):
			x.Fail(v, "%s stands twice among the %s", w, what)
		}
		out = append(out, w)
	}
	if len(out) == 0 {
		x.Fail(n, "%s is empty", what)
	}
	if len(out) > calendar.MaxPeople {
		x.Fail(n, "there may be %d people here", calendar.MaxPeople)
	}
	return out
}

// rota decodes who is on call when. Its lines are first, second and so on.
func (x *decoder) rota(n ast.Node) (*calendar.Rota, map[int]*route.Feed) {
	r, feeds := &calendar.Rota{Zone: time.UTC}, map[int]*route.Feed{}
	// The zone is that of all times beside it, wherever it stands.
	if z := valueOf(n, "zone"); z != nil {
		r.Zone = x.Zone(z, "zone")
	}
	lines := make([][]calendar.Turn, len(calendar.LineNames))
	keys := map[string]func(ast.Node){"zone": func(ast.Node) {}}
	for i, name := range calendar.LineNames {
		keys[name] = func(n ast.Node) {
			switch n.(type) {
			case *ast.MappingNode, *ast.MappingValueNode:
				feeds[i] = x.feed(n)
				return
			}
			for _, v := range x.List(n, name) {
				lines[i] = append(lines[i], x.turn(v, r.Zone))
			}
			if len(lines[i]) > calendar.MaxTurns {
				x.Fail(n, "a line may have %d turns", calendar.MaxTurns)
			}
		}
	}
	got := x.Fields(n, "a rota", keys)
	x.need(n, got, "rota", "zone", calendar.LineNames[0])
	last := 0
	for i, name := range calendar.LineNames {
		if got[name] == nil {
			continue
		}
		if i > last && !x.Findings.Failed() {
			x.Fail(got[name], "there is no %s line before it", calendar.LineNames[last])
		}
		last = i + 1
	}
	r.Lines = lines[:last]
	return r, feeds
}

// feed decodes where a line is read from: an iCalendar, and who is who in it.
func (x *decoder) feed(n ast.Node) *route.Feed {
	f := &route.Feed{People: map[string]string{}}
	got := x.Fields(n, "a line", map[string]func(ast.Node){
		"feed": func(n ast.Node) { f.URL, f.Secret = x.plainURL(n) },
		"people": func(n ast.Node) {
			for name, who := range x.whoIsWho(n) {
				f.People[strings.ToLower(name)] = who
			}
		},
	})
	x.need(n, got, "line", "feed")
	return f
}

// turn decodes duty that comes again and again.
func (x *decoder) turn(n ast.Node, zone *time.Location) calendar.Turn {
	var t calendar.Turn
	from, every := "", ""
	got := x.Fields(n, "a turn", map[string]func(ast.Node){
		"from":   func(n ast.Node) { from = x.Word(n, "from") },
		"every":  func(n ast.Node) { every = x.Word(n, "every") },
		"lasts":  func(n ast.Node) { t.Days, t.Time = x.lasts(n) },
		"people": func(n ast.Node) { t.People = x.people(n, "people") },
	})
	x.need(n, got, "turn", "from", "every", "people")
	if x.Findings.Failed() || got["from"] == nil {
		return t
	}
	var err error
	if t.Rule, err = calendar.ParseTurn(zone, from, every); err != nil {
		x.Fail(got["every"], "%s", err)
	}
	return t
}

var lastsPattern = regexp.MustCompile(`^(?:([0-9]{1,3})d)?(?:([0-9]{1,2})h)?(?:([0-9]{1,2})m)?$`)

// lasts reads how long a turn is, by the clock on the wall: 7d, 12h, 1d12h.
func (x *decoder) lasts(n ast.Node) (days int, span time.Duration) {
	w := x.Word(n, "lasts")
	m := lastsPattern.FindStringSubmatch(w)
	number := func(text string) int { i, _ := strconv.Atoi(text); return i } // digits, or nothing
	if m == nil || w == "" {
		x.Fail(n, "%s", fmt.Sprintf("%q is no length of a turn such as 7d, 12h or 1d12h", w))
		return 0, 0
	}
	days = number(m[1])
	span = time.Duration(number(m[2]))*time.Hour + time.Duration(number(m[3]))*time.Minute
	if days == 0 && span == 0 || days > 366 {
		x.Fail(n, "a turn lasts from a minute to 366 days")
	}
	return days, span
}

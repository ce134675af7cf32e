package cli

import (
	"bytes"
	"cmp"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"urgentis/api"
	"urgentis/core/alert"
	"urgentis/core/plain"
)

// liveItem is a line of the list: an open incident with what waits on it, or a gate or a question of a run without one.
type liveItem struct {
	place
	key             string
	waits           string // "" where nothing waits for a person's word
	state, severity string
	service, title  string
	holder, until   string
	opened          string
}

// listed are the items that the filter leaves.
func (l *live) listed() []liveItem {
	words := strings.Fields(strings.ToLower(l.filter))
	var out []liveItem
	for _, i := range l.items {
		said := strings.ToLower(strings.Join([]string{i.key, i.severity, i.state, i.service, i.title, i.holder}, " "))
		if !slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(said, w) }) {
			out = append(out, i)
		}
	}
	return out
}

// at is where the chosen item stands.
func (l *live) at(list []liveItem) int {
	return max(0, slices.IndexFunc(list, func(i liveItem) bool { return i.key == l.chosen }))
}

// waitsOn is what waits on an incident; nil for nothing.
func (l *live) waitsOn(n int64) *liveItem {
	for i := range l.items {
		if l.items[i].incident == n && l.items[i].waits != "" {
			return &l.items[i]
		}
	}
	return nil
}

// load asks for what stands there, unless it is being asked for: then it is once more when that is here.
func (l *live) load() tea.Cmd {
	if l.busy && l.busyWith == l.here() {
		l.stale = true
		return nil
	}
	l.busy, l.busyWith, l.stale = true, l.here(), false
	l.asking++
	m := loaded{place: l.here(), n: l.asking}
	width, detail := l.width, l.detail
	return func() tea.Msg {
		if m.items, m.halted, m.err = l.loadNow(); m.err == nil && m.place.screen != onNow {
			m.text, m.gate, m.err = l.loadText(m.place, width, detail)
		}
		return m
	}
}

// mostLive bounds how many incidents are listed.
const mostLive = 200

func (l *live) loadNow() ([]liveItem, string, error) {
	gates, err := check(l.cl.ListGatesWithResponse(l.ctx))
	if err != nil {
		return nil, "", err
	}
	questions, err := check(l.cl.ListQuestionsWithResponse(l.ctx))
	if err != nil {
		return nil, "", err
	}
	open, err := check(l.cl.ListIncidentsWithResponse(l.ctx, &api.ListIncidentsParams{State: "open", Limit: mostLive}))
	if err != nil {
		return nil, "", err
	}
	status, err := check(l.cl.GetStatusWithResponse(l.ctx))
	if err != nil {
		return nil, "", err
	}
	halted := ""
	if status.JSON200.Halted {
		halted = "All changes are halted by " + status.JSON200.HaltedBy + "."
	}
	return liveItems(open.JSON200.Items, *gates.JSON200, *questions.JSON200), halted, nil
}

// liveItems lists what waits for a word first, and then what is open, the worst first.
func liveItems(open []api.Incident, gates []api.Gate, questions []api.Question) []liveItem {
	var out []liveItem
	waits := map[int64]bool{}
	add := func(i liveItem) {
		if i.incident != 0 {
			waits[i.incident] = true
		}
		out = append(out, i)
	}
	at := func(n int64) api.Incident {
		if i := slices.IndexFunc(open, func(i api.Incident) bool { return i.Number == n }); i >= 0 {
			return open[i]
		}
		return api.Incident{}
	}
	for _, g := range gates {
		i := at(g.Incident)
		add(liveItem{place: place{onGate, g.Incident, g.Id}, key: "gate " + g.Id, waits: "approval", state: "approve",
			severity: i.Severity, service: i.Service, title: g.Title, holder: i.Holder, until: until(g.Until),
			opened: ago(g.RaisedAt)})
	}
	for _, q := range questions {
		i := at(q.Incident)
		add(liveItem{place: place{onIncident, q.Incident, ""}, key: "question " + q.Id, waits: "answer",
			state: "answer", severity: i.Severity, service: i.Service, title: cmp.Or(q.Title, q.Text), holder: i.Holder,
			until: until(q.Until), opened: ago(q.RaisedAt)})
	}
	rest := slices.Clone(open)
	slices.SortStableFunc(rest, func(a, b api.Incident) int {
		return cmp.Compare(alert.Worth(b.Severity), alert.Worth(a.Severity))
	})
	for _, i := range rest {
		if waits[i.Number] {
			continue
		}
		state := "open"
		if w := string(i.WaitingOn); w == "person" {
			state = "person"
		}
		out = append(out, liveItem{place: place{onIncident, i.Number, ""}, key: fmt.Sprint("incident ", i.Number),
			state: state, severity: i.Severity, service: i.Service, title: i.Title, holder: i.Holder,
			opened: ago(i.OpenedAt)})
	}
	return out
}

// loadText reads an incident, its record or a gate, and prints it as its command does.
func (l *live) loadText(p place, width int, detail bool) (string, *api.Gate, error) {
	var b bytes.Buffer
	a := &app{out: &b, err: io.Discard, v: l.a.v, output: "table", isTTY: true}
	if p.screen != onGate {
		err := a.showIncident(l.ctx, l.cl, p.incident, showing{record: p.screen == onRecord, detail: detail})
		return wrapped(b.String(), width), nil, err
	}
	r, err := check(l.cl.GetGateWithResponse(l.ctx, p.gate))
	if err != nil {
		return "", nil, err
	}
	a.showGate(r.JSON200, a.standing(l.ctx, l.cl, r.JSON200.Incident))
	return wrapped(b.String(), width), r.JSON200, nil
}

// wrapped breaks lines between words, so that nothing of them lies beyond the edge.
func wrapped(text string, width int) string {
	var out []string
	for _, line := range strings.Split(strings.ReplaceAll(text, "\t", "    "), "\n") {
		if ansi.StringWidth(line) <= width {
			out = append(out, line)
			continue
		}
		// What goes on stands below where it began: in a story beside the time and the word of its row.
		bare := ansi.Strip(line)
		indent := len(bare) - len(strings.TrimLeft(bare, " "))
		if storyRow.MatchString(bare) {
			indent = storyIndent
		} else if label := labelled.FindString(bare); label != "" {
			indent = len(label)
		}
		indent = min(indent, width/2)
		rest := ansi.Cut(line, indent, ansi.StringWidth(line))
		parts := strings.Split(ansi.Wrap(rest, max(20, width-indent), " ,/"), "\n")
		out = append(out, ansi.Cut(line, 0, indent)+parts[0])
		for _, p := range parts[1:] {
			out = append(out, strings.Repeat(" ", indent)+strings.TrimLeft(p, " "))
		}
	}
	return strings.Join(out, "\n")
}

// storyRow is a row of a story, or an entry of a record; what it says begins at storyIndent.
var storyRow = regexp.MustCompile(`^(\d\d:\d\d:\d\d| {8})  \S`)

const storyIndent = 22

// labelled is the name that some lines begin with, such as "Harm:    ".
var labelled = regexp.MustCompile(`^[A-Z][A-Za-z]{1,10}: {2,}`)

// Lines that stand besides the list or the text: the head, the keys, and the line for what is asked or said.
const liveFrame = 4

func (l *live) room() int { return max(1, l.height-liveFrame) }

// fit gives the text the room that there is.
func (l *live) fit() {
	l.text.SetWidth(l.width)
	l.text.SetHeight(l.room())
	l.input.SetWidth(max(1, l.width-ansi.StringWidth(l.input.Prompt)-1))
	l.notice()
}

// View implements tea.Model.
func (l *live) View() tea.View {
	v := tea.NewView(l.drawn())
	v.AltScreen = true
	v.WindowTitle = "Urgentis"
	return v
}

func (l *live) drawn() string {
	var body string
	if l.here().screen == onNow {
		body = l.drawNow()
	} else {
		body = l.text.View()
	}
	lines := strings.Split(strings.TrimRight(body, "\n"), "\n")
	for len(lines) < l.room() {
		lines = append(lines, "")
	}
	lines = append([]string{l.drawHead(), ""}, lines[:l.room()]...)
	return strings.Join(append(lines, l.drawLine(), l.drawKeys()), "\n")
}

func (l *live) tone(code, text string) string {
	a := app{isTTY: true}
	return string(a.paint(code, text))
}

func (l *live) cut(s string) string { return ansi.Truncate(s, l.width, "…") }

// drawHead says where one is, what waits, and what is wrong with the connection.
func (l *live) drawHead() string {
	waiting := 0
	for _, i := range l.items {
		if i.waits != "" {
			waiting++
		}
	}
	parts := []string{l.tone(bold, "urgentis")}
	switch here := l.here(); here.screen {
	case onNow:
		parts = append(parts, fmt.Sprintf("%d open", len(l.items)))
	case onIncident:
		parts = append(parts, fmt.Sprintf("incident %d", here.incident))
	case onRecord:
		parts = append(parts, fmt.Sprintf("record of incident %d", here.incident))
	case onGate:
		parts = append(parts, "gate")
	}
	if waiting > 0 {
		parts = append(parts, l.tone(amber, map[bool]string{true: "1 waits for a word",
			false: fmt.Sprintf("%d wait for a word", waiting)}[waiting == 1]))
	}
	if l.halted != "" {
		parts = append(parts, l.tone(red, l.halted))
	}
	if l.lost {
		parts = append(parts, l.tone(red, "no connection: this is not live"))
	}
	return l.cut(strings.Join(parts, " · "))
}

func (l *live) drawNow() string {
	list := l.listed()
	if len(list) == 0 {
		switch {
		case l.seen == 0:
			return "…"
		case l.filter != "":
			return "Nothing open is like " + plain.Line(l.filter) + "."
		}
		return "Nothing is open, and nothing waits. It appears here by itself."
	}
	at := l.at(list)
	first := max(0, min(at-l.room()/2, len(list)-l.room()))
	var out []string
	for n, i := range list[first:min(len(list), first+l.room())] {
		out = append(out, l.drawItem(i, first+n == at))
	}
	return strings.Join(out, "\n")
}

func (l *live) drawItem(i liveItem, chosen bool) string {
	mark := "  "
	if chosen {
		mark = "> "
	}
	number := ""
	if i.incident != 0 {
		number = fmt.Sprint(i.incident)
	}
	tones := map[string]string{"approve": amber, "answer": amber, "person": amber}
	tone := cmp.Or(tones[i.state], "0")
	rest := orDash(i.holder)
	if i.until != "" {
		rest = i.until
	}
	line := fmt.Sprintf("%s%s %-8s %4s  %-16s %-13s %s", mark, l.tone(tone, fmt.Sprintf("%-7s", i.state)),
		clip(i.severity, 8), number, clip(plain.Line(i.service), 16), clip(plain.Line(rest), 13), plain.Line(i.title))
	if chosen {
		line = l.cut(line)
		return "\x1b[1m" + strings.ReplaceAll(line, "\x1b[0m", "\x1b[0m\x1b[1m") + "\x1b[0m"
	}
	return l.cut(line)
}

// drawLine is what is asked for, or was said last.
func (l *live) drawLine() string {
	switch {
	case l.asks != "":
		return l.input.View()
	case l.said != "" && l.bad:
		return l.cut(l.tone(amber, l.said))
	case l.said != "":
		return l.cut(l.tone(green, l.said))
	case l.here().screen == onNow && l.filter != "":
		return l.cut(l.tone(dim, "only what is like "+l.filter+" · Esc in / shows all"))
	case l.here().screen == onGate && l.gate != nil && !l.wholly:
		return l.cut(l.tone(dim, fmt.Sprintf("%.0f %% of it seen", 100*l.text.ScrollPercent())))
	case l.follow && l.here().screen != onGate:
		return l.cut(l.tone(dim, "follows what is written"))
	}
	return ""
}

func (l *live) drawKeys() string {
	keys := "↑↓ choose · Enter opens · t take · / narrow · q leave"
	switch l.here().screen {
	case onIncident:
		keys = "Esc back · ↑↓ · g gate · d detail · l record · t take · n note · f follow · q leave"
	case onRecord:
		keys = "Esc back · ↑↓ · l story · t take · n note · f follow · q leave"
	case onGate:
		keys = "Esc back · ↑↓ End · a approve · r refuse · R read anew · i incident · q leave"
	}
	if l.asks != "" {
		keys = "Enter sends · Esc leaves it"
	}
	return l.cut(l.tone(dim, keys))
}

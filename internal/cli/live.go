package cli

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"charm.land/bubbles/v2/textinput"
	"charm.land/bubbles/v2/viewport"
	tea "charm.land/bubbletea/v2"
	"github.com/spf13/cobra"

	"urgentis/api"
)

func (a *app) live() *cobra.Command {
	c := verb("live", "Stay on what waits and what is open, in the terminal: look, take, approve, follow",
		"urgentis live", cobra.NoArgs, a.asking(func(cmd *cobra.Command, cl *client, _ []string) error {
			if !a.isTTY {
				return usage("it needs a terminal; elsewhere use urgentis incident list, gate list, incident follow")
			}
			p := tea.NewProgram(newLive(cmd.Context(), a, cl), tea.WithContext(cmd.Context()),
				tea.WithInput(a.in), tea.WithOutput(a.out))
			_, err := p.Run()
			if errors.Is(err, tea.ErrInterrupted) || cmd.Context().Err() != nil {
				return nil
			}
			return err
		}))
	c.Long = "↑ ↓ choose, Enter opens, Esc goes back. On an incident: t take it, n write a note, f follow what is " +
		"written,\nd all its rows, l the record or the story, g its gate. " +
		"On a gate: a approves, once all of it was on the screen, r refuses.\n" +
		"Where there is no undo, the number of targets is typed. / narrows the list, q leaves."
	return c
}

// screen is what stands in the terminal.
type screen string

const (
	onNow      screen = "now"
	onIncident screen = "incident"
	onRecord   screen = "record"
	onGate     screen = "gate"
)

// place is a screen, and what it is about.
type place struct {
	screen   screen
	incident int64
	gate     string
}

// asked is what the line at the bottom asks for.
type asked string

const (
	askFilter  asked = "/ "
	askNote    asked = "Note: "
	askRefuse  asked = "Why is it refused: "
	askApprove asked = "approve"
)

// live is the terminal view: what is shown, and where somebody is in it. It is a bubbletea model; nothing but its
// Update alters it, and what is asked of the service is asked beside it.
type live struct {
	ctx           context.Context
	a             *app
	cl            *client
	width, height int
	stack         []place
	items         []liveItem
	chosen        string // the item, by its key: it stays chosen where the list moves
	filter        string
	text          viewport.Model
	input         textinput.Model
	asks          asked
	gate          *api.Gate // as it stands on the screen
	wholly        bool      // all of it was on the screen
	follow        bool
	detail        bool // every row of a story, and all lines below them
	said          string
	bad           bool
	lost          bool
	halted        string
	asking        int // how often it was asked for what stands there
	seen          int // the newest answer that was taken
	// busy is while it is asked for a place; stale says that something changed meanwhile.
	busy, stale bool
	busyWith    place
}

// What comes in beside keys.
type (
	// changed says that something may be otherwise; lost that the stream ended.
	changed struct{ lost bool }
	// loaded is what was asked for a place.
	loaded struct {
		place  place
		n      int
		items  []liveItem
		text   string
		gate   *api.Gate
		halted string
		err    error
	}
	// acted is what came of an act.
	acted struct {
		says string
		err  error
	}
	tick time.Time
	// again is time to ask once more.
	again struct{}
)

// calm is the least time between two times that it is asked for one place, however much changes.
const calm = 200 * time.Millisecond

func newLive(ctx context.Context, a *app, cl *client) *live {
	l := &live{ctx: ctx, a: a, cl: cl, width: 80, height: 24, stack: []place{{screen: onNow}}, text: viewport.New(),
		input: textinput.New()}
	l.text.SoftWrap = true
	l.input.CharLimit = 2000
	return l
}

func (l *live) here() place { return l.stack[len(l.stack)-1] }

// Init implements tea.Model.
func (l *live) Init() tea.Cmd { return tea.Batch(l.load(), l.listen(nil), everySecond()) }

func everySecond() tea.Cmd {
	return tea.Tick(time.Second, func(t time.Time) tea.Msg { return tick(t) })
}

// listen waits for the next word of the stream, and makes it anew where it ended.
func (l *live) listen(stream <-chan struct{}) tea.Cmd {
	return func() tea.Msg {
		if stream == nil {
			var err error
			if stream, err = l.cl.stream(l.ctx); err != nil {
				select {
				case <-l.ctx.Done():
				case <-time.After(time.Second):
				}
				return heard{nil, changed{lost: true}}
			}
			return heard{stream, changed{}}
		}
		if _, ok := <-stream; !ok {
			return heard{nil, changed{lost: true}}
		}
		return heard{stream, changed{}}
	}
}

// heard is a word of a stream, and where the next one comes from.
type heard struct {
	stream <-chan struct{}
	changed
}

// Update implements tea.Model.
func (l *live) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch m := msg.(type) {
	case tea.WindowSizeMsg:
		l.width, l.height = m.Width, m.Height
		l.fit()
	case heard:
		l.lost = m.lost
		if m.lost {
			return l, l.listen(m.stream)
		}
		return l, tea.Batch(l.load(), l.listen(m.stream))
	case tick:
		if time.Time(m).Second()%5 == 0 {
			return l, tea.Batch(l.load(), everySecond())
		}
		return l, everySecond()
	case again:
		return l, l.load()
	case loaded:
		l.take(m)
		if m.place == l.busyWith {
			l.busy = false
			if l.stale {
				return l, tea.Tick(calm, func(time.Time) tea.Msg { return again{} })
			}
		}
	case acted:
		l.said, l.bad = m.says, m.err != nil
		if m.err != nil {
			l.said = m.err.Error()
		}
		return l, l.load()
	case tea.KeyPressMsg:
		return l.key(m)
	default:
		if l.asks != "" {
			var cmd tea.Cmd
			l.input, cmd = l.input.Update(msg)
			return l, cmd
		}
	}
	return l, nil
}

// take shows what was asked for, unless something else stands there by now, or something newer.
func (l *live) take(m loaded) {
	if m.place != l.here() || m.n <= l.seen {
		return
	}
	l.seen = m.n
	if m.err != nil {
		l.said, l.bad = m.err.Error(), true
		return
	}
	l.items, l.halted = m.items, m.halted
	switch m.place.screen {
	case onNow:
	case onGate:
		if l.gate != nil && (l.gate.Digest != m.gate.Digest || l.gate.State != m.gate.State) {
			l.wholly = false
			l.said, l.bad = "It is not what was shown before: read it again.", true
			l.text.GotoTop()
		}
		l.gate = m.gate
		fallthrough
	default:
		bottom := l.follow && m.place.screen != onGate && l.text.AtBottom()
		l.text.SetContent(m.text)
		if bottom {
			l.text.GotoBottom()
		}
	}
	l.notice()
}

// notice notes that all of a gate was on the screen.
func (l *live) notice() {
	if l.here().screen == onGate && l.gate != nil && l.text.AtBottom() {
		l.wholly = true
	}
}

// open puts a place on top.
func (l *live) open(p place) tea.Cmd {
	l.stack = append(l.stack, p)
	return l.fresh()
}

// back goes to the place before.
func (l *live) back() tea.Cmd {
	if len(l.stack) == 1 {
		return nil
	}
	l.stack = l.stack[:len(l.stack)-1]
	return l.fresh()
}

func (l *live) fresh() tea.Cmd {
	l.said, l.gate, l.wholly, l.follow = "", nil, false, false
	l.text.SetContent("")
	l.text.GotoTop()
	return l.load()
}

// ask asks for a line.
func (l *live) ask(what asked, prompt string) tea.Cmd {
	l.asks, l.said = what, ""
	l.input.Prompt = prompt
	l.input.SetValue("")
	l.fit()
	if what == askFilter {
		l.input.SetValue(l.filter)
	}
	return l.input.Focus()
}

func (l *live) key(m tea.KeyPressMsg) (tea.Model, tea.Cmd) {
	if m.String() == "ctrl+c" {
		return l, tea.Quit
	}
	if l.asks != "" {
		return l, l.typed(m)
	}
	switch m.String() {
	case "q":
		return l, tea.Quit
	case "esc", "backspace", "left":
		return l, l.back()
	}
	if l.here().screen == onNow {
		return l, l.keyNow(m.String())
	}
	return l, l.keyText(m)
}

// typed takes a key while a line is asked for.
func (l *live) typed(m tea.KeyPressMsg) tea.Cmd {
	switch m.String() {
	case "esc":
		if l.asks == askFilter {
			l.filter = ""
		}
		l.asks = ""
		l.input.Blur()
		return nil
	case "enter":
		what := l.asks
		l.asks = ""
		l.input.Blur()
		return l.answered(what, strings.TrimSpace(l.input.Value()))
	}
	var cmd tea.Cmd
	l.input, cmd = l.input.Update(m)
	if l.asks == askFilter {
		l.filter = l.input.Value()
	}
	return cmd
}

// answered does what a line was asked for.
func (l *live) answered(what asked, text string) tea.Cmd {
	switch here := l.here(); what {
	case askNote:
		if text == "" {
			return nil
		}
		return l.act("The note is written.", func(ctx context.Context) error {
			_, err := check(l.cl.AddNoteWithResponse(once(ctx), here.incident, api.NewNote{Text: text}))
			return err
		})
	case askRefuse:
		return l.decide(api.Decision{Comment: text}, "Refused.")
	case askApprove:
		if text != l.countAsked() {
			l.said, l.bad = "Not approved: "+strconv.Quote(text)+" is not "+l.countAsked()+".", true
			return nil
		}
		return l.decide(api.Decision{Approve: true}, "Approved.")
	}
	return nil
}

// decide sends a decision on what stood on the screen, and on nothing else: the service refuses it if that is no longer
// what would run.
func (l *live) decide(d api.Decision, says string) tea.Cmd {
	id := l.here().gate
	d.Digest = l.gate.Digest
	return l.act(says, func(ctx context.Context) error {
		_, err := check(l.cl.DecideGateWithResponse(ctx, id, d))
		return err
	})
}

func (l *live) act(says string, do func(context.Context) error) tea.Cmd {
	l.said, l.bad = "…", false
	return func() tea.Msg { return acted{says, do(l.ctx)} }
}

// keyNow takes a key on the list.
func (l *live) keyNow(key string) tea.Cmd {
	list := l.listed()
	at := l.at(list)
	switch key {
	case "up", "k":
		at = max(0, at-1)
	case "down", "j":
		at = min(len(list)-1, at+1)
	case "home":
		at = 0
	case "end":
		at = len(list) - 1
	case "pgup":
		at = max(0, at-l.room())
	case "pgdown":
		at = min(len(list)-1, at+l.room())
	case "/":
		return l.ask(askFilter, string(askFilter))
	case "enter", "right":
		if len(list) > 0 {
			return l.open(list[at].place)
		}
	case "t":
		if len(list) > 0 && list[at].incident != 0 {
			return l.takeIncident(list[at].incident)
		}
	}
	if len(list) > 0 {
		l.chosen = list[max(0, at)].key
	}
	return nil
}

func (l *live) takeIncident(n int64) tea.Cmd {
	return l.act(fmt.Sprintf("Incident %d is yours.", n), func(ctx context.Context) error {
		_, err := check(l.cl.HoldIncidentWithResponse(ctx, n, api.NewHolder{}))
		return err
	})
}

// keyText takes a key on an incident, its record, or a gate.
func (l *live) keyText(m tea.KeyPressMsg) tea.Cmd {
	here := l.here()
	switch key := m.String(); {
	case key == "home":
		l.text.GotoTop()
	case key == "end":
		l.text.GotoBottom()
	case key == "R":
		return l.load()
	case key == "d" && here.screen == onIncident:
		l.detail = !l.detail
		return l.load()
	case key == "t" && here.incident != 0:
		return l.takeIncident(here.incident)
	case key == "n" && here.incident != 0:
		return l.ask(askNote, string(askNote))
	case key == "f" && here.screen != onGate:
		if l.follow = !l.follow; l.follow {
			l.text.GotoBottom()
		}
	case key == "l" && here.screen == onIncident:
		return l.open(place{onRecord, here.incident, ""})
	case key == "l" && here.screen == onRecord:
		return l.back()
	case key == "g" && here.screen != onGate:
		if i := l.waitsOn(here.incident); i != nil && i.place.gate != "" {
			return l.open(i.place)
		}
		l.said, l.bad = "No gate of it waits.", false
	case key == "i" && here.screen == onGate && here.incident != 0:
		return l.open(place{onIncident, here.incident, ""})
	case here.screen == onGate && (key == "a" || key == "r"):
		return l.word(key == "a")
	default:
		l.text, _ = l.text.Update(m)
	}
	l.notice()
	return nil
}

// word begins a decision.
func (l *live) word(approve bool) tea.Cmd {
	l.bad = true
	switch {
	case l.gate == nil:
		l.said = "It is not here yet."
	case l.gate.State != "open":
		l.said = "It is decided already."
	case !l.gate.MayDecide:
		l.said = "You may not decide it: it asks " + l.gate.Ask + "."
	case !approve:
		return l.ask(askRefuse, string(askRefuse))
	case !l.wholly:
		l.said = "Read it to its end first (↓, End)."
	default:
		return l.ask(askApprove, l.approving())
	}
	return nil
}

// approving is what is asked before an approval: where there is no undo the number of targets, else a y.
func (l *live) approving() string {
	n, undo := targetsOf(l.gate)
	on := many(n, "target")
	if undo {
		return "Approve on " + on + "? y, Enter: "
	}
	return fmt.Sprintf("Without undo on %s. Type %d to approve: ", on, n)
}

// countAsked is what must be typed.
func (l *live) countAsked() string {
	n, undo := targetsOf(l.gate)
	if undo {
		return "y"
	}
	return strconv.Itoa(n)
}

// targetsOf counts what a gate is about, and says whether all of it can be undone.
func targetsOf(g *api.Gate) (n int, undo bool) {
	if g.Brief == nil {
		return len(g.Requests), false
	}
	seen := map[string]bool{}
	undo = true
	for _, p := range g.Brief.Parts {
		undo = undo && !p.NoUndo && !p.CannotUndo
		if len(p.Targets) == 0 {
			seen[""] = true
		}
		for _, t := range p.Targets {
			seen[t] = true
		}
	}
	return len(seen), undo
}

package cli

import (
	"context"
	"io"
	"log/slog"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/spf13/viper"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/api"
	"urgentis/internal/demo"
	"urgentis/internal/service"
	"urgentis/internal/testdb"
)

// sitting is somebody in front of the live view: keys go in, and what is asked beside it comes back.
type sitting struct {
	t    *testing.T
	l    *live
	msgs chan tea.Msg
}

func sit(t *testing.T, link, name, password string) *sitting {
	home(t)
	_, _, errOut := run(t, password+"\n", "login", link, "--name", name)
	require.Empty(t, errOut)
	a := &app{in: strings.NewReader(""), out: io.Discard, err: io.Discard, v: viper.New(), isTTY: true, output: "table"}
	a.v.Set("output", "table")
	require.NoError(t, a.settings(a.root()))
	cl, err := a.client()
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(t.Context())
	t.Cleanup(cancel)
	s := &sitting{t, newLive(ctx, a, cl), make(chan tea.Msg, 100)}
	s.do(s.l.Init())
	s.size(80, 24)
	return s
}

func (s *sitting) do(cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	go func() {
		switch m := cmd().(type) {
		case nil:
		case tea.BatchMsg:
			for _, c := range m {
				s.do(c)
			}
		default:
			s.msgs <- m
		}
	}()
}

func (s *sitting) update(m tea.Msg) {
	_, cmd := s.l.Update(m)
	s.do(cmd)
}

func (s *sitting) size(width, height int) { s.update(tea.WindowSizeMsg{Width: width, Height: height}) }

// keys presses keys: names in angles, such as <enter>, and else letters.
func (s *sitting) keys(text string) {
	names := map[string]rune{"enter": tea.KeyEnter, "esc": tea.KeyEscape, "down": tea.KeyDown, "up": tea.KeyUp,
		"end": tea.KeyEnd}
	for len(text) > 0 {
		if name, rest, is := strings.Cut(strings.TrimPrefix(text, "<"), ">"); is && text[0] == '<' {
			s.update(tea.KeyPressMsg{Code: names[name]})
			text = rest
			continue
		}
		s.update(tea.KeyPressMsg{Code: rune(text[0]), Text: text[:1]})
		text = text[1:]
	}
}

func (s *sitting) screen() string { return ansi.Strip(s.l.drawn()) }

// see waits until a text stands on the screen.
func (s *sitting) see(want string) {
	until := time.After(time.Minute)
	for !strings.Contains(s.screen(), want) {
		select {
		case m := <-s.msgs:
			s.update(m)
		case <-until:
			require.Contains(s.t, s.screen(), want)
		}
	}
	s.holds()
}

// holds is what is so of each picture: it is as high as the terminal, and no line is wider.
func (s *sitting) holds() {
	lines := strings.Split(s.screen(), "\n")
	assert.Len(s.t, lines, s.l.height)
	for _, line := range lines {
		assert.LessOrEqual(s.t, ansi.StringWidth(line), s.l.width, "%q", line)
	}
}

// A night in the terminal, by keys alone: what waits comes by itself, a change is approved once it was read, one that
// cannot be undone by its count, and nothing is sent before.
func TestANightInTheTerminal(t *testing.T) {
	w, err := demo.Start(context.Background(), service.Config{
		Database: testdb.URL(t), DataDir: t.TempDir(), Listen: "127.0.0.1:0", Log: slog.New(slog.DiscardHandler),
	}, 100*time.Millisecond, func(string) {})
	require.NoError(t, err)
	t.Cleanup(func() { assert.NoError(t, w.Stop()) })
	s := sit(t, w.Link, "mara", w.SignIn["mara"])
	s.see("Nothing is open, and nothing waits.")

	w.Fleet.Queue.Break()
	s.see("1 waits for a word")
	s.see("approve")
	s.keys("<enter>")
	s.see("berthq park --queue quay-north m-4711")
	s.keys("a")
	s.see("Read it to its end first")
	assert.Empty(t, w.Fleet.Queue.Changes())
	s.keys("<end>a")
	s.see("Approve on 1 target? y, Enter:")
	s.keys("n<enter>")
	s.see("Not approved")
	s.keys("n")
	s.see("Note:")
	s.keys("Seen on both.<enter>")
	s.see("The note is written.")
	assert.Empty(t, w.Fleet.Queue.Changes(), "nothing is sent before somebody said yes")
	s.keys("ay<enter>")
	s.see("Approved.")
	s.keys("i")
	s.see("Harm:")
	s.keys("f")
	s.see("Left over")
	s.keys("l")
	s.see("Runbook started")
	s.keys("<end>")
	s.see("Closed: repaired")
	assert.Len(t, w.Fleet.Queue.Changes(), 1)
	s.keys("<esc><esc><esc>")
	s.see("Nothing is open, and nothing waits.")

	// On a terminal of its least size, what cannot be undone wants its count.
	s.size(80, 12)
	w.Fleet.Clocks.Break()
	s.see("1 waits for a word")
	s.keys("/clocks<enter>")
	s.see("only what is like clocks")
	s.keys("<enter>")
	s.see("Harm:")
	s.keys("<end>a")
	s.see("Type 4 to approve:")
	s.keys("y<enter>")
	s.see("Not approved")
	s.keys("r")
	s.see("Why is it refused:")
	s.keys("<esc>t")
	s.see("is yours.")
	assert.Empty(t, w.Fleet.Clocks.Changes())
	s.keys("a4<enter>")
	s.see("Approved.")
	require.Eventually(t, func() bool { return len(w.Fleet.Clocks.Changes()) > 0 }, time.Minute, 50*time.Millisecond)
}

// What changes under the eyes of whoever reads it must be read again, and an old answer covers no newer one.
func TestAGateThatChangesIsReadAgain(t *testing.T) {
	l := newLive(context.Background(), &app{}, nil)
	l.stack = append(l.stack, place{screen: onGate, gate: "g"})
	l.Update(tea.WindowSizeMsg{Width: 80, Height: 24})
	shown := func(n int, digest string) {
		l.Update(loaded{place: l.here(), n: n, text: digest, gate: &api.Gate{State: "open", MayDecide: true, Digest: digest}})
	}
	shown(2, "first")
	assert.True(t, l.wholly, "all of it is on the screen")
	shown(1, "older")
	assert.Equal(t, "first", l.gate.Digest)
	l.text.SetHeight(1)
	l.Update(loaded{place: l.here(), n: 3, text: "second\nand more\nand more", gate: &api.Gate{State: "open",
		MayDecide: true, Digest: "second"}})
	assert.False(t, l.wholly)
	assert.Contains(t, l.said, "read it again")
	l.Update(tea.KeyPressMsg{Code: 'a', Text: "a"})
	assert.Contains(t, l.said, "Read it to its end first")
	l.gate.MayDecide = false
	l.Update(tea.KeyPressMsg{Code: 'a', Text: "a"})
	assert.Contains(t, l.said, "You may not decide it")
	l.Update(loaded{place: place{screen: onNow}, n: 9})
	assert.Equal(t, "second", l.gate.Digest, "what was asked for elsewhere is not shown here")
}

// However much changes, it is asked for one thing once at a time, and once more for what came meanwhile.
func TestAStormAsksOnce(t *testing.T) {
	l := newLive(context.Background(), &app{}, nil)
	require.NotNil(t, l.load())
	for range 100 {
		assert.Nil(t, l.load())
	}
	_, cmd := l.Update(loaded{place: l.here(), n: 1})
	require.NotNil(t, cmd)
	assert.Equal(t, again{}, cmd())
	_, cmd = l.Update(again{})
	assert.NotNil(t, cmd)
	_, cmd = l.Update(loaded{place: l.here(), n: 2})
	assert.Nil(t, cmd, "nothing came meanwhile")
	l.stack = append(l.stack, place{screen: onIncident, incident: 1})
	assert.NotNil(t, l.load())
	l.stack = append(l.stack, place{screen: onRecord, incident: 1})
	assert.NotNil(t, l.load(), "what somebody opens is asked for at once")
}

// Elsewhere than in a terminal it says what to use.
func TestLiveNeedsATerminal(t *testing.T) {
	signedIn(t)
	code, _, errOut := run(t, "", "live")
	assert.Equal(t, 2, code)
	assert.Contains(t, errOut, "it needs a terminal")
}

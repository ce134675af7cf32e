package device

import (
	"fmt"
	"regexp"
	"strings"

	"urgentis/core/plain"
)

// Talk is one dialogue: it is told what the device printed and when it fell silent, and says what is to be typed. It
// has no clock and reads nothing by itself.
type Talk struct {
	kind   *Kind
	secret string
	steps  []move
	at     int
	screen screen
	// waits is set while an answer to steps[at] is awaited.
	waits bool
	out   strings.Builder
	// refused is a line by which the device refused what was typed.
	refused string
	failed  string
	over    bool
}

// move is one thing to do: wait for a prompt, then type.
type move struct {
	phase  phase
	wants  *regexp.Regexp // the prompt before it
	also   *regexp.Regexp // a prompt that says that the move before did not do what it should
	types  string
	hidden bool   // what is typed is a secret
	number int    // of a line, from 1
	into   string // the mode that is entered
	name   string // what must have been done before it
}

type phase int

const (
	before phase = iota
	entering
	lines
	leaving
)

// NewTalk prepares a dialogue: enter a mode ("" for none), and type lines one after the other. secret is the value that
// a mode asks for.
func NewTalk(k *Kind, mode string, said []string, secret string) (*Talk, error) {
	way, ok := k.Way(mode)
	if !ok {
		has := "it has no modes"
		if len(k.Modes) > 0 {
			has = "it has " + strings.Join(k.ModeNames(), ", ")
		}
		return nil, fmt.Errorf("devices of the kind %s have no mode %s: %s", k.Name, mode, has)
	}
	t := &Talk{kind: k, secret: secret}
	ready := k.Ready
	var also *regexp.Regexp // by which it shows that it did not let us into the mode before
	name := ""
	add := func(m move) {
		if m.name == "" {
			m.name = name
		}
		m.also, also = also, nil
		t.steps = append(t.steps, m)
	}
	for _, l := range k.Before {
		add(move{phase: before, wants: ready, types: l, name: "what is typed first"})
	}
	for _, m := range way {
		add(move{phase: entering, wants: ready, types: m.Type, into: m.Name})
		also = ready
		if m.Asks != nil {
			add(move{phase: entering, wants: m.Asks, types: secret, hidden: true, into: m.Name})
			also = regexp.MustCompile(ready.String() + "|" + m.Asks.String())
		}
		ready, name = m.Ready, "the mode "+m.Name
	}
	for i, l := range said {
		add(move{phase: lines, wants: ready, types: l, number: i + 1})
	}
	end := move{phase: leaving, wants: ready}
	for i := len(way) - 1; i >= 0 && way[i].Leave != ""; i-- {
		end.types += way[i].Leave + "\n"
	}
	for _, l := range k.Leave {
		end.types += l + "\n"
	}
	t.steps = append(t.steps, end)
	return t, nil
}

// Hear takes what the device printed.
func (t *Talk) Hear(printed []byte) {
	for _, line := range t.screen.print(printed) {
		t.line(line)
	}
}

// line takes a whole line.
func (t *Talk) line(l string) {
	if t.over || t.at == 0 {
		return // what it says before the first prompt is nobody's answer
	}
	last := t.steps[t.at-1]
	first := t.waits
	if t.waits = false; first && last.echoedBy(l) {
		return
	}
	if t.refused == "" && t.kind.Refused != nil && t.kind.Refused.MatchString(l) {
		t.refused = l
	}
	if last.phase == lines {
		t.out.WriteString(l + "\n")
	}
}

// echoedBy reports whether a line is what was typed, as the device shows it, with its prompt or without.
func (m move) echoedBy(line string) bool {
	prompt, is := strings.CutSuffix(strings.TrimSpace(line), strings.TrimSpace(m.types))
	return is && !m.hidden && (prompt == "" || m.wants.MatchString(prompt))
}

// Quiet says what is to be typed now that the device has been silent for a moment; ok is false where it is waited on.
func (t *Talk) Quiet() (types string, ok bool) {
	if t.over {
		return "", false
	}
	prompt := t.screen.last()
	if more := t.kind.More; more != nil && more.Seen.MatchString(prompt) {
		t.screen.clear()
		return more.Type, true
	}
	now := t.steps[t.at]
	switch {
	case !now.wants.MatchString(prompt):
		if now.also != nil && now.also.MatchString(prompt) {
			t.failed, t.over = t.notDone(now.name), true
		}
		return "", false
	case t.refused != "" && t.at > 0 && t.steps[t.at-1].phase != lines:
		t.failed, t.over = t.notDone(t.steps[t.at-1].says()), true
		return "", false
	}
	t.screen.clear()
	if t.refused != "" || now.phase == leaving {
		t.over = true
		return t.steps[len(t.steps)-1].types, true
	}
	t.at++
	t.waits = true
	return now.types + "\n", true
}

// says names what a move before the lines is for.
func (m move) says() string {
	if m.into != "" {
		return "the mode " + m.into
	}
	return m.name
}

// notDone says that something before the lines was not taken.
func (t *Talk) notDone(what string) string {
	if t.refused != "" {
		return fmt.Sprintf("the device did not take %s: %s", what, plain.Line(t.refused))
	}
	return "the device did not let us into " + what
}

// Over reports whether nothing more is to be waited for.
func (t *Talk) Over() bool { return t.over }

// Typed is how many of the lines were typed.
func (t *Talk) Typed() int {
	if t.at == 0 {
		return 0
	}
	n := 0
	for _, m := range t.steps[:t.at] {
		if m.phase == lines {
			n++
		}
	}
	return n
}

// Begins reports whether what would be typed next is the first of the lines.
func (t *Talk) Begins() bool {
	return !t.over && t.steps[t.at].number == 1 && t.steps[t.at].wants.MatchString(t.screen.last())
}

// Failed says why the lines were not begun; "" where they were, or may be yet.
func (t *Talk) Failed() string { return t.failed }

// Refused is the line by which the device refused one of ours, and which one of how many; "" where it refused none.
func (t *Talk) Refused() (says string, line, of int) {
	if t.refused == "" || t.failed != "" {
		return "", 0, 0
	}
	return t.refused, t.Typed(), t.lines()
}

func (t *Talk) lines() int {
	n := 0
	for _, m := range t.steps {
		if m.phase == lines {
			n++
		}
	}
	return n
}

// After says in words how far it is.
func (t *Talk) After() string {
	if t.at == 0 {
		return "once signed in"
	}
	last := t.steps[t.at-1]
	if last.phase == lines {
		return fmt.Sprintf("after line %d of %d", last.number, t.lines())
	}
	return "for " + last.says()
}

// Waiting says in words what is waited for, and what the device said last.
func (t *Talk) Waiting() string {
	after := t.After()
	said := plain.Line(strings.TrimSpace(t.screen.last()))
	if said == "" {
		return "no prompt came " + after + "; its last line was empty"
	}
	return fmt.Sprintf("no prompt came %s; its last line was %q", after, said)
}

// Take gives what came of the lines since it was asked last.
func (t *Talk) Take() string {
	s := t.out.String()
	t.out.Reset()
	return s
}

package demo

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"github.com/gliderlabs/ssh"
	"golang.org/x/term"
)

// Words by which the switch lets somebody alter its settings; it is a stand-in on loopback.
const switchWord = "salt-and-tar"

// linkCount is how many links the switch has, pageLines how many lines it shows before it waits.
const (
	linkCount = 12
	pageLines = 8
)

// Switch is the switch at the slipway: a device without a shell, which is spoken with in a dialogue.
type Switch struct {
	mu    sync.Mutex
	links []link
	up    func(index int, name string)
}

type link struct {
	name   string
	up     bool
	since  time.Time
	errors int
}

// NewSwitch makes a switch with all its links up.
func NewSwitch() *Switch {
	s := &Switch{up: func(int, string) {}}
	for i := range linkCount {
		name := fmt.Sprintf("winch-%d", i+1)
		if i >= 8 {
			name = fmt.Sprintf("lamp-%d", i-7)
		}
		s.links = append(s.links, link{name: name, up: true, since: time.Now()})
	}
	return s
}

// OnUp has it told when somebody brings a link up.
func (s *Switch) OnUp(told func(index int, name string)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.up = told
}

// Set takes a link down, by its number from 1, or up; it reports whether that altered anything.
func (s *Switch) Set(index int, up bool) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	l := &s.links[index-1]
	if l.up == up {
		return false
	}
	l.up, l.since, l.errors = up, time.Now(), 0
	return true
}

// session is a dialogue on a terminal.
func (s *Switch) session(c ssh.Session) {
	t := term.NewTerminal(c, "")
	d := &switchDialogue{s: s, t: t, pages: true}
	for {
		t.SetPrompt("slipway-switch" + map[string]string{"": "> ", "raised": "# ", "settings": "/settings# "}[d.mode])
		line, err := t.ReadLine()
		if err != nil || line == "bye" {
			return
		}
		if err := d.do(strings.Fields(line)); err != nil {
			fmt.Fprintf(t, "? %s\n", err)
		}
	}
}

// switchDialogue is what one dialogue with the switch has come to.
type switchDialogue struct {
	s     *Switch
	t     *term.Terminal
	mode  string
	pages bool
	link  int
}

var errUnknownLine = errors.New("that is not understood")

func (d *switchDialogue) do(words []string) error {
	if len(words) == 0 {
		return nil
	}
	switch line := strings.Join(words, " "); {
	case line == "pages off":
		d.pages = false
	case line == "raise" && d.mode == "":
		word, err := d.t.ReadPassword("Word: ")
		if err != nil || word != switchWord {
			return errors.New("not that word")
		}
		d.mode = "raised"
	case line == "lower" && d.mode == "raised":
		d.mode = ""
	case line == "settings" && d.mode == "raised":
		d.mode = "settings"
	case line == "end" && d.mode == "settings":
		d.mode, d.link = "raised", 0
	case line == "show links":
		return d.page(d.s.table())
	case len(words) == 3 && words[0] == "show" && words[1] == "link":
		return d.show(words[2])
	case len(words) == 2 && words[0] == "link" && d.mode == "settings":
		i, err := d.s.index(words[1])
		d.link = i
		return err
	case line == "restart" && d.mode == "settings" && d.link > 0:
		d.s.restart(d.link)
	default:
		return errUnknownLine
	}
	return nil
}

// page prints lines, and waits for a key after so many where pages are on.
func (d *switchDialogue) page(lines []string) error {
	for i, l := range lines {
		if d.pages && i > 0 && i%pageLines == 0 {
			d.t.SetPrompt("-- more -- ")
			if _, err := d.t.ReadLine(); err != nil {
				return err
			}
		}
		if _, err := io.WriteString(d.t, l+"\n"); err != nil {
			return err
		}
	}
	return nil
}

func (d *switchDialogue) show(name string) error {
	i, err := d.s.index(name)
	if err != nil {
		return err
	}
	d.s.mu.Lock()
	l := d.s.links[i-1]
	d.s.mu.Unlock()
	return d.page([]string{"name:   " + l.name, "state:  " + l.state(),
		fmt.Sprintf("since:  %s", l.since.UTC().Format(time.RFC3339)), fmt.Sprintf("errors: %d", l.counted())})
}

func (l link) state() string {
	if l.up {
		return "up"
	}
	return "down"
}

// counted is how many errors it has seen: while it is down, seven a second.
func (l link) counted() int {
	if l.up {
		return l.errors
	}
	return l.errors + int(7*time.Since(l.since).Seconds())
}

func (s *Switch) table() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := []string{"number name      state errors"}
	for i, l := range s.links {
		out = append(out, fmt.Sprintf("%6d %-9s %-5s %d", i+1, l.name, l.state(), l.counted()))
	}
	return out
}

func (s *Switch) index(name string) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for i, l := range s.links {
		if l.name == name {
			return i + 1, nil
		}
	}
	return 0, fmt.Errorf("there is no link %s", name)
}

// restart brings a link up, and has the switch say so.
func (s *Switch) restart(index int) {
	s.Set(index, true)
	s.mu.Lock()
	told, name := s.up, s.links[index-1].name
	s.mu.Unlock()
	told(index, name)
}

// Fuel is the panel of the fuel station: what its tanks hold, in percent.
type Fuel struct {
	mu    sync.Mutex
	tanks [2]int
}

// NewFuel makes a station with full tanks.
func NewFuel() *Fuel { return &Fuel{tanks: [2]int{74, 81}} }

// Hold sets what a tank holds, by its number from 1.
func (f *Fuel) Hold(tank, percent int) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.tanks[tank-1] = percent
}

// held is what the tanks hold now, in percent.
func (f *Fuel) held() [2]int {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.tanks
}

func (f *Fuel) state(*Host) any {
	f.mu.Lock()
	defer f.mu.Unlock()
	return map[string]any{"tank_1": f.tanks[0], "tank_2": f.tanks[1]}
}

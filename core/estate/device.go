package estate

import (
	"regexp"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/device"
	"urgentis/core/reads"
)

var modePattern = regexp.MustCompile(`^[a-z][a-z0-9_-]{0,31}$`)

// maxTyped bounds what is typed at once, in bytes.
const maxTyped = 200

// device decodes how devices of a kind are spoken with.
func (x *decoder) device(root ast.Node) {
	k := &device.Kind{Modes: map[string]*device.Mode{}, Settle: device.DefaultSettle}
	x.d.Device = k
	got := x.Fields(root, "a device", map[string]func(ast.Node){
		"urgentis": func(ast.Node) {}, "name": x.name,
		"title":   func(n ast.Node) { k.Title = strings.TrimSpace(x.Word(n, "title")) },
		"ready":   func(n ast.Node) { k.Ready = x.lastLine(n, "ready") },
		"before":  func(n ast.Node) { k.Before = x.typedList(n, "before") },
		"more":    func(n ast.Node) { k.More = x.more(n) },
		"refused": func(n ast.Node) { k.Refused = x.pattern(n, "refused") },
		"secret":  func(n ast.Node) { k.Secret = x.named(n, "secret") },
		"leave":   func(n ast.Node) { k.Leave = x.typedList(n, "leave") },
		"reads":   func(n ast.Node) { k.Reads = x.lineForms(n) },
		"settle": func(n ast.Node) {
			if k.Settle = x.Duration(n, "settle"); k.Settle < 10*time.Millisecond || k.Settle > device.MaxSettle {
				x.Fail(n, "settle is from 10ms to 10s")
			}
		},
		"modes": func(n ast.Node) {
			for _, e := range x.Mapping(n, "modes") {
				if !modePattern.MatchString(e.Key) {
					x.Fail(e.Node, "a mode is named with small letters, digits, _ and -")
				}
				k.Modes[e.Key] = x.mode(e.Key, e.Value)
			}
			if len(k.Modes) > device.MaxModes {
				x.Fail(n, "a device may have %d modes", device.MaxModes)
			}
		},
	})
	k.Name = x.d.Name
	x.need(root, got, "device", "name", "ready")
	for name, m := range k.Modes {
		if _, ok := k.Way(name); !ok {
			x.Fail(
				got["modes"],
				"mode %s is entered from %s, from which no way leads back to the beginning",
				name,
				m.From,
			)
		}
		if m.Asks != nil && k.Secret == "" {
			x.Fail(got["modes"], "mode %s asks for a secret: say which one, as in secret: switch-raised", name)
		}
	}
}

// lineForms reads which lines only read.
func (x *decoder) lineForms(n ast.Node) []string {
	var out []string
	for _, item := range x.List(n, "reads") {
		w := x.Word(item, "reads")
		if _, err := reads.Lines([]string{w}); err != nil {
			x.Fail(item, "%s", err)
		}
		out = append(out, w)
	}
	return out
}

func (x *decoder) mode(name string, n ast.Node) *device.Mode {
	m := &device.Mode{Name: name}
	got := x.Fields(n, "a mode", map[string]func(ast.Node){
		"from":   func(n ast.Node) { m.From = x.Word(n, "from") },
		"type":   func(n ast.Node) { m.Type = x.typed(n, "type") },
		"asks":   func(n ast.Node) { m.Asks = x.lastLine(n, "asks") },
		"ready":  func(n ast.Node) { m.Ready = x.lastLine(n, "ready") },
		"leave":  func(n ast.Node) { m.Leave = x.typed(n, "leave") },
		"alters": func(n ast.Node) { m.Alters = x.Boolean(n, "alters") },
	})
	x.need(n, got, "mode", "type", "ready")
	return m
}

func (x *decoder) more(n ast.Node) *device.More {
	m := &device.More{Type: " "}
	got := x.Fields(n, "more", map[string]func(ast.Node){
		"seen": func(n ast.Node) { m.Seen = x.lastLine(n, "seen") },
		"type": func(n ast.Node) {
			if m.Type = x.Word(n, "type"); m.Type == "" || len(m.Type) > 10 || strings.ContainsAny(m.Type, "\n\r") {
				x.Fail(n, "type is what makes it print on, such as ' ', in at most 10 characters")
			}
		},
	})
	x.need(n, got, "more", "seen")
	return m
}

// lastLine reads what the last line of a device is when it waits: all of it.
func (x *decoder) lastLine(n ast.Node, what string) *regexp.Regexp {
	w := x.Word(n, what)
	re, err := regexp.Compile(`^\s*(?:` + w + `)\s*$`)
	switch {
	case err != nil:
		x.Fail(n, "%s is no pattern (RE2): %s", what, err)
		return nil
	case re.MatchString(""):
		x.Fail(n, "%s fits an empty line too, which a device prints while it works", what)
	}
	return re
}

// pattern reads a pattern for a line.
func (x *decoder) pattern(n ast.Node, what string) *regexp.Regexp {
	re, err := regexp.Compile(x.Word(n, what))
	if err != nil {
		x.Fail(n, "%s is no pattern (RE2): %s", what, err)
		return nil
	}
	return re
}

// typed reads a line that is typed.
func (x *decoder) typed(n ast.Node, what string) string {
	w := x.Word(n, what)
	if w == "" || len(w) > maxTyped || strings.ContainsAny(w, "\n\r\x00") {
		x.Fail(n, "%s is one line to type, of at most %d bytes", what, maxTyped)
	}
	if strings.Contains(w, "{{") {
		x.Fail(n, "what is typed is written out: a kind of device knows no run; its secret is named by secret")
	}
	return w
}

func (x *decoder) typedList(n ast.Node, what string) []string {
	var out []string
	for _, i := range x.List(n, what) {
		out = append(out, x.typed(i, what))
	}
	if len(out) > device.MaxBefore {
		x.Fail(n, "%s may have %d lines", what, device.MaxBefore)
	}
	return out
}

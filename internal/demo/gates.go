package demo

import (
	"errors"
	"fmt"
	"strings"
)

// gates is how many boarding gates there are.
const gates = 6

// Gates are the boarding gates. A bad release makes one of them answer with errors; an old key makes all
// of them refuse boarding passes.
type Gates struct {
	Ledger
	set    map[string]*gate
	oldKey bool
}

type gate struct {
	release string
	out     bool
}

const (
	goodRelease = "2.3.1"
	badRelease  = "2.4.0"
)

// NewGates makes gates that are well.
func NewGates() *Gates {
	g := &Gates{set: map[string]*gate{}}
	for i := 1; i <= gates; i++ {
		g.set[fmt.Sprintf("gate-%d", i)] = &gate{release: goodRelease}
	}
	return g
}

// Break gives one gate a bad release.
func (g *Gates) Break() string {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.set["gate-4"].release = badRelease
	return "gate-4"
}

// BreakKey makes the gates hold an old key: every boarding pass is refused.
func (g *Gates) BreakKey() {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.oldKey = true
	for _, x := range g.set {
		x.release = goodRelease
	}
}

// Errors is how many calls of the worst gate in rotation end with an error, per minute.
func (g *Gates) Errors() int {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, x := range g.set {
		if x.release == badRelease && !x.out {
			return 97
		}
	}
	return 0
}

// Refusing reports whether the gates refuse boarding passes.
func (g *Gates) Refusing() bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.oldKey
}

// gatectl is the program on the gates.
func (g *Gates) gatectl(c call) (string, error) {
	what := strings.Join(c.args, " ")
	switch what {
	case "counts":
		g.mu.Lock()
		defer g.mu.Unlock()
		x, n := g.set[c.host.Name], 2+int(c.host.Name[len(c.host.Name)-1]-'0')%3
		if x.release == badRelease {
			n = 97
		}
		return printed(
			map[string]any{
				"gate":     c.host.Name,
				"errors":   n,
				"release":  x.release,
				"rotation": map[bool]string{true: "out", false: "in"}[x.out],
			},
		)
	case "rotation out", "rotation in":
		return g.once(c, what, func() (string, error) {
			g.set[c.host.Name].out = what == "rotation out"
			return c.host.Name + " is " + strings.TrimPrefix(what, "rotation "), nil
		})
	case "release rollback":
		return g.once(c, what, func() (string, error) {
			g.set[c.host.Name].release = goodRelease
			return "release is " + goodRelease, nil
		})
	case "release forward":
		return g.once(c, what, func() (string, error) {
			g.set[c.host.Name].release = badRelease
			return "release is " + badRelease, nil
		})
	}
	return "", fmt.Errorf("gatectl does not know %q", what)
}

// passctl is the program that reads boarding passes.
func (g *Gates) passctl(c call) (string, error) {
	switch strings.Join(c.args, " ") {
	case "last":
		g.mu.Lock()
		defer g.mu.Unlock()
		reason, age := "none", 3
		if g.oldKey {
			reason, age = "key-expired", 49
		}
		return printed(map[string]any{"gate": c.host.Name, "reason": reason, "key_age_h": age})
	case "feed":
		return printed(map[string]any{"feed": "alive", "newest_key_h": 1})
	case "refresh-key":
		return g.once(c, "refresh-key", func() (string, error) {
			g.oldKey = false
			return "the key is new", nil
		})
	}
	return "", errors.New("usage: passctl last|feed|refresh-key")
}

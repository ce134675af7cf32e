package device

import (
	"regexp"
	"slices"
	"time"
)

// Bounds of what a kind of device says.
const (
	MaxModes  = 20
	MaxBefore = 20
	// MaxSettle bounds how long a device must be silent before its prompt counts.
	MaxSettle = 10 * time.Second
	// DefaultSettle is that time where nothing is said.
	DefaultSettle = 80 * time.Millisecond
)

// Kind is how devices of one kind are spoken with.
type Kind struct {
	Name, Title string
	// Ready is what the last line is when the device waits for a line.
	Ready *regexp.Regexp
	// Before is typed once it is ready for the first time, such as what takes paging off.
	Before []string
	// More is what the last line is when it waits before it prints on, and what is typed then; nil: it never does.
	More *More
	// Refused is what a line of its answer is when it did not take what was typed; nil: that cannot be seen.
	Refused *regexp.Regexp
	// Secret names the secret that is typed where a mode asks for one; "" for none.
	Secret string
	Modes  map[string]*Mode
	// Leave is typed at the end.
	Leave []string
	// Reads are the forms of lines that only read (see package reads).
	Reads []string
	// Settle is how long it must be silent before its last line counts as a prompt.
	Settle time.Duration
}

// More is how a device asks whether to print on.
type More struct {
	Seen *regexp.Regexp
	Type string
}

// Mode is a state of the device in which it takes other lines.
type Mode struct {
	Name string
	// From is the mode that it is entered from; "" is the one after signing in.
	From string
	// Type enters it. Asks is what the last line is when it wants the secret; nil: it wants none.
	Type string
	Asks *regexp.Regexp
	// Ready is what the last line is in this mode.
	Ready *regexp.Regexp
	// Alters says that it is entered to alter something: looks do not.
	Alters bool
	// Leave goes back to the mode that it was entered from; "" where leaving the device is enough.
	Leave string
}

// Way lists the modes that lead to one, itself last; false where there is none of that name. "" has none.
func (k *Kind) Way(mode string) ([]*Mode, bool) {
	var way []*Mode
	for mode != "" {
		m := k.Modes[mode]
		if m == nil || len(way) > len(k.Modes) {
			return nil, false
		}
		way, mode = append(way, m), m.From
	}
	slices.Reverse(way)
	return way, true
}

// ModeNames lists the modes by name.
func (k *Kind) ModeNames() []string {
	var out []string
	for n := range k.Modes {
		out = append(out, n)
	}
	slices.Sort(out)
	return out
}

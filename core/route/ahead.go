package route

import (
	"slices"
	"time"
)

// Forecast is whom a notice would be told to, if nobody takes it and all that is sent arrives.
type Forecast struct {
	Sends []SentAt
	// None says who could not be found or reached, each once.
	None []string
	// Nobody says that nobody is told of it, Silent which route tells nobody; "" for none.
	Nobody bool
	Silent string
}

// SentAt is a message that would be sent at a time.
type SentAt struct {
	Send
	At time.Time
}

// maxForecast bounds how many looks ahead there are.
const maxForecast = 200

// Foretell tells what would be sent of a notice from a time on, up to another one; zero: as long as anything is to
// come.
func Foretell(n *Notice, stood Stood, told []Told, w *World, from, until time.Time) Forecast {
	var out Forecast
	told = slices.Clone(told)
	at := from
	for range maxForecast {
		d := Next(n, stood, told, w, at)
		stood, out.Nobody, out.Silent = d.Stood, d.Nobody, d.Silent
		for _, s := range d.Send {
			out.Sends = append(out.Sends, SentAt{s, at})
			told = append(told, Told{To: s.To, Contact: s.Contact, Rung: s.Rung, At: at})
		}
		for _, none := range d.None {
			if !slices.Contains(out.None, none) {
				out.None = append(out.None, none)
			}
		}
		if d.LookAt.IsZero() || !until.IsZero() && d.LookAt.After(until) {
			return out
		}
		at = d.LookAt
	}
	return out
}

// Later is who will be called, and when.
type Later struct {
	At     time.Time
	People []string
}

// maxLater bounds how many calls are told ahead.
const maxLater = 6

// Later lists the people who would be called after a time, the soonest first. Who is called by another way stands there
// again; rooms do not.
func (f Forecast) Later(after time.Time) []Later {
	var out []Later
	for _, s := range f.Sends {
		if Room(s.To) != "" || !s.At.After(after) {
			continue
		}
		if n := len(out); n == 0 || !out[n-1].At.Equal(s.At) {
			if n == maxLater {
				return out
			}
			out = append(out, Later{At: s.At})
		}
		if l := &out[len(out)-1]; !slices.Contains(l.People, s.To) {
			l.People = append(l.People, s.To)
		}
	}
	return out
}

package route

import (
	"slices"
	"time"
)

// Told is a message of a notice that was sent, or could not be.
type Told struct {
	// To is the person, or room/NAME.
	To      string    `json:"to"`
	Contact Contact   `json:"contact"`
	Rung    int       `json:"rung"`
	At      time.Time `json:"at"`
	Failed  bool      `json:"failed,omitempty"`
}

// Send is a message to be sent now.
type Send struct {
	To      string
	Contact Contact
	Rung    int
	Why     string
}

// Stood is on which rung a notice stands, and since when.
type Stood struct {
	Rung  int       `json:"rung"`
	Since time.Time `json:"since"`
}

// Decision is what follows for a notice at a moment.
type Decision struct {
	Send  []Send
	Stood Stood
	// LookAt is when to look again, unless somebody takes it; zero where nothing is to come.
	LookAt time.Time
	// None says, in words, who of those who should be told could not be found or reached.
	None []string
	// Nobody says that nobody is told of it, and nothing is to come.
	Nobody bool
	// Silent is the route that tells nobody of it; "" for none.
	Silent string
}

// quietStep is how often it is looked whether somebody's quiet hours are over.
const quietStep = 10 * time.Minute

// Next tells who is to be told of a notice now, and when to look again. told is what was sent of it so far. It is pure:
// whoever takes the notice, and what it is about, is judged by whoever asks. Nobody is told twice by one way.
func Next(n *Notice, stood Stood, told []Told, w *World, now time.Time) Decision {
	rungs, escalate, silent := w.ladder(n, now)
	if silent != "" {
		return Decision{Stood: stood, Silent: silent}
	}
	d := Decision{Stood: stood}
	if d.Stood.Since.IsZero() {
		d.Stood.Since = now
	}
	for ; d.Stood.Rung < len(rungs); d.Stood = (Stood{d.Stood.Rung + 1, now}) {
		on := telling{notice: n, world: w, told: told, rung: d.Stood.Rung, now: now}
		on.tell(rungs[d.Stood.Rung])
		d.Send, d.None = append(d.Send, on.send...), append(d.None, on.none...)
		ends := d.Stood.Since.Add(escalate)
		last := d.Stood.Rung == len(rungs)-1 || !n.Urgent
		switch {
		case !on.fresh:
			if !last || !n.Urgent && !on.reached {
				continue // nobody new here
			}
		case !last && !now.Before(ends):
			continue
		case !last:
			d.LookAt = sooner(on.lookAt, ends)
			return d
		}
		d.LookAt = on.lookAt
		return w.lastly(n, d, told, len(rungs), now)
	}
	// It stays on the last rung, where a message that fails is told another way.
	d.Stood.Rung = max(0, len(rungs)-1)
	return w.lastly(n, d, told, len(rungs), now)
}

// lastly has administrators told of what is urgent where nobody else could be, and says where not even they are.
func (w *World) lastly(n *Notice, d Decision, told []Told, rung int, now time.Time) Decision {
	nobody := len(d.Send) == 0 && d.LookAt.IsZero() && !slices.ContainsFunc(told, arrived)
	if nobody && n.Urgent {
		on := telling{notice: n, world: w, told: told, rung: rung, now: now}
		for _, name := range w.Admins {
			on.person(name, "nobody else could be called")
		}
		d.Send, d.None, d.LookAt = on.send, append(d.None, on.none...), on.lookAt
		nobody = len(d.Send) == 0 && d.LookAt.IsZero()
	}
	d.Nobody = nobody
	return d
}

func arrived(t Told) bool { return !t.Failed }

func sooner(a, b time.Time) time.Time {
	if a.IsZero() || b.Before(a) {
		return b
	}
	return a
}

// telling is one rung at a moment.
type telling struct {
	notice *Notice
	world  *World
	told   []Told
	rung   int
	now    time.Time

	send   []Send
	none   []string
	lookAt time.Time
	// fresh: somebody is told on this rung, or will be. reached: somebody of it was told, here or before.
	fresh, reached bool
}

func (t *telling) tell(r rung) {
	for _, word := range r.words {
		people, rooms, none := t.world.who(word, t.now)
		if none != "" {
			t.none = append(t.none, none)
		}
		for _, name := range rooms {
			t.room(name, r.why)
		}
		for _, name := range people {
			t.person(name, r.why)
		}
	}
}

func (t *telling) room(name, why string) {
	way := Contact{Connection: name}
	was, used := t.used(way)
	switch {
	case !used:
		t.out(roomPrefix+name, way, why)
	case !was.Failed:
		t.came(was)
	}
}

// came notes that a message arrived, as far as is known.
func (t *telling) came(was Told) {
	t.reached = true
	t.fresh = t.fresh || was.Rung == t.rung
}

func (t *telling) out(to string, way Contact, why string) {
	t.send = append(t.send, Send{To: to, Contact: way, Rung: t.rung, Why: why})
	t.fresh, t.reached = true, true
}

// used finds what was sent by a way, to whomever.
func (t *telling) used(way Contact) (Told, bool) {
	if i := slices.IndexFunc(t.told, func(x Told) bool { return x.Contact == way }); i >= 0 {
		return t.told[i], true
	}
	if i := slices.IndexFunc(t.send, func(x Send) bool { return x.Contact == way }); i >= 0 {
		return Told{To: t.send[i].To, Contact: way, Rung: t.rung, At: t.now}, true
	}
	return Told{}, false
}

// person tells somebody by the first way that was not tried yet, where none before it arrived; what is urgent is told
// by the next one too after a while.
func (t *telling) person(name, why string) {
	p := t.world.People[name]
	if p == nil || len(p.Contacts) == 0 {
		t.none = append(t.none, name+" has no verified contact")
		return
	}
	if !t.world.May(name, t.notice.Kind) {
		t.none = append(t.none, name+" may not "+t.notice.Kind.wants())
		return
	}
	if !t.notice.Urgent && p.Quiet != nil && p.Quiet.Inside(t.now) {
		t.fresh = true
		t.lookAt = sooner(t.lookAt, t.now.Add(quietStep))
		return
	}
	var last time.Time
	for _, way := range p.Contacts {
		was, used := t.used(way)
		switch {
		case used && was.Failed:
			continue
		case used:
			last = was.At
			t.came(was)
			continue
		case last.IsZero():
			t.out(name, way, why)
			last = t.now
		case !t.notice.Urgent:
			return
		case !t.now.Before(last.Add(nextContact)):
			t.out(name, way, why)
			last = t.now
		default:
			t.fresh = true
			t.lookAt = sooner(t.lookAt, last.Add(nextContact))
			return
		}
	}
	if last.IsZero() {
		t.none = append(t.none, name+" could be reached by none of their ways")
	}
}

package flow

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"time"

	"github.com/stretchr/testify/require"

	"urgentis/core/expr"
	"urgentis/core/leave"
	"urgentis/core/runbook"
	"urgentis/core/task"
)

// flight is an attempt in somebody's hands.
type flight struct {
	in     Intent
	place  Place
	frozen bool // with an instance that does not answer
	gone   bool // with one that is dead
}

// mission is a run in this world.
type mission struct {
	*earth
	id      string
	book    *runbook.Book
	m       *Machine
	log     []Event
	stored  int
	flying  []*flight
	gave    map[string]int // what a change added last, by place and target
	end     *Ended
	source  string
	attempt map[string]bool
	refused map[string]time.Time
	about   map[string]string // the attempt of a question
	jobs    map[string]int    // how much each job did, as act says it; by its id
	guards  []guarded         // what leave was given for and is not on disk yet
	own     int               // how many looks it took itself
	anew    map[string]int    // how often evidence was taken anew, by place and by how often time jumped before
}

func (p *mission) key1(in Intent, place Place) string {
	return p.id + " " + place.String() + " " + in.Target + " " + in.Purpose.For
}

// act carries a request out, wholly, in half or not at all, and gives what it did: 2, 1 or 0.
func (p *mission) act(f *flight, how int) {
	in := f.in
	verb, n := work(in.Request)
	at, place := addresses[in.Target], f.place.String()+" "+in.Target
	p.ran[p.key1(in, f.place)]++
	switch verb {
	case "ensure":
		if how == 2 && !p.ensured[p.id+place] {
			p.ensured[p.id+place] = true
			p.number[at] += n
			p.gave[place] = n
		}
	case "add":
		p.number[at] += n * how / 2
		p.gave[place] += n * how / 2
	case "undo":
		p.number[at] -= p.gave[place] * how / 2
	}
}

// ends makes how a flight ends: what it did, and what is told of it. sent is false where it never left.
func (p *mission) ends(f *flight) Outcome {
	o := Outcome{Attempt: f.in.Attempt, State: OK}
	if f.in.FollowsOn() {
		return p.followed(f, o)
	}
	verb, _ := work(f.in.Request)
	if p.halted {
		o.State, o.Halted = Held, true
		return o
	}
	if f.in.Request.Job != nil {
		return p.startsJob(f, o)
	}
	three := 3
	switch p.draw("end", 10) {
	case 0:
		o.State, o.Error = Failed, "refused"
		return o
	case 1:
		how := p.draw("how much", 3)
		if verb == "ensure" {
			how = 0
		}
		p.act(f, how)
		o.State, o.Exit = Failed, &three
	case 2:
		how := p.draw("how much", 3)
		if how == 1 && verb == "ensure" {
			how = 2
		}
		if how > 0 {
			p.act(f, how)
		}
		o.State, o.Error = Unknown, "nobody saw its end"
		if how > 0 {
			p.attempt[f.in.Attempt] = true
		}
		p.gaveOf(f, how)
	default:
		p.act(f, 2)
	}
	return o
}

// startsJob makes how the start of a job elsewhere ends.
func (p *mission) startsJob(f *flight, o Outcome) Outcome {
	how := p.draw("how much", 3)
	switch p.draw("job", 6) {
	case 0:
		o.State, o.Error = Failed, "refused"
		return o
	case 1:
		o.State, o.Error = Unknown, "the answer did not come, and nobody knows its id"
		if how > 0 {
			p.act(f, how)
			p.attempt[f.in.Attempt] = true
		}
		p.gaveOf(f, how)
		return o
	case 2:
		p.isKnown(f, how)
		o.State = StillRuns
	case 3:
		p.isKnown(f, how)
		return p.jobEnds(f, o, how)
	default:
		p.isKnown(f, 2)
	}
	return o
}

// isKnown begins a job that has an id.
func (p *mission) isKnown(f *flight, how int) {
	p.earth.jobs++
	id := fmt.Sprint("j", p.earth.jobs)
	p.jobs[id] = how
	p.act(f, how)
	p.attempt[f.in.Attempt] = how > 0
	p.gaveOf(f, how)
	p.fact(Event{Place: f.place, Body: Followed{Attempt: f.in.Attempt, Job: id}})
}

// adrift reports whether a job of the run goes on elsewhere, and nobody looks after it at the moment.
func (p *mission) adrift() bool {
	if p.end != nil || p.m == nil || p.stored != len(p.log) {
		return false
	}
	return slices.ContainsFunc(p.m.s.touchOrder, func(t *Touch) bool {
		last := p.m.s.attempts[t.Change.Newest()]
		return t.Change.Fate == UnderWay && last != nil && last.over()
	})
}

func (p *mission) jobEnds(f *flight, o Outcome, how int) Outcome {
	three := 3
	if how < 2 {
		o.State, o.Exit = Failed, &three
	}
	return o
}

// followed makes what whoever looks after a job on sees of it.
func (p *mission) followed(f *flight, o Outcome) Outcome {
	how := p.jobs[f.in.Request.Job.Known]
	switch p.draw("followed", 8) {
	case 0:
		o.State = StillRuns
	case 1:
		o.State, o.Error = Unknown, "nobody knows it there any more"
	default:
		return p.jobEnds(f, o, how)
	}
	return o
}

// gaveOf remembers for whoever is asked how much an attempt did.
func (p *mission) gaveOf(f *flight, how int) {
	p.refused["how "+f.in.Attempt] = time.Unix(int64(how), 0)
}

func (p *mission) add(e Event) {
	e.At = p.now.Add(p.clock)
	e, err := p.m.Append(e)
	require.NoError(p.t, err, "%s\n%s", p.source, p.told())
	p.log = append(p.log, e)
}

func (p *mission) fact(e Event) {
	p.add(e)
	p.store()
	attempt := ""
	switch b := e.Body.(type) {
	case Outcome:
		attempt = b.Attempt
	case QuestionAnswered:
		if b.Choice == DoItAgain {
			attempt = p.about[b.Question]
		}
	case QuestionRaised:
		p.about[b.Question] = b.Attempt
	}
	// Whatever ends under an approval, or is let be done again, lets it stand on.
	if in, _, _, ok := p.m.s.Attempt(attempt); ok && in.Under != "" && !in.Undoes() {
		p.until[in.Under] = later(p.until[in.Under], p.now.Add(p.clock).Add(p.within[in.Under]+time.Second))
	}
}

// store puts what happened on disk; what an intent rests on is looked at as the database would.
func (p *mission) store() {
	for _, e := range p.log[p.stored:] {
		if in, ok := e.Body.(Intent); ok && in.Touches() {
			p.mayBegin(in, e.Place)
		}
	}
	p.m.Stored()
	p.stored, p.guards = len(p.log), nil
}

// mayBegin holds what is begun against the world's own book.
func (p *mission) mayBegin(in Intent, place Place) {
	say := func(ok bool, what string) {
		require.True(p.t, ok, "%s is begun: %s\n%s\n%s", in.Attempt, what, p.source, p.told())
	}
	if in.FollowsOn() {
		_, own := p.jobs[in.Request.Job.Known]
		say(own, "it follows another's job") // it begins nothing
		return
	}
	at := addresses[in.Target]
	for name, version := range in.Request.Secrets {
		say(version == p.secret, "the secret "+name+" is another")
	}
	if f := in.Request.File; f != nil {
		say(storedAs(f) == p.feed(), "the file is another")
	}
	say(!p.halted, "all is halted")
	say(in.Request.Target.HostKey == p.key[at], "the host key is another")
	say(p.holder["host:"+at] == p.id, "the lock is "+p.holder["host:"+at]+"'s")
	if in.Undoes() {
		return
	}
	say(p.stance != leave.Suggest, "runbooks only suggest")
	if in.Under == "" {
		say(p.stance == leave.Act, "nobody said yes")
		return
	}
	shown, ok := p.yes[in.Under]
	say(ok, "nobody said yes to "+in.Under)
	say(slices.ContainsFunc(shown.Requests, func(r task.Request) bool {
		r.Step = ""
		return leave.Covers(r, in.Request) == ""
	}), "something else was shown")
	say(p.now.Add(p.clock).Before(p.until[in.Under]), "the approval is over")
}

func (p *mission) told() string {
	out := ""
	for _, e := range p.log {
		b, _ := json.Marshal(e.Body)
		if len(b) > 300 {
			b = b[:300]
		}
		out += fmt.Sprintf("%d %s %s %s %s\n", e.Seq, e.At.Format("15:04:05"), e.Place, e.Body.Kind(), b)
	}
	return out
}

// step lets the run go on by one thing. false: it waits for time.
func (p *mission) step() (moved bool, wake time.Time) {
	p.open()
	var plan Plan
	var begin []Intent
	for {
		var err error
		plan, err = p.m.Plan(p.now.Add(p.clock))
		require.NoError(p.t, err, "%s\n%s", p.source, p.told())
		p.log, begin = append(p.log, plan.Events...), append(begin, plan.Begin...)
		p.noLoop(plan.Events)
		if len(plan.AskLeave)+len(plan.WantLocks) == 0 || !p.grant(plan) {
			break
		}
	}
	changes := slices.ContainsFunc(begin, func(in Intent) bool { return in.Touches() })
	if changes && !p.stands() {
		p.discard()
		return true, plan.Wake
	}
	if p.fault() {
		p.discard() // the commit did not hold
		if p.draw("dies", 2) == 0 {
			p.die()
		}
		return true, plan.Wake
	}
	p.store()
	p.returned()
	if plan.Ended {
		p.release()
		p.end = p.m.s.Ended
		return true, plan.Wake
	}
	for _, in := range begin {
		p.flying = append(p.flying, &flight{in: in, place: p.m.s.PlaceOf(in.Attempt)})
	}
	for _, id := range plan.AskRest {
		if p.rests(id) {
			p.fact(Event{Place: p.m.s.PlaceOf(id), Body: Rested{Attempt: id}})
			return true, plan.Wake
		}
	}
	for _, id := range plan.Cancel {
		for _, f := range p.flying {
			if f.in.Attempt == id && !f.in.Touches() {
				p.land(f, Outcome{Attempt: id, State: Failed, Error: "cancelled"})
				return true, plan.Wake
			}
		}
	}
	for _, f := range p.flying {
		if f.frozen || f.gone {
			continue
		}
		if p.fault() {
			// Its instance freezes, or dies; somebody else goes on with the run.
			f.frozen = p.draw("freezes", 2) == 0
			if !f.frozen {
				f.gone = true
				if f.in.Touches() && !f.in.FollowsOn() && p.draw("had begun", 2) == 0 {
					p.hadBegun(f)
				}
			}
			p.die()
			return true, plan.Wake
		}
		p.land(f, p.outcome(f))
		return true, plan.Wake
	}
	return p.people(), plan.Wake
}

// discard drops what is not on disk.
func (p *mission) discard() {
	p.log, p.guards = p.log[:p.stored], nil
	p.m.Discard()
	p.returned()
}

// noLoop holds that evidence is not taken anew for ever.
func (p *mission) noLoop(events []Event) {
	for _, e := range events {
		if b, ok := e.Body.(Waits); ok && b.On == OnEvidence {
			at := fmt.Sprint(e.Place, p.jumps-p.own)
			p.anew[at]++
			require.Less(p.t, p.anew[at], 4, "%s takes its evidence anew again and again\n%s\n%s", e.Place, p.source,
				p.told())
		}
	}
}

// hadBegun carries out what an instance had in hand that nobody hears of any more; of a job its id may be on disk.
func (p *mission) hadBegun(f *flight) {
	if f.in.Request.Job != nil && p.draw("its id is known", 2) == 0 {
		p.isKnown(f, 2)
		return
	}
	p.act(f, 2)
	p.attempt[f.in.Attempt] = true
	p.gaveOf(f, 2)
}

// open lets an instance take the run in hand that nobody has. What is under way is lost.
func (p *mission) open() {
	if p.m != nil {
		return
	}
	m, err := Open(p.book, p.log)
	require.NoError(p.t, err, "%s\n%s", p.source, p.told())
	p.m = m
	for _, in := range m.s.OpenAttempts() {
		lost := Lost{Attempt: in.Attempt, Because: "the service stopped"}
		if !p.rests(in.Attempt) {
			lost.By = "n1"
		}
		p.fact(Event{Place: m.s.PlaceOf(in.Attempt), Body: lost})
	}
}

// die lets the program that drives the run end.
func (p *mission) die() {
	p.log, p.guards = p.log[:p.stored], nil
	p.m = nil
	for _, f := range p.flying {
		if !f.frozen {
			f.gone = true
		}
	}
	p.flying = slices.DeleteFunc(p.flying, func(f *flight) bool { return f.gone })
}

func (p *mission) fault() bool {
	if p.faults == 0 || p.draw("fault", 30) != 0 {
		return false
	}
	p.faults--
	return true
}

func (p *mission) land(f *flight, o Outcome) {
	p.flying = slices.DeleteFunc(p.flying, func(x *flight) bool { return x == f })
	p.fact(Event{Place: f.place, Body: o})
}

func (p *mission) outcome(f *flight) Outcome {
	if f.in.Touches() {
		return p.ends(f)
	}
	p.now = p.now.Add(p.looks)
	p.jumps++ // for the other run
	p.own++
	o := Outcome{Attempt: f.in.Attempt, State: OK, Readings: map[string]expr.Sample{}}
	look, _ := Find(p.book, f.in.Look)
	for _, r := range look.Read {
		o.Readings[r.Name] = expr.Sample{Value: p.reason, Target: f.in.Target, At: p.now.Add(p.clock)}
	}
	return o
}

// rests reports whether nobody can begin an attempt any more.
func (p *mission) rests(id string) bool {
	return !slices.ContainsFunc(p.flying, func(f *flight) bool { return f.in.Attempt == id })
}

// thaw wakes an instance that was frozen: it carries out what it had in hand, or not, and tells.
func (p *mission) thaw() bool {
	for _, f := range p.flying {
		if !f.frozen {
			continue
		}
		o := Outcome{Attempt: f.in.Attempt, State: Held, Error: "this instance lost its lease"}
		switch {
		case f.in.FollowsOn():
			o.State, o.Error = StillRuns, ""
		case f.in.Touches() && p.draw("was about to send", 2) == 0:
			o.State, o.Error = OK, ""
			p.act(f, 2)
			p.attempt[f.in.Attempt] = true
		}
		p.open()
		p.flying = slices.DeleteFunc(p.flying, func(x *flight) bool { return x == f })
		if f.in.Touches() && p.m.s.Unreported(f.in.Attempt) {
			p.fact(Event{Place: f.place, Body: o})
		}
		return true
	}
	return false
}

// guarded is leave that was given.
type guarded struct {
	ask   AskLeave
	given LeaveGiven
}

// leaveFor is what leave is given as the world is.
func (p *mission) leaveFor(ask AskLeave) LeaveGiven {
	a := leave.Decide(leave.Question{Stance: p.stance, HasGate: ask.HasGate, Halted: p.halted, Undo: ask.Undo,
		Look: ask.Look})
	g := LeaveGiven{Verdict: a.Verdict, Reasons: a.Reasons, Halted: a.Halted, Secrets: map[string]int{},
		Files: map[string]string{}}
	for _, t := range ask.Targets {
		at := addresses[t]
		g.Facts = append(g.Facts, task.Facts{Name: t, Address: at, HostKey: p.key[at]})
	}
	for _, name := range ask.Secrets {
		g.Secrets[name] = p.secret
	}
	for _, name := range ask.Files {
		g.Files[name] = p.feed()
	}
	return g
}

// stands reports whether all leave that was given since the last write is as it was: whoever writes an intent down asks
// that once more.
func (p *mission) stands() bool {
	return !slices.ContainsFunc(p.guards, func(g guarded) bool {
		return !reflect.DeepEqual(g.given, p.leaveFor(g.ask))
	})
}

// grant gives leave and locks, as the world has them.
func (p *mission) grant(plan Plan) bool {
	for _, ask := range plan.AskLeave {
		given := p.leaveFor(ask)
		p.guards = append(p.guards, guarded{ask, given})
		p.add(ask.Given(given, p.now))
		p.turnsBetween()
	}
	waits := 0
	for _, want := range plan.WantLocks {
		held := ""
		for _, k := range want.Keys {
			if h := p.holder[k]; h != "" && h != p.id {
				held = k
			}
		}
		if held == "" {
			for _, k := range want.Keys {
				p.holder[k] = p.id
			}
			p.add(want.Taken(p.now))
			continue
		}
		is := LocksAwaited{Key: held, Holder: p.holder[held], Of: want.Of}
		if p.m.s.Waits(want.Place, want.Of) != is {
			p.add(Event{Place: want.Place, Body: is})
			return true
		}
		waits++
	}
	return len(plan.AskLeave) > 0 || waits < len(plan.WantLocks)
}

// returned gives locks back that the run gave back.
func (p *mission) returned() {
	for k, h := range p.holder {
		if h == p.id && !p.m.s.locks[k] {
			delete(p.holder, k)
		}
	}
}

func (p *mission) release() {
	for k, h := range p.holder {
		if h == p.id {
			delete(p.holder, k)
		}
	}
}

// people decide, and know from the hosts what became of a change.
func (p *mission) people() bool {
	paths := []Place{}
	for place := range p.m.s.waits {
		paths = append(paths, place)
	}
	slices.SortFunc(paths, byText)
	for _, place := range paths {
		st := p.m.s.steps[place]
		for _, g := range st.allGates() {
			if !g.open() || !p.now.Add(p.clock).Before(g.raised.Until) {
				continue
			}
			d := GateDecided{Gate: g.raised.Gate, Approved: p.draw("yes", 5) > 0, By: fmt.Sprint("p", len(g.approvals)),
				Digest: g.raised.Digest}
			if d.Approved && p.draw("later", 6) == 0 {
				at := p.now.Add(p.clock).Add(time.Hour)
				d.StartAt = &at
			}
			if d.Approved {
				p.yes[g.raised.Gate] = g.raised.Proposal
				until := g.raised.Until
				if d.StartAt != nil {
					until = d.StartAt.Add(g.within())
				}
				p.within[g.raised.Gate] = g.within()
				p.until[g.raised.Gate] = later(p.until[g.raised.Gate], until.Add(2*time.Second))
			}
			p.fact(Event{Place: place, Body: d})
			return true
		}
		var qs []string
		for id, q := range st.questions {
			if q.open() && p.now.Add(p.clock).Before(q.raised.Until) {
				qs = append(qs, id)
			}
		}
		slices.Sort(qs)
		for _, id := range qs {
			if p.answer(place, st.questions[id].raised) {
				return true
			}
		}
	}
	return false
}

func (p *mission) answer(place Place, q QuestionRaised) bool {
	p.about[q.Question] = q.Attempt
	if q.Attempt == "" {
		p.fact(Event{Place: place, Body: QuestionAnswered{Question: q.Question, Choice: q.Choices[0], By: "mara"}})
		return true
	}
	if !p.rests(q.Attempt) {
		return false // who looks cannot say: it may still be begun
	}
	choice := p.seen(q.Attempt)
	if choice == DidNot && slices.Contains(q.Choices, DoItAgain) && p.draw("again", 2) == 0 {
		choice = DoItAgain
	}
	if e := p.m.s.EffectOf(q.Attempt); SaysNotBegun(choice) && !e.Rests {
		p.fact(Event{Place: place, Body: Rested{Attempt: q.Attempt}})
	}
	p.fact(Event{Place: place, Body: QuestionAnswered{Question: q.Question, Choice: choice, By: "ola"}})
	return true
}

// seen is what somebody sees who looks at the host after a change or an undo that an attempt is of: what any of its
// attempts did, not the newest alone.
func (p *mission) seen(attempt string) string {
	choice := DidNot
	for _, a := range p.m.s.EffectOf(attempt).Attempts {
		if !p.attempt[a] {
			continue
		}
		if how, ok := p.refused["how "+a]; ok && how.Unix() == 1 {
			choice = InPart
			continue
		}
		return Happened
	}
	return choice
}

// agains counts how often something was let be begun once more: by a person, or as it may be repeated.
func (p *mission) agains(what string) (n int) {
	about := map[string]string{}
	for _, e := range p.log {
		switch b := e.Body.(type) {
		case Intent:
			about[b.Attempt] = p.key1(b, e.Place)
		case QuestionRaised:
			about[b.Question] = about[b.Attempt]
		case QuestionAnswered:
			if b.Choice == DoItAgain && about[b.Question] == what {
				n++
			}
		case Repeated:
			if p.key1(Intent{Target: b.Target, Purpose: Purpose{For: ForChange}}, e.Place) == what {
				n++
			}
		}
	}
	return n
}

func newMission(w *earth, id string, b *runbook.Book, src string) *mission {
	p := &mission{
		earth: w, id: id, book: b, gave: map[string]int{}, source: src,
		attempt: map[string]bool{}, refused: map[string]time.Time{}, about: map[string]string{}, jobs: map[string]int{},
		anew: map[string]int{},
	}
	begun := Begun{
		Rules: Rules, Run: id, Runbook: b.Name, Revision: b.Revision, StartedBy: "trigger:x",
		Inputs: map[string]any{}, Alert: map[string]any{"summary": "s", "severity": "major", "state": "open"},
		Service: map[string]any{"name": "gates", "owner": "quayside"},
	}
	for _, name := range []string{"alias", "g1", "g2", "g3"} {
		t := Target{Name: name, Address: addresses[name], Labels: map[string]string{"role": "gate"}}
		if name == "alias" {
			t.Labels = map[string]string{"role": "other"}
		}
		begun.Estate = append(begun.Estate, t)
	}
	m := &Machine{book: b, s: newState(b)}
	m.s.journal.on = true
	p.m = m
	p.fact(Event{Body: begun})
	return p
}

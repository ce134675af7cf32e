package flow

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/cockroachdb/datadriven"
	"github.com/stretchr/testify/require"

	"urgentis/core/expr"
	"urgentis/core/leave"
	"urgentis/core/runbook"
	"urgentis/core/task"
)

// tale is a run in a small world, told by a transcript: each command lets something happen, and what the run does about
// it is written down below. Hosts hold a number: `add N` adds to it. What a look reads is set by `reads`, or
// `reads HOST` for one of them.
type tale struct {
	t       *testing.T
	m       *Machine
	now     time.Time
	stance  leave.Stance
	halted  bool
	reads   int64
	readsOn map[string]int64 // on hosts that differ
	key     string
	locked  map[string]string // by host: who holds it
	number  map[string]int
	told    int // events that were told
	out     strings.Builder
	targets []string
	yes     string
	frozen  []Intent
	log     []Event
	saved   []Event // a copy of the database
}

// TestTranscripts reads the stories in testdata. A new one, or one that is to change, is written anew with -rewrite.
func TestTranscripts(t *testing.T) {
	datadriven.Walk(t, "testdata/stories", func(t *testing.T, path string) {
		x := &tale{t: t}
		datadriven.RunTest(t, path, func(t *testing.T, d *datadriven.TestData) string {
			x.t = t
			x.out.Reset()
			x.command(d)
			return x.out.String()
		})
	})
}

func (x *tale) say(format string, args ...any) { fmt.Fprintf(&x.out, format+"\n", args...) }

// arg gives the value of an argument NAME=VALUE; "" where it is not there.
func arg(d *datadriven.TestData, name string) string {
	for _, a := range d.CmdArgs {
		if a.Key == name {
			return strings.Join(a.Vals, " ")
		}
	}
	return ""
}

func has(d *datadriven.TestData, name string) bool {
	return slices.ContainsFunc(d.CmdArgs, func(a datadriven.CmdArg) bool { return a.Key == name })
}

func (x *tale) command(d *datadriven.TestData) {
	switch d.Cmd {
	case "book":
		x.book(d)
	case "go":
		x.yes = arg(d, "yes")
		x.play(arg(d, "until"))
	case "host":
		x.lands(d.CmdArgs[0].Key, arg(d, "ends"))
	case "by-hand":
		n, _ := strconv.Atoi(d.CmdArgs[1].Key)
		x.number[d.CmdArgs[0].Key] += n
	case "reads":
		n, _ := strconv.Atoi(d.CmdArgs[len(d.CmdArgs)-1].Key)
		if len(d.CmdArgs) == 2 {
			x.readsOn[d.CmdArgs[0].Key] = int64(n)
			break
		}
		x.reads = int64(n)
	case "stance":
		x.stance = leave.Stance(d.CmdArgs[0].Key)
	case "key":
		x.key = d.CmdArgs[0].Key
	case "halt":
		x.halted = true
	case "resume":
		x.pass(arg(d, "after"))
		x.halted = false
		x.add(Place{}, Resumed{By: "mara"})
	case "pass":
		x.pass(d.CmdArgs[0].Key)
	case "alert":
		x.add(Place{}, AlertChanged{State: "cleared", Cleared: true})
	case "cancel":
		x.add(Place{}, CancelAsked{By: "mara", Undo: has(d, "undo")})
	case "dies":
		x.loses("", "the service stopped while it was under way")
	case "freeze":
		x.frozen = x.m.s.OpenAttempts()
		x.loses("n1", "instance n1 stopped answering while it was under way")
	case "wake":
		for _, in := range x.frozen {
			x.ends(in, arg(d, "ends"))
		}
		x.frozen = nil
	case "backup":
		x.saved = slices.Clone(x.log)
	case "put-back":
		var err error
		x.m, err = Open(x.m.book, x.saved)
		require.NoError(x.t, err)
		x.m.s.journal.on = true
		x.log, x.halted = slices.Clone(x.saved), true
		x.add(Place{}, PutBack{At: x.now})
	case "answer":
		x.answer(d.CmdArgs[0].Key)
	case "rests":
		for _, in := range x.unknown() {
			x.add(x.m.s.PlaceOf(in), Rested{Attempt: in})
		}
	case "lock":
		x.locked[d.CmdArgs[0].Key] = "r9"
	case "unlock":
		delete(x.locked, d.CmdArgs[0].Key)
	case "refuse":
		g, place := x.gate()
		x.add(place, GateDecided{Gate: g.Gate, By: "mara", Digest: g.Digest})
	case "approve":
		g, place := x.gate()
		d2 := GateDecided{Gate: g.Gate, Approved: true, By: "mara", Digest: g.Digest}
		if at := arg(d, "at"); at != "" {
			after, err := time.ParseDuration(at)
			require.NoError(x.t, err)
			start := x.now.Add(after)
			d2.StartAt = &start
		}
		x.add(place, d2)
	default:
		d.Fatalf(x.t, "unknown command %s", d.Cmd)
	}
	x.tell()
}

func (x *tale) book(d *datadriven.TestData) {
	b, found := runbook.Parse([]byte(header + d.Input + "\n"))
	require.False(x.t, found.Failed(), found.Format("book", []byte(header+d.Input)))
	x.m, x.now = &Machine{book: b, s: newState(b)}, time.Date(2031, 3, 1, 2, 0, 0, 0, time.UTC)
	x.m.s.journal.on = true
	x.readsOn = map[string]int64{}
	x.stance, x.key, x.reads, x.told, x.halted = leave.Stance(d.CmdArgs[0].Key), "k", 0, 0, false
	x.locked, x.number, x.targets, x.frozen = map[string]string{}, map[string]int{}, nil, nil
	x.log, x.saved = nil, nil
	begun := Begun{Rules: Rules, Run: "r1", Runbook: b.Name, Revision: b.Revision, StartedBy: "trigger:x",
		Inputs: map[string]any{}, Service: map[string]any{"name": "gates"}}
	for i, a := range d.CmdArgs[1:] {
		if a.Key == "rules" { // it was begun under older ones
			n, err := strconv.Atoi(a.Vals[0])
			require.NoError(x.t, err)
			begun.Rules = n
			continue
		}
		x.targets = append(x.targets, a.Key)
		begun.Estate = append(begun.Estate, Target{Name: a.Key, Address: fmt.Sprint("10.0.0.", i+1),
			Labels: map[string]string{"role": "gate"}})
	}
	x.append(Event{At: x.now, Body: begun})
	x.numbers()
}

func (x *tale) numbers() {
	var out []string
	for _, t := range x.targets {
		out = append(out, fmt.Sprintf("%s=%d", t, x.number[t]))
	}
	x.say("%s", strings.Join(out, " "))
}

func (x *tale) append(e Event) error {
	e, err := x.m.Append(e)
	if err != nil {
		x.m.Discard()
		x.say("refused: %s", err)
		return err
	}
	x.log = append(x.log, e)
	x.happened(e.Place, e.Body)
	return nil
}

func (x *tale) add(place Place, b Body) {
	if x.append(Event{At: x.now, Place: place, Body: b}) == nil {
		x.m.Stored()
	}
}

func (x *tale) pass(d string) {
	if d != "" {
		after, err := time.ParseDuration(d)
		require.NoError(x.t, err)
		x.now = x.now.Add(after)
	}
}

// play lets the run go on while hosts, locks and people oblige, until it waits for more than five minutes, or something
// is begun.
func (x *tale) play(until string) {
	most := x.now.Add(5 * time.Minute)
	for range 300 {
		plan, err := x.m.Plan(x.now)
		require.NoError(x.t, err)
		x.log = append(x.log, plan.Events...)
		for _, e := range plan.Events {
			x.happened(e.Place, e.Body)
		}
		if plan.Ended {
			x.numbers()
			return
		}
		if len(plan.AskLeave)+len(plan.WantLocks) > 0 && x.grant(plan) {
			continue
		}
		x.m.Stored()
		open := x.m.s.OpenAttempts()
		switch {
		case until != "" && slices.ContainsFunc(open, func(in Intent) bool { return x.named(in) == until }):
			return
		case len(open) > 0:
			x.ends(open[0], "0")
		case x.yes != "" && x.oblige():
		case plan.Wake.After(x.now) && plan.Wake.Before(most):
			x.now = plan.Wake
		case len(plan.Events) == 0:
			return
		}
	}
	require.Fail(x.t, "it does not wait, and does not end")
}

func (x *tale) named(in Intent) string {
	if in.Undoes() {
		return in.Target + " undo"
	}
	if !in.Touches() {
		return in.Target + " look"
	}
	return in.Target
}

func (x *tale) grant(plan Plan) bool {
	for _, ask := range plan.AskLeave {
		a := leave.Decide(leave.Question{Stance: x.stance, HasGate: ask.HasGate, Halted: x.halted, Undo: ask.Undo})
		g := LeaveGiven{Verdict: a.Verdict, Reasons: a.Reasons, Halted: a.Halted}
		for _, t := range ask.Targets {
			g.Facts = append(g.Facts, task.Facts{Name: t, HostKey: x.key,
				Address: fmt.Sprint("10.0.0.", slices.Index(x.targets, t)+1)})
		}
		require.NoError(x.t, x.append(ask.Given(g, x.now)))
	}
	for _, want := range plan.WantLocks {
		held := slices.IndexFunc(want.Keys, func(k string) bool { return x.locked[x.m.s.HostOf(k)] != "" })
		if held >= 0 {
			is := LocksAwaited{Key: want.Keys[held], Holder: "r9", Of: want.Of}
			if x.m.s.Waits(want.Place, want.Of) == is {
				return false
			}
			x.append(Event{At: x.now, Place: want.Place, Body: is}) //nolint:errcheck // it is told
			continue
		}
		require.NoError(x.t, x.append(want.Taken(x.now)))
	}
	return true
}

func (x *tale) gate() (GateRaised, Place) {
	for place, st := range x.m.s.steps {
		for _, g := range st.allGates() {
			if g.open() {
				return g.raised, place
			}
		}
	}
	require.Fail(x.t, "there is no gate")
	return GateRaised{}, Place{}
}

func (x *tale) oblige() bool {
	for place, st := range x.m.s.steps {
		for _, g := range st.allGates() {
			if g.open() && x.now.Before(g.raised.Until) {
				x.add(place, GateDecided{Gate: g.raised.Gate, Approved: true, By: x.yes, Digest: g.raised.Digest})
				return true
			}
		}
	}
	return false
}

// lands tells how what is under way on a host ends.
func (x *tale) lands(host, how string) {
	for _, in := range x.m.s.OpenAttempts() {
		if in.Target == host {
			x.ends(in, how)
			return
		}
	}
	require.Fail(x.t, "nothing is under way there")
}

// ends lets an attempt end: with an exit, seen or not (unseen; lost, of which nothing was done), or refused. A job
// elsewhere runs on, and nobody follows it at the moment.
func (x *tale) ends(in Intent, how string) {
	o := Outcome{Attempt: in.Attempt, State: OK}
	n := 0
	if in.Touches() {
		_, n = work(in.Request)
	}
	switch {
	case !in.Touches():
		look, _ := Find(x.m.book, in.Look)
		o.Readings = map[string]expr.Sample{}
		for _, r := range look.Read {
			value, own := x.readsOn[in.Target]
			if !own {
				value = x.reads
			}
			if r.Name == "own" { // what the host holds
				value = int64(x.number[in.Target])
			}
			o.Readings[r.Name] = expr.Sample{Value: value, Target: in.Target, At: x.now}
		}
	case how == "refused" || how == "lost":
		n = 0
		if o.State, o.Error = Failed, "connection refused"; how == "lost" {
			o.State, o.Error = Unknown, "the connection was lost"
		}
	case how == "unseen":
		o.State, o.Error = Unknown, "the connection was lost"
	case how == "runs":
		n, o.State = 0, StillRuns
		x.add(x.m.s.PlaceOf(in.Attempt), Followed{Attempt: in.Attempt, Job: "j1"})
	case how == "held":
		n, o.State, o.Error = 0, Held, "this instance lost its lease"
	case how != "0":
		exit, err := strconv.Atoi(how)
		require.NoError(x.t, err)
		o.State, o.Exit = Failed, &exit
		n /= 2
	}
	x.number[in.Target] += n
	x.add(x.m.s.PlaceOf(in.Attempt), o)
}

func (x *tale) loses(by, why string) {
	for _, in := range x.m.s.OpenAttempts() {
		x.add(x.m.s.PlaceOf(in.Attempt), Lost{Attempt: in.Attempt, By: by, Because: why})
	}
}

func (x *tale) unknown() (out []string) {
	for _, t := range x.m.s.Touches() {
		for _, e := range []*Effect{&t.Change, &t.Undo} {
			if e.Fate == NotKnown {
				out = append(out, e.Newest())
			}
		}
	}
	return out
}

func (x *tale) answer(choice string) {
	for place, st := range x.m.s.steps {
		for _, q := range st.questions {
			if q.open() {
				x.add(place, QuestionAnswered{Question: q.raised.Question, Choice: choice, By: "ola"})
				return
			}
		}
	}
	require.Fail(x.t, "there is no question")
}

func where(place Place, target string) string {
	if target == "" {
		return place.String()
	}
	return place.String() + " " + target
}

func keys(list []TouchKey) string {
	var out []string
	for _, k := range list {
		out = append(out, where(k.Place, k.Target))
	}
	if out == nil {
		return "nothing"
	}
	return strings.Join(out, ", ")
}

// happened writes down what an event says to whoever reads the story.
func (x *tale) happened(place Place, b Body) {
	switch b := b.(type) {
	case Intent:
		switch {
		case b.Undoes():
			x.say("%s: undo under way", where(place, b.Target))
		case b.Touches():
			x.say("%s: under way", where(place, b.Target))
		case b.Asked != nil && b.Purpose.For != ForLook:
			x.say("%s: looks (%s)", place, b.Purpose.For)
		}
	case Outcome:
		if in, _, _, _ := x.m.s.Attempt(b.Attempt); in.Touches() {
			x.fate(place, in)
		}
	case Lost:
		if in, _, _, _ := x.m.s.Attempt(b.Attempt); in.Touches() {
			x.fate(place, in)
		}
	case Rested:
		in, _, _, _ := x.m.s.Attempt(b.Attempt)
		x.say("%s: rests", where(place, in.Target))
	case Settled:
		in, _, _, _ := x.m.s.Attempt(b.Attempt)
		x.say("%s: did it happen? %s", where(place, in.Target), b.Result)
		x.fate(place, in)
	case Repeated:
		x.say("%s: once more", where(place, b.Target))
	case Judged:
		if b.Final {
			x.say("%s: %s", place, b.Result)
		}
	case UndoJudged:
		x.say("%s %s: undone as it must be: %s", place, b.Target, b.Result)
	case TargetPassed:
		x.say("%s: needs it no more", where(place, b.Target))
	case ItemPassed:
		x.say("%s: passed over, %s", place, b.Because)
	case StillJudged:
		x.say("%s: still %s", where(place, b.Target), b.Result)
	case Waits:
		x.say("%s: waits, %s", where(place, b.Target), b.On)
	case LocksAwaited:
		x.say("%s: waits for %s, which run %s holds", place, x.m.s.HostOf(b.Key), b.Holder)
	case LocksGivenBack:
		x.say("locks given back: %s", strings.Join(b.Keys, ", "))
	case GateRaised:
		var on []string
		for _, r := range b.Proposal.Requests {
			on = append(on, r.Target.Name)
		}
		what := "gate"
		if b.Undo {
			what = "gate of the undo"
		}
		x.say("%s: %s %d on %s until %s (%s)", place, what, b.Round, strings.Join(on, ", "), b.Until.Format("15:04"),
			strings.Join(b.Reasons, "; "))
	case GateDecided:
		x.say("%s: %s", place, map[bool]string{true: "approved by ", false: "refused by "}[b.Approved]+b.By)
	case GateExpired:
		x.say("%s: nobody answered", place)
	case Cleared:
		x.say("%s: cleared (%s)", place, strings.Join(b.Reasons, "; "))
	case QuestionRaised:
		if in, _, _, ok := x.m.s.Attempt(b.Attempt); ok {
			_, why, _ := strings.Cut(b.Text, "unknown (")
			why, _, _ = strings.Cut(why, ").")
			x.say("%s: asked what became of the %s (%s)", where(place, in.Target), in.Purpose.For, why)
		}
	case QuestionAnswered:
		x.say("%s: %s says %s", place, b.By, b.Choice)
	case QuestionExpired:
		x.say("%s: nobody could say", place)
	case Undoing:
		x.say("%s: undoing %s", place, keys(b.Touches))
		for _, l := range b.Left {
			x.say("%s: left, %s", where(l.Place, l.Target), l.Why)
		}
	case UndoLeft:
		x.say("%s: left, %s", where(b.Place, b.Target), b.Why)
	case Undone:
		x.say("%s: undoing is over", place)
	case Turned:
		x.say("turned %s", b.To)
	case Skipped:
		x.say("%s: skipped", place)
	case Troubled:
		x.say("%s: trouble: %s", place, b.Because)
	case Ended:
		x.say("ended %s: %s", strings.TrimSpace(b.State+" "+b.Outcome), b.Because)
	}
}

func (x *tale) fate(place Place, in Intent) {
	e, what := x.m.s.EffectOf(in.Attempt), ""
	if in.Undoes() {
		what = "undo "
	}
	why := ""
	if e.Fate == NotKnown && e.Cause.By != "" && e.Cause.Who == ByEngine {
		why = ", " + e.Cause.By + " may still begin it"
	}
	if e.Cause.Who == ByLate {
		why = ", told late"
	}
	x.say("%s: %s%s%s", where(place, in.Target), what, e.Fate, why)
}

func (x *tale) tell() {
	if x.out.Len() == 0 {
		x.say("ok")
	}
}

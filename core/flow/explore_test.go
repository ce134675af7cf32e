package flow

import (
	"fmt"
	"maps"
	"os"
	"slices"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"urgentis/core/leave"
	"urgentis/core/runbook"
	"urgentis/core/task"
)

// explored is one point of a run that is explored: its log, and what its world holds.
type explored struct {
	log      []Event
	now      time.Time
	number   map[string]int
	ran      map[string]int // by place, target and purpose
	did      map[string]bool
	frozen   []string // attempts in the hands of an instance that does not answer
	halted   bool
	faults   int // that may still come: a kill, a freeze, a halt, a cancel
	bad      int // ends that may still be bad
	again    int
	saidMore map[string]int
	gave     map[string]int // what a change gave, by place and target
}

func (x *explored) copy() *explored {
	y := *x
	y.log, y.frozen = slices.Clone(x.log), slices.Clone(x.frozen)
	y.number, y.ran, y.did = maps.Clone(x.number), maps.Clone(x.ran), maps.Clone(x.did)
	y.saidMore, y.gave = maps.Clone(x.saidMore), maps.Clone(x.gave)
	return &y
}

const exploredBook = `steps:
- {change: One, id: one, where: {role: gate}, run: [add, "2"], undo: {run: [add, "-2"]}}
- {change: Two, id: two, where: {role: gate}, run: [add, "16"], undo: {run: [add, "-16"]}}
- {check: Better?, that: 1 == 2, fails: undo}
`

// TestEveryWayOfTwoChanges explores whatever can happen to two changes on two targets and their undos: each end at each
// point, a kill, a freeze, a halt and a cancel anywhere, every answer. At each end the number on each host is what the
// last sentence says. URGENTIS_EXPLORE=F,B says how many faults and bad ends there are; without, one of either.
func TestEveryWayOfTwoChanges(t *testing.T) {
	list := [][2]int{{1, 0}, {0, 1}}
	if s := os.Getenv("URGENTIS_EXPLORE"); s != "" {
		list = list[:1]
		_, err := fmt.Sscanf(s, "%d,%d", &list[0][0], &list[0][1])
		require.NoError(t, err)
	}
	for _, x := range list {
		explore(t, x[0], x[1])
	}
}

func explore(t *testing.T, faults, bad int) {
	b, found := runbook.Parse([]byte(header + exploredBook))
	require.False(t, found.Failed(), found)
	begun := Begun{Rules: Rules, Run: "r1", Runbook: b.Name, StartedBy: "trigger:x", Inputs: map[string]any{},
		Service: map[string]any{"name": "gates"}, Estate: []Target{
			{Name: "g1", Address: "10.0.0.1", Labels: map[string]string{"role": "gate"}},
			{Name: "g2", Address: "10.0.0.2", Labels: map[string]string{"role": "gate"}},
		}}
	first := &explored{now: time.Date(2031, 3, 1, 2, 0, 0, 0, time.UTC), number: map[string]int{},
		ran: map[string]int{}, did: map[string]bool{}, faults: faults, bad: bad, again: 1, saidMore: map[string]int{},
		gave: map[string]int{}}
	first.log = []Event{{Seq: 1, At: first.now, Body: begun}}
	seen, list, moves, ends := map[string]bool{}, []*explored{first}, 0, 0
	for len(list) > 0 {
		x := list[len(list)-1]
		list = list[:len(list)-1]
		m, over := x.settle(t, b)
		key := x.key(m)
		if seen[key] {
			continue
		}
		seen[key] = true
		if over {
			ends++
			x.judge(t, m)
			continue
		}
		next := x.moves(m)
		require.NotEmpty(t, next, "it stands still: %s", x.told())
		moves += len(next)
		list = append(list, next...)
	}
	t.Logf("%d states, %d moves, %d ends with %d faults and %d bad ends", len(seen), moves, ends, faults, bad)
}

// settle plans until something is to happen in the world.
func (x *explored) settle(t *testing.T, b *runbook.Book) (m *Machine, over bool) {
	m, err := openUnstored(b, x.log)
	require.NoError(t, err, x.told())
	m.Stored()
	add := func(e Event) {
		e, err := m.Append(e)
		require.NoError(t, err, x.told())
		x.log = append(x.log, e)
	}
	for range 100 {
		plan, err := m.Plan(x.now)
		require.NoError(t, err, x.told())
		x.log = append(x.log, plan.Events...)
		if plan.Ended {
			return m, true
		}
		if len(plan.AskLeave)+len(plan.WantLocks) == 0 {
			m.Stored()
			for _, id := range plan.AskRest {
				if !slices.Contains(x.frozen, id) {
					add(Event{At: x.now, Place: m.s.PlaceOf(id), Body: Rested{Attempt: id}})
					m.Stored()
				}
			}
			// Time passes where nothing else can happen: a halt is asked about again, what was held is tried again.
			quiet := len(m.s.OpenAttempts()) == 0 && x.question(m) == "" && len(x.frozen) == 0 && !x.halted
			if quiet && plan.Wake.After(x.now) {
				x.now = plan.Wake
				continue
			}
			return m, false
		}
		for _, ask := range plan.AskLeave {
			a := leave.Decide(leave.Question{Stance: leave.Act, Halted: x.halted, Undo: ask.Undo})
			g := LeaveGiven{Verdict: a.Verdict, Halted: a.Halted, Reasons: a.Reasons}
			for _, n := range ask.Targets {
				g.Facts = append(g.Facts, task.Facts{Name: n, Address: "10.0.0." + n[1:]})
			}
			add(ask.Given(g, x.now))
		}
		for _, want := range plan.WantLocks {
			add(want.Taken(x.now))
		}
	}
	require.Fail(t, "it goes on and on", x.told())
	return nil, false
}

func (x *explored) question(m *Machine) string {
	for _, at := range m.s.Touches() {
		for _, e := range []*Effect{&at.Change, &at.Undo} {
			if q, _ := m.s.OpenQuestion(questionOf(e.Newest())); q != nil {
				return e.Newest()
			}
		}
	}
	return ""
}

// key tells states apart by all that decides what follows: what is known of each touch, where the run is, the world.
func (x *explored) key(m *Machine) string {
	out := fmt.Sprint(x.number, x.ran, x.did, x.frozen, x.halted, x.faults, x.bad, x.again, m.s.cancel,
		m.s.ending != nil, m.s.Ended, m.s.stayed(), m.s.undoings)
	for _, at := range m.s.Touches() {
		for _, e := range []*Effect{&at.Change, &at.Undo} {
			out += fmt.Sprint("|", at.TouchKey, e.Fate, e.Cause.Who, e.Rests, e.Perhaps, e.Twice, e.pause != nil,
				len(e.Attempts), at.Left)
		}
	}
	for _, place := range slices.SortedFunc(maps.Keys(m.s.steps), byText) {
		st := m.s.steps[place]
		out += fmt.Sprint("|", place, st.begun != nil, st.changed, st.done, st.trouble, st.undone, st.pause != nil,
			len(st.questions))
	}
	for _, in := range m.s.OpenAttempts() {
		out += "|" + in.Attempt
	}
	return out + "|" + x.question(m)
}

// moves are whatever can happen next.
func (x *explored) moves(m *Machine) (out []*explored) {
	add := func(change func(y *explored), events ...Event) {
		y := x.copy()
		if change != nil {
			change(y)
		}
		for _, e := range events {
			e.Seq, e.At = int64(len(y.log)+1), y.now
			y.log = append(y.log, e)
		}
		out = append(out, y)
	}
	three := 3
	open := m.s.OpenAttempts()
	for _, in := range open {
		place := m.s.PlaceOf(in.Attempt)
		end := func(state string, exit *int, halted bool) Event {
			return Event{Place: place, Body: Outcome{Attempt: in.Attempt, State: state, Exit: exit, Halted: halted}}
		}
		if x.halted {
			add(nil, end(Held, nil, true))
			continue
		}
		add(func(y *explored) { y.act(in, place, 2) }, end(OK, nil, false))
		if x.bad > 0 {
			worse := func(how int) func(y *explored) {
				return func(y *explored) { y.bad--; y.act(in, place, how) }
			}
			add(worse(0), end(Failed, nil, false))
			add(worse(1), end(Failed, &three, false))
			add(worse(2), end(Unknown, nil, false))
			add(worse(0), end(Unknown, nil, false))
		}
		if x.faults > 0 {
			lost := Event{Place: place, Body: Lost{Attempt: in.Attempt, Because: "the service stopped"}}
			add(func(y *explored) { y.faults-- }, lost)
			add(func(y *explored) { y.faults--; y.act(in, place, 2) }, lost)
			add(func(y *explored) { y.faults--; y.frozen = append(y.frozen, in.Attempt) },
				Event{Place: place, Body: Lost{Attempt: in.Attempt, By: "n1", Because: "frozen"}})
		}
	}
	for _, id := range x.frozen {
		in, place, _, _ := m.s.Attempt(id)
		woken := func(how int) func(y *explored) {
			return func(y *explored) {
				y.frozen = slices.DeleteFunc(y.frozen, func(s string) bool { return s == id })
				y.act(in, place, how)
			}
		}
		add(woken(0), Event{Place: place, Body: Outcome{Attempt: id, State: Held}})
		add(woken(2), Event{Place: place, Body: Outcome{Attempt: id, State: OK}})
	}
	if x.faults > 0 {
		add(func(y *explored) { y.faults--; y.halted = true })
		add(func(y *explored) { y.faults-- }, Event{Body: CancelAsked{By: "mara"}})
		add(func(y *explored) { y.faults-- }, Event{Body: CancelAsked{By: "mara", Undo: true}})
	}
	if x.halted {
		add(func(y *explored) { y.halted = false }, Event{Body: Resumed{By: "mara"}})
	}
	if id := x.question(m); id != "" {
		x.answers(m, id, add)
	}
	return out
}

// answers are what people who look at the host may say, and that nobody does.
func (x *explored) answers(m *Machine, id string, add func(func(*explored), ...Event)) {
	_, place, _, _ := m.s.Attempt(id)
	answer := func(choice string) Event {
		return Event{Place: place, Body: QuestionAnswered{Question: questionOf(id), Choice: choice, By: "ola"}}
	}
	q, _ := m.s.OpenQuestion(questionOf(id))
	add(func(y *explored) { y.now = q.Until })
	rests := Event{Place: place, Body: Rested{Attempt: id}}
	switch {
	case slices.Contains(x.frozen, id):
	case x.did[id]:
		add(nil, answer(Happened))
	default:
		add(nil, rests, answer(DidNot))
		if x.again > 0 && slices.Contains(q.Choices, DoItAgain) {
			in, _, _, _ := m.s.Attempt(id)
			add(func(y *explored) { y.again--; y.saidMore[ranKey(in, place)]++ }, rests, answer(DoItAgain))
		}
	}
}

func ranKey(in Intent, place Place) string {
	return place.String() + " " + in.Target + " " + in.Purpose.For
}

// act carries out all, half or nothing of a request.
func (x *explored) act(in Intent, place Place, how int) {
	if how == 0 {
		return
	}
	n, _ := strconv.Atoi(in.Request.Words[1])
	if place := place.String() + " " + in.Target; in.Undoes() {
		n = -x.gave[place] // an undo takes off what its change gave
	} else {
		x.gave[place] = n * how / 2
	}
	x.number[in.Target] += n * how / 2
	x.ran[ranKey(in, place)]++
	x.did[in.Attempt] = true
}

// judge holds the world against the last sentence.
func (x *explored) judge(t *testing.T, m *Machine) {
	adds := map[string]int{"One": 2, "Two": 16}
	for _, host := range []string{"g1", "g2"} {
		low, high := 0, 0
		for _, l := range m.s.Ended.Changes {
			for _, on := range l.Targets {
				if on != host {
					continue
				}
				a, b := interval(l.Says, adds[l.Title])
				low, high = low+a, high+b
			}
		}
		require.True(t, low <= x.number[host] && x.number[host] <= high, "on %s are %d, said is %d to %d: %s\n%s", host,
			x.number[host], low, high, m.s.Ended.Because, x.told())
	}
	for what, n := range x.ran {
		require.LessOrEqual(t, n, 1+x.saidMore[what], "%s was carried out %d times: %s", what, n, x.told())
	}
}

func (x *explored) told() string {
	out := ""
	for _, e := range x.log {
		out += fmt.Sprintf("%d %s %s %+v\n", e.Seq, e.Place, e.Body.Kind(), e.Body)
	}
	return out
}

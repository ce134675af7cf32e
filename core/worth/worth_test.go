package worth

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"urgentis/core/incident"
)

var begin = time.Date(2026, 11, 29, 13, 33, 0, 0, time.UTC)

// record gathers entries that come some seconds after the first.
type record struct {
	t *testing.T
	g *Gather
	n int64
}

func newRecord(t *testing.T, outcome string) *record {
	return &record{t: t, g: NewGather(Facts{Number: 1, Service: "berth-queue", Outcome: outcome, Opened: begin,
		Closed: begin.Add(time.Minute)})}
}

func (r *record) add(after int, kind incident.Kind, actor string, c incident.Content) *record {
	require.True(r.t, kind.Holds(c), "%s holds %T", kind, c)
	raw, err := incident.ContentOf(c)
	require.NoError(r.t, err)
	r.n++
	r.g.Add(&incident.Entry{Seq: r.n, At: begin.Add(time.Duration(after) * time.Second), Kind: kind, Actor: actor,
		Run: "r1", Content: raw})
	return r
}

func (r *record) alert(after int, kind incident.Kind, id string) *record {
	return r.add(after, kind, "source:harbour-watch", incident.AlertContent{ID: id, Source: "harbour-watch", Key: "k" + id,
		Labels: map[string]string{"signal": "depth"}})
}

func (r *record) run(after int) *record {
	return r.add(after, incident.RunBegun, "trigger:x", incident.BegunContent{Runbook: "park", Revision: "1",
		StartedBy: "trigger:x"})
}

func secondsAfter(t time.Time) int {
	if t.IsZero() {
		return -1
	}
	return int(t.Sub(begin).Seconds())
}

func TestTheFactsOfAnIncident(t *testing.T) {
	f := newRecord(t, incident.Repaired).
		alert(0, incident.AlertRaised, "a").run(1).
		add(2, incident.LookTaken, "runbook:park", incident.AttemptContent{State: "ok", Missing: map[string]string{"depth": "x"}}).
		add(3, incident.LookTaken, "runbook:park", incident.AttemptContent{State: "ok"}).
		add(4, incident.GateRaised, "runbook:park", incident.GateContent{Gate: "g"}).
		add(5, incident.CalledOut, "urgentis", incident.PeopleContent{}).
		add(34, incident.GateApproved, "mara", incident.DecidedContent{Gate: "g"}).
		add(35, incident.ChangeBegun, "runbook:park", incident.IntentContent{Attempt: "1", Shown: "x"}).
		add(40, incident.CheckPasses, "runbook:park", incident.JudgedContent{Proves: "park"}).
		add(41, incident.RunEnded, "runbook:park", incident.EndedContent{Outcome: incident.Repaired}).
		alert(45, incident.AlertCleared, "a").
		add(50, incident.Closed, "urgentis", incident.ClosedContent{Outcome: incident.Repaired}).
		add(60, incident.Note, "iva", incident.NoteContent{Text: "read next morning"}).g.Facts()
	assert.Equal(t, []int{3, 4, 34, 35, 40}, []int{secondsAfter(f.Evidence), secondsAfter(f.Asked),
		secondsAfter(f.Decided), secondsAfter(f.Changed), secondsAfter(f.Recovered)})
	assert.Equal(t, []string{"mara"}, f.People, "who reads it later had no part in it")
	assert.Equal(t, 1, f.Called)
	assert.Equal(t, 30*time.Second, f.Waited)
	assert.True(t, f.Proved)
	assert.Equal(t, Signal{"harbour-watch", "depth"}, Signal{f.Source, f.Signal})
	assert.Equal(t, []Run{{ID: "r1", Runbook: "park", Revision: "1", Outcome: incident.Repaired}}, f.Runs)
}

// What was not seen is no fact: a change after the proof, a second alert that is open, a decision that nobody gave.
func TestWhatIsNotKnownIsNoFact(t *testing.T) {
	proof := func(r *record, at int) *record {
		return r.add(at, incident.ChangeBegun, "runbook:park", incident.IntentContent{Attempt: "1", Shown: "x"}).
			add(at+1, incident.CheckPasses, "runbook:park", incident.JudgedContent{Proves: "park"})
	}
	for name, c := range map[string]struct {
		recovered int
		make      func(r *record) *record
		outcome   string
	}{
		"a change after the proof": {-1, func(r *record) *record {
			return proof(r.alert(0, incident.AlertRaised, "a"), 10).
				add(20, incident.ChangeBegun, "runbook:park", incident.IntentContent{Attempt: "2", Shown: "y"})
		}, incident.Repaired},
		"the same, and the alert is over": {30, func(r *record) *record {
			return proof(r.alert(0, incident.AlertRaised, "a"), 10).
				add(20, incident.ChangeBegun, "runbook:park", incident.IntentContent{Attempt: "2", Shown: "y"}).
				alert(30, incident.AlertCleared, "a")
		}, incident.Repaired},
		"a second alert that is over later": {40, func(r *record) *record {
			return proof(r.alert(0, incident.AlertRaised, "a").alert(1, incident.AlertJoined, "b"), 10).
				alert(20, incident.AlertCleared, "a").alert(40, incident.AlertCleared, "b")
		}, incident.Repaired},
		"one change is proved, and another alert is open": {-1, func(r *record) *record {
			return proof(r.alert(0, incident.AlertRaised, "a").alert(1, incident.AlertJoined, "b"), 10).
				alert(20, incident.AlertCleared, "a")
		}, incident.Repaired},
		"one of two alerts is over": {-1, func(r *record) *record {
			return r.alert(0, incident.AlertRaised, "a").alert(1, incident.AlertJoined, "b").
				alert(20, incident.AlertCleared, "a")
		}, incident.RepairedByHand},
		"an alert that comes again": {50, func(r *record) *record {
			return r.alert(0, incident.AlertRaised, "a").alert(20, incident.AlertCleared, "a").
				alert(30, incident.AlertRaised, "a").alert(50, incident.AlertCleared, "a")
		}, incident.ClearedItself},
		"not repaired": {-1, func(r *record) *record {
			return r.alert(0, incident.AlertRaised, "a").alert(20, incident.AlertCleared, "a")
		}, incident.NotRepaired},
		"a false alarm": {-1, func(r *record) *record {
			return r.alert(0, incident.AlertRaised, "a").alert(20, incident.AlertCleared, "a")
		}, incident.FalseAlarm},
	} {
		f := c.make(newRecord(t, c.outcome)).g.Facts()
		assert.Equal(t, c.recovered, secondsAfter(f.Recovered), name)
		assert.True(t, f.Evidence.IsZero() && f.Decided.IsZero(), name)
	}

	f := newRecord(t, incident.Repaired).
		add(1, incident.QuestionRaised, "runbook:park", incident.QuestionContent{Question: "q"}).
		add(2, incident.QuestionAnswered, "urgentis", incident.AnswerContent{Question: "q", Choice: "a"}).
		add(3, incident.GateRaised, "runbook:park", incident.GateContent{Gate: "g"}).
		add(4, incident.GateExpired, "urgentis", incident.DecidedContent{Gate: "g"}).g.Facts()
	assert.True(t, f.Decided.IsZero(), "what answered itself, and what nobody answered, is no decision")
	assert.Empty(t, f.People)

	f = newRecord(t, incident.RepairedByHand).alert(0, incident.AlertRaised, "a").
		add(1, incident.NothingStarted, "urgentis", incident.RunContent{}).
		add(2, incident.NothingStarted, "urgentis", incident.RunContent{}).g.Facts()
	assert.Equal(t, []Signal{{"harbour-watch", "depth"}}, f.NoRunbook)
}

// Each figure of a report counts exactly the incidents that are listed for it, whatever the facts are.
func TestEachFigureLeadsToItsIncidents(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		until := begin.Add(24 * time.Hour)
		outcome := rapid.SampledFrom(append([]string{""}, incident.Outcomes...))
		list := rapid.SliceOfN(rapid.Custom(func(t *rapid.T) Facts {
			f := Facts{Service: rapid.SampledFrom([]string{"", "a", "b"}).Draw(t, "service"), Outcome: outcome.Draw(t, "outcome"),
				Opened: until.Add(-time.Duration(rapid.IntRange(1, 200*24).Draw(t, "opened")) * time.Hour),
				Source: rapid.SampledFrom([]string{"", "watch", "pilot"}).Draw(t, "source"), CameBack: rapid.Bool().Draw(t, "back")}
			f.Closed = f.Opened.Add(time.Duration(rapid.IntRange(1, 60).Draw(t, "long")) * time.Minute)
			if rapid.Bool().Draw(t, "evidence") {
				f.Evidence = f.Opened.Add(time.Minute)
			}
			if rapid.Bool().Draw(t, "recovered") {
				f.Recovered = f.Opened.Add(2 * time.Minute)
			}
			if rapid.Bool().Draw(t, "people") {
				f.People = []string{"mara"}
			}
			for range rapid.IntRange(0, 2).Draw(t, "runs") {
				f.Runs = append(f.Runs, Run{Runbook: rapid.SampledFrom([]string{"park", "step"}).Draw(t, "book"),
					Outcome: outcome.Draw(t, "ended"), Saves: time.Hour})
			}
			if rapid.Bool().Draw(t, "nothing") {
				f.NoRunbook = []Signal{{Source: "watch", Signal: rapid.SampledFrom([]string{"", "x"}).Draw(t, "signal")}}
			}
			return f
		}), 0, 60).Draw(t, "list")
		from := until.Add(-30 * 24 * time.Hour)
		r := Make(list, []Known{{Name: "park"}, {Name: "idle"}}, from, until)
		var in []Facts
		for _, f := range list {
			if !f.Closed.Before(from) && f.Closed.Before(until) {
				in = append(in, f)
			}
		}
		assert.Equal(t, len(in), r.Incidents)
		counts := append([]Count{r.Alone, r.CameBack, r.Saved}, append(r.Outcomes, r.NoRunbook...)...)
		for _, g := range append(append(r.Months, r.Services...), r.Sources...) {
			counts = append(counts, g.Count)
		}
		for _, c := range counts {
			found := Counted(in, c.Figure, c.Of)
			saved := time.Duration(0)
			for _, f := range found {
				saved += f.Saved()
			}
			assert.Equal(t, len(found), c.N, c.Figure)
			assert.Equal(t, saved, c.Saved, c.Figure)
			assert.Equal(t, len(in), c.All)
		}
		for _, s := range r.Spreads {
			assert.Len(t, Counted(in, s.Figure, ""), s.Of)
			assert.LessOrEqual(t, s.Median, s.P90)
		}
		for _, b := range r.Runbooks {
			assert.Len(t, Counted(in, OfRunbook, b.Name), b.Incidents)
			assert.Len(t, Counted(in, OfHelped, b.Name), b.Helped)
		}
	})
	assert.Nil(t, Counted([]Facts{{}}, "luck", ""))
	for _, name := range Figures {
		assert.NotNil(t, counts[name], name)
	}
}

func TestSpread(t *testing.T) {
	var all []time.Duration
	for n := range 10 {
		all = append(all, time.Duration(10-n)*time.Second)
	}
	assert.Equal(t, Spread{Median: 5500 * time.Millisecond, P90: 9 * time.Second, Of: 10}, spread(all))
	assert.Equal(t, "median 5.5 s, 9 of 10 within 9 s, of 10 incidents", spread(all).Says())
	assert.Equal(t, "not known of any incident", spread(nil).Says())
	assert.Equal(t, Spread{Median: time.Second, P90: time.Second, Of: 1}, spread([]time.Duration{time.Second}))
}

// What was written lately is not held to have been started.
func TestANewRunbookIsNotJudged(t *testing.T) {
	r := Make(nil, []Known{{"park", begin.Add(-40 * 24 * time.Hour)}, {"step", begin.Add(-time.Hour)}},
		begin.Add(-24*time.Hour), begin)
	assert.Equal(t, NotStarted, r.Runbooks[0].Verdict)
	assert.Equal(t, "worked on no incident in 40 days", r.Runbooks[0].Says)
	assert.Empty(t, r.Runbooks[1].Verdict)
}

// A runbook is judged by more than a case or two, and by what came back.
func TestHowARunbookDoes(t *testing.T) {
	until := begin
	ran := func(daysAgo, n int, outcome string, back bool) (out []Facts) {
		for range n {
			out = append(out, Facts{Closed: until.Add(-time.Duration(daysAgo) * 24 * time.Hour), Outcome: outcome,
				CameBack: back, Runs: []Run{{Runbook: "park", Outcome: outcome}}})
		}
		return out
	}
	for _, c := range []struct {
		verdict string
		list    [][]Facts
	}{
		{"", [][]Facts{ran(5, 1, Failed, false)}},
		{"", [][]Facts{ran(5, 3, Failed, false)}},
		{Fails, [][]Facts{ran(5, 4, Failed, false)}},
		{Fails, [][]Facts{ran(5, 5, incident.Repaired, true)}},
		{"", [][]Facts{ran(5, 5, incident.Repaired, false)}},
		{HelpsNoLonger, [][]Facts{ran(60, 30, incident.Repaired, false), ran(5, 4, HandedOver, false)}},
		{"", [][]Facts{ran(60, 30, incident.Repaired, false), ran(5, 1, HandedOver, false)}},
		{NotStarted, nil},
		{NotStarted, [][]Facts{ran(200, 5, incident.Repaired, false)}},
	} {
		var list []Facts
		for _, l := range c.list {
			list = append(list, l...)
		}
		r := Make(list, []Known{{Name: "park"}}, until.Add(-30*24*time.Hour), until)
		require.Len(t, r.Runbooks, 1)
		assert.Equal(t, c.verdict, r.Runbooks[0].Verdict, fmt.Sprint(len(list), r.Runbooks[0].Says))
	}
}

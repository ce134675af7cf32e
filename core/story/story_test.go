package story

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"urgentis/core/expr"
	"urgentis/core/incident"
	"urgentis/core/plain"
	"urgentis/core/task"
)

var begin = time.Date(2026, 11, 29, 13, 33, 54, 0, time.UTC)

// record writes entries as the service does.
type record struct {
	t    require.TestingT
	list []incident.Entry
}

// add writes an entry so many seconds after the first one.
func (r *record) add(after float64, kind incident.Kind, actor, step, title string, c incident.Content) {
	require.True(r.t, kind.Holds(c), "%s holds %T", kind, c)
	raw, err := incident.ContentOf(c)
	require.NoError(r.t, err)
	run := "r1"
	if step == "" && !strings.HasPrefix(string(kind), "run.") {
		run = ""
	}
	r.list = append(r.list, incident.Entry{Seq: int64(len(r.list)) + 1, Kind: kind, Actor: actor, Run: run, Step: step,
		At: begin.Add(time.Duration(after * float64(time.Second))), Title: title, Content: raw})
}

func (r *record) look(after float64, verb, step, title, purpose, target string, values map[string]any) {
	readings := map[string]expr.Sample{}
	for name, v := range values {
		readings[name] = expr.Sample{Value: v, Target: target}
	}
	zero := 0
	r.add(after, incident.LookTaken, "runbook:b", step, title, incident.AttemptContent{
		OfStep: incident.OfStep{Verb: verb, Title: title}, Attempt: fmt.Sprint(len(r.list)), Target: target,
		Shown: "berthq depth", Purpose: purpose, State: "ok", Exit: &zero, Readings: readings,
		Good: map[string]string{"depth": "low"}})
}

// print writes a story as the command line does.
func print(f *Folder, of ...Weight) string {
	var b strings.Builder
	for _, r := range f.Rows(0) {
		if len(of) > 0 && r.Weight != of[0] {
			continue
		}
		fmt.Fprintf(&b, "%s %s %s | %s\n", r.At.Format("05"), r.Word, r.State, r.Headline())
		for _, l := range r.Below {
			b.WriteString("   " + l.String() + "\n")
		}
	}
	return b.String()
}

// queue is a backlog: two consumers are looked at, one message is parked, the depth falls.
func queue(t require.TestingT) *record {
	r := &record{t: t}
	step := func(verb, title string) incident.OfStep { return incident.OfStep{Verb: verb, Title: title} }
	r.add(0, incident.AlertRaised, "source:harbour-watch", "", "311 wait", incident.AlertContent{ID: "a1",
		Severity: "major", Summary: "311 wait"})
	r.add(0, incident.RunBegun, "trigger:b/backlog", "", "Runbook started: Backlog", incident.BegunContent{Runbook: "b",
		Inputs: map[string]any{"queue": "north", "low": 200}, StartedBy: "trigger:b/backlog"})
	for _, target := range []string{"b-10", "b-2"} {
		r.look(0.1, "look", "1", "Depth", "look", target, map[string]any{"depth": 314.0, "stuck": "m-1"})
	}
	r.add(0.2, incident.CheckPasses, "runbook:b", "2", "Is it backing up?", incident.JudgedContent{
		OfStep: step("check", "Is it backing up?"), Result: "passes", Expression: "max(readings.depth) > inputs.low",
		Rounds: 1, Values: []expr.Value{{Part: "max(readings.depth)", Text: "314"}, {Part: "inputs.low", Text: "200"}}})
	r.add(0.3, incident.GateRaised, "runbook:b", "3", "Asked for approval: Park it", incident.GateContent{
		OfStep: step("change", "Park it"), Gate: "g1", Digest: "d1", Until: begin.Add(20 * time.Minute),
		Requests: []incident.Requested{{Target: "b-2", Shown: "park m-1", Undo: "unpark m-1"}}})
	r.add(20, incident.AlertWorse, "source:harbour-watch", "", "Worse: 1511 wait", incident.AlertContent{ID: "a1",
		Severity: "critical", Was: "major", Summary: "1511 wait"})
	r.add(33, incident.GateApproved, "mara", "3", "Approved: Park it", incident.DecidedContent{
		OfStep: step("change", "Park it"), Gate: "g1", Digest: "d1", Comment: "Seen, go on."})
	r.look(33.1, "change", "3", "Park it", "still", "b-2", map[string]any{"stuck": "m-1"})
	r.add(33.2, incident.ChangeStill, "runbook:b", "3", "Still needed? Park it", incident.JudgedContent{
		OfStep: step("change", "Park it"), Result: "passes", Target: "b-2"})
	r.add(33.3, incident.ChangeBegun, "runbook:b", "3", "Park it", incident.IntentContent{OfStep: step("change", "Park it"),
		Attempt: "x", Target: "b-2", Shown: "park m-1", Undo: "unpark m-1", Approval: "d2", Under: "g1"})
	r.add(33.4, incident.ChangeEnded, "runbook:b", "3", "Park it", incident.AttemptContent{
		OfStep: step("change", "Park it"), Attempt: "x", Target: "b-2", Shown: "park m-1", Purpose: "change", State: "ok",
		Output: task.Output{Head: "parked m-1\n"}, Became: incident.Became{Fate: incident.WasDone, Says: "done"}})
	for i, depth := range []float64{2306, 900, 12} {
		for _, target := range []string{"b-2", "b-10"} {
			r.look(34+float64(i)*8, "check", "4", "Draining?", "look", target, map[string]any{"depth": depth})
		}
	}
	r.add(50.1, incident.CheckPasses, "runbook:b", "4", "Draining?", incident.JudgedContent{
		OfStep: step("check", "Draining?"), Result: "passes", Expression: "max(readings.depth) < inputs.low", Rounds: 3,
		Proves: "park", Values: []expr.Value{{Part: "max(readings.depth)", Text: "12"}, {Part: "inputs.low", Text: "200"}}})
	r.add(50.2, incident.Told, "runbook:b", "5", "Repaired", incident.NoteContent{OfStep: step("tell", "Repaired"),
		Source: "close"})
	r.add(50.3, incident.RunEnded, "runbook:b", "", "Runbook ended: Backlog", incident.EndedContent{State: "done",
		Outcome: "repaired", Because: "Parked one message."})
	r.list[len(r.list)-1].Run = "r1"
	r.add(50.4, incident.Closed, "runbook:b", "", "Closed: repaired", incident.ClosedContent{Outcome: "repaired",
		Because: "Parked one message."})
	r.list[len(r.list)-1].Run = "r1"
	return r
}

func TestAStoryOfARepair(t *testing.T) {
	f := Of(queue(t).list)
	assert.Equal(t, `54 alert bad | major, harbour-watch: “311 wait”
54 run over | Backlog: by the trigger b/backlog, low=200 queue=north
54 look good | Depth: depth 314, stuck m-1 on 2 of 2
54 passes good | Is it backing up? max(depth) 314 > low 200
54 approved good | Park it: mara, 13:34:27, after 33 s: “Seen, go on.”
14 alert bad | major → critical: “1511 wait”
27 change good | Park it: done on b-2; rechecked, stuck m-1
   park m-1
   undo: unpark m-1
   printed: parked m-1
28 passes good | Draining? max(depth) 2306 → 12 < low 200, 2 of 2, 3 rounds in 16 s
44 closed good | repaired: Parked one message.
   the alert's source is told to close
`, print(f, Tell))
	s := f.Sum()
	assert.Equal(t, "not stated. Found: max(depth) 314 > low 200", s.Cause.String())
	assert.Equal(t, "Park it on b-2", s.Done[0].String())
	assert.Equal(t, "mara, 13:34:27: “Seen, go on.”", s.Approved[0].String())
	assert.Equal(t, "depth 314 → 12, proved", s.Effect.String())
	assert.Equal(t, "nothing known", s.Left[0].String())
}

// Each entry is in one row, rows stand in the order of their first entries and never move, and a story that is folded
// piece by piece is the one that is folded whole.
func TestEachEntryIsInOneRow(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		list := drawRecord(t)
		f, now, seen := New(), map[int64]Row{}, int64(0)
		for i := range list {
			f.Add(&list[i])
			if rapid.Bool().Draw(t, "read") {
				for _, r := range f.Rows(seen) {
					if old, known := now[r.First]; known {
						assert.Equal(t, old.At, r.At, "a row stands where it stood")
					}
					now[r.First] = r
				}
				seen = f.Last()
			}
		}
		for _, r := range f.Rows(seen) {
			now[r.First] = r
		}
		whole, entries, before := Of(list).Rows(0), 0, int64(0)
		for _, r := range whole {
			require.Greater(t, r.First, before)
			before, entries = r.First, entries+r.Entries
			require.Equal(t, r, now[r.First], "piecewise as whole")
		}
		require.Len(t, now, len(whole))
		require.Equal(t, len(list), entries, "each entry is in one row")
	})
}

// What went wrong is told, whatever is folded into the same row.
func TestNothingBadIsHidden(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		list := drawRecord(t)
		rows := Of(list).Rows(0)
		for _, e := range list {
			c, ok := e.Read().(incident.AttemptContent)
			if ok && e.Kind == incident.ChangeEnded && c.Fate == incident.NotKnown {
				bad := false
				for _, r := range rows {
					bad = bad || r.State == Unknown && r.Weight == Tell && r.Step == folded(e.Step)
				}
				require.True(t, bad, "unknown: %s", e.Step)
			}
			if e.Kind == incident.StepTroubled {
				require.Contains(t, print(Of(list), Tell), "why "+e.Step)
			}
		}
	})
}

// drawRecord writes a record of looks, checks and changes on several targets, in items and rounds, in any order.
func drawRecord(t *rapid.T) []incident.Entry {
	r := &record{t: t}
	for range rapid.IntRange(1, 40).Draw(t, "n") {
		step := rapid.SampledFrom([]string{"1", "2", "3.do@0.1", "3.do@1.1", "3.do@1.2", "4"}).Draw(t, "step")
		target := rapid.SampledFrom([]string{"", "c-1", "c-2", "c-10"}).Draw(t, "target")
		at := float64(len(r.list))
		switch rapid.IntRange(0, 8).Draw(t, "kind") {
		case 0:
			r.look(at, "look", step, "Look "+folded(step), "look", target, map[string]any{"depth": float64(len(r.list))})
		case 1:
			r.add(at, incident.LookIncomplete, "runbook:b", step, "Look", incident.AttemptContent{
				OfStep: incident.OfStep{Verb: "look", Title: "Look"}, Target: target, State: "failed",
				Missing: map[string]string{"depth": "no answer"}})
		case 2:
			r.add(at, incident.CheckFails, "runbook:b", step, "Check", incident.JudgedContent{
				OfStep: incident.OfStep{Verb: "check", Title: "Check"}, Result: "fails", Expression: "readings.a < 1",
				Values: []expr.Value{{Part: "readings.a", Text: fmt.Sprint(len(r.list))}}})
		case 3:
			r.add(at, incident.ChangeBegun, "runbook:b", step, "Change", incident.IntentContent{
				OfStep: incident.OfStep{Verb: "change", Title: "Change"}, Target: target, Shown: "x"})
		case 4:
			fate := rapid.SampledFrom([]incident.EffectFate{incident.WasDone, incident.NotKnown, incident.FailedAfter}).
				Draw(t, "fate")
			r.add(at, incident.ChangeEnded, "runbook:b", step+"x"+fmt.Sprint(len(r.list)), "Change", incident.AttemptContent{
				OfStep: incident.OfStep{Verb: "change", Title: "Change"}, Target: target, State: "ok", Purpose: "change",
				Became: incident.Became{Fate: fate, Says: string(fate)}})
		case 5:
			r.add(at, incident.StepTroubled, "runbook:b", step, "Trouble", incident.StepContent{
				OfStep: incident.OfStep{Title: "T"}, Because: "why " + step})
		case 6:
			r.add(at, incident.AlertJoined, "source:m", "", "more", incident.AlertContent{ID: fmt.Sprint(at), Severity: "minor"})
		case 7:
			r.add(at, incident.GateRaised, "runbook:b", step, "Asked", incident.GateContent{
				Gate: fmt.Sprint("g", step), OfStep: incident.OfStep{Title: "Change"}})
		default:
			r.add(at, incident.GateApproved, "mara", step, "Approved", incident.DecidedContent{Gate: fmt.Sprint("g", step)})
		}
	}
	return r.list
}

// Where no runbook changed anything, nothing is said of what people did by hand but their own words.
func TestWhatIsNotKnownIsNotClaimed(t *testing.T) {
	r := &record{t: t}
	r.add(0, incident.AlertRaised, "source:m", "", "Deep", incident.AlertContent{ID: "a", Severity: "major"})
	r.add(9, incident.Closed, "mara", "", "Closed", incident.ClosedContent{Outcome: incident.RepairedByHand,
		Because: "The pump runs."})
	s := Of(r.list).Sum()
	assert.Equal(t, "by hand, as mara says: The pump runs.", s.Done[0].String())
	assert.Equal(t, "no change by a runbook that a check could prove", s.Effect.String())
	assert.False(t, s.Proved)
	assert.Equal(t, "no change by a runbook to approve", s.Approved[0].String())
	assert.Equal(t, "not stated", s.Cause.String())
}

// An entry whose content was taken out, or is of a kind that nobody knows, has its row all the same.
func TestAnEntryWithoutContent(t *testing.T) {
	f := Of([]incident.Entry{
		{Seq: 1, At: begin, Kind: incident.LookTaken, Title: "Depth", Run: "r1", Step: "1"},
		{Seq: 2, At: begin, Kind: "made.up", Title: "Something", Content: json.RawMessage(`{"a":1}`)},
		{Seq: 3, At: begin, Kind: incident.Note, Title: "Note", Actor: "mara", Content: json.RawMessage(`[]`)},
	})
	rows := f.Rows(0)
	require.Len(t, rows, 3)
	assert.Equal(t, "Something", rows[1].Title)
}

func TestNames(t *testing.T) {
	for want, list := range map[string][]string{
		"clock-03, -05, -11":   {"clock-03", "clock-05", "clock-11"},
		"a-1, b-1":             {"a-1", "b-1"},
		"7 targets":            {"1", "2", "3", "4", "5", "6", "7"},
		"web, web-1, web-2":    {"web", "web-1", "web-2"},
		"the service's host":   {""},
		"gate-a-1, gate-a-2":   {"gate-a-1", "gate-a-2"},
		"gate-a-1, -a-2, -b-1": {"gate-a-1", "gate-a-2", "gate-b-1"},
	} {
		assert.Equal(t, want, named(list).String())
	}
	assert.Equal(t, -1, min(1, max(-1, natural("gate-2", "gate-10"))))
	for want, d := range map[string]time.Duration{"50 s": 50 * time.Second, "5.5 s": 5500 * time.Millisecond,
		"14 min 6 s": 846 * time.Second, "2 min": 2 * time.Minute, "3 h 5 min": 185 * time.Minute, "12 ms": 12e6,
		"2 d": 48 * time.Hour} {
		assert.Equal(t, want, plain.Lasted(d))
	}
}

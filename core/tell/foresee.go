package tell

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"urgentis/core/flow"

	"urgentis/core/leave"
	"urgentis/core/runbook"
)

// Foresight is what follows each word on a gate, as far as the text and what has happened so far tell.
type Foresight struct{ Yes, No, Silence Way }

// Way is what follows one word.
type Way struct {
	// First is what comes at once, up to where it depends on what is seen, or said.
	First []Move
	// Ended is how the run ends with it; nil where it goes on.
	Ended *runbook.End
	// Ends lists every way in which the run can end after it.
	Ends []runbook.End
}

// Move is one thing that the run does.
type Move struct {
	Step    *runbook.Step
	Place   flow.Place
	Targets []string
	Undo    bool // it takes the step back
	Again   bool // it takes the readings of the step anew
	Asks    bool // it asks people
}

// errNotOpen says that nothing is to be foreseen of a gate that is over.
var errNotOpen = errors.New("the gate is not open")

// ahead is a run that is played on for a while: of it nothing happens.
type ahead struct {
	*flow.Machine
	err error // why its log cannot be
}

func lookAhead(book *runbook.Book, log []flow.Event) (*ahead, error) {
	m, err := flow.Open(book, slices.Clip(log))
	return &ahead{Machine: m}, err
}

// Foresee tells what follows each word on an open gate. The log is not altered.
func Foresee(book *runbook.Book, log []flow.Event, gate string, now time.Time) (Foresight, error) {
	var out Foresight
	for word, way := range map[runbook.Word]*Way{
		runbook.Yes: &out.Yes, runbook.No: &out.No, runbook.Silence: &out.Silence,
	} {
		m, err := lookAhead(book, log)
		if err != nil {
			return out, err
		}
		if *way, err = m.foresee(gate, word, now); err != nil {
			return out, fmt.Errorf("foresee what follows %s: %w", word, err)
		}
	}
	return out, nil
}

// ForeseeAnswers tells what follows each choice of an open question, and what follows if nobody answers, by "". Of what
// is foreseen nothing happens, and the log is not altered.
func ForeseeAnswers(book *runbook.Book, log []flow.Event, question string, now time.Time) (map[string]Way, error) {
	m, err := lookAhead(book, log)
	if err != nil {
		return nil, err
	}
	raised, _ := m.State().OpenQuestion(question)
	if raised == nil {
		return nil, errNotOpen
	}
	out := map[string]Way{}
	for _, choice := range append(slices.Clone(raised.Choices), "") {
		if m, err = lookAhead(book, log); err != nil {
			return nil, err
		}
		if out[choice], err = m.foreseeAnswer(question, choice, now); err != nil {
			return nil, fmt.Errorf("foresee what follows the answer %s: %w", choice, err)
		}
	}
	return out, nil
}

// foreseeAnswer plays on from a question as if it were answered; with "" as if nobody did. The machine is of no further
// use.
func (m *ahead) foreseeAnswer(question, choice string, now time.Time) (Way, error) {
	raised, place := m.State().OpenQuestion(question)
	word := runbook.Answer(choice)
	if choice == "" && len(raised.Choices) > 0 {
		word, now = runbook.Silence, raised.Until
	} else {
		fields := map[string]any{}
		for _, f := range raised.Fields {
			fields[f.Name] = f.Suggest
		}
		if e := m.State().EffectOf(raised.Attempt); e != nil && !e.Rests {
			m.say(place, flow.Rested{Attempt: raised.Attempt}, now)
		}
		m.say(place, flow.QuestionAnswered{Question: question, Choice: choice, By: "somebody", Fields: fields}, now)
	}
	return m.wayOn(place, word, now)
}

// foresee plays on from a gate as if it were told a word. The machine is of no further use.
func (m *ahead) foresee(gate string, word runbook.Word, now time.Time) (Way, error) {
	raised, place, by := m.State().OpenGate(gate)
	if raised == nil {
		return Way{}, errNotOpen
	}
	switch word {
	case runbook.No:
		m.say(place, flow.GateDecided{Gate: gate, By: "somebody", Digest: raised.Digest}, now)
	case runbook.Yes:
		for i := len(by); i < max(1, raised.People); i++ {
			m.say(place, flow.GateDecided{
				Gate: gate, Approved: true, By: fmt.Sprint("somebody ", i), Digest: raised.Digest,
			}, now)
		}
	case runbook.Silence:
		now = raised.Until
	}
	return m.wayOn(place, word, now)
}

// wayOn plays on after a word was told at a place.
func (m *ahead) wayOn(place flow.Place, word runbook.Word, now time.Time) (Way, error) {
	way := Way{}
	before := m.State().Last
	if err := m.foreseeMoves(&way, place, now); err != nil {
		return way, err
	}
	if e := m.State().Ended; e != nil && m.State().Last > before {
		end := howItEnded(*e)
		way.Ended, way.Ends = &end, []runbook.End{end}
		return way, nil
	}
	way.Ends = m.State().Book().EndsAfter(place.Paths(), word)
	return way, nil
}

// say adds what somebody would say; whatever comes of it is seen when the machine plans.
func (m *ahead) say(place flow.Place, b flow.Body, now time.Time) {
	if _, err := m.Append(flow.Event{At: now, Place: place, Body: b}); err != nil && m.err == nil {
		m.err = err
	}
}

// maxForeseen bounds how far is looked ahead.
const maxForeseen = 64

// foreseeMoves plans on until something would be begun, somebody would be asked, or the run would end.
func (m *ahead) foreseeMoves(way *Way, gate flow.Place, now time.Time) error {
	for range maxForeseen {
		plan, err := m.Plan(now)
		if err != nil {
			return err
		}
		asked := false
		for _, e := range plan.Events {
			asked = m.foreseeMove(way, gate, e) || asked
		}
		switch {
		case plan.Ended || len(plan.Begin) > 0 || asked:
			return nil
		case len(plan.AskLeave) > 0:
			for _, ask := range plan.AskLeave {
				e := ask.Given(m.leaveAsBefore(gate, ask), now)
				m.say(e.Place, e.Body, now)
			}
		case len(plan.WantLocks) > 0:
			for _, l := range plan.WantLocks {
				m.say(l.Place, l.Taken(now).Body, now)
			}
		case len(plan.Events) == 0:
			return nil
		}
		if m.err != nil {
			return m.err
		}
	}
	return nil
}

// leaveAsBefore supposes that leave is given as it was for the gate.
func (m *ahead) leaveAsBefore(gate flow.Place, ask flow.AskLeave) flow.LeaveGiven {
	given := flow.LeaveGiven{Verdict: leave.Gate}
	for _, place := range []flow.Place{ask.Place, gate} {
		if was := m.State().Progress(place).Leave; was != nil {
			return *was
		}
	}
	return given
}

// foreseeMove notes what an event does where the gate stands; what runs beside it does not follow from it. asks: people
// are asked.
func (m *ahead) foreseeMove(way *Way, gate flow.Place, e flow.Event) (asks bool) {
	x := Move{Place: e.Place}
	target := ""
	switch b := e.Body.(type) {
	case flow.Intent:
		x.Undo, target = b.Undoes(), b.Target
	case flow.GateRaised, flow.QuestionRaised:
		x.Asks = true
	case flow.Told, flow.Noted:
	default:
		return false
	}
	if !x.Place.In(gate.Frame()) {
		return false
	}
	x.Step, _ = flow.Find(m.State().Book(), x.Place)
	if in, ok := e.Body.(flow.Intent); ok && !in.Touches() && !in.Look.IsZero() && in.Look != e.Place {
		x.Step, _ = flow.Find(m.State().Book(), in.Look)
		x.Again = true
	}
	i := slices.IndexFunc(way.First, func(y Move) bool { return y.Place == x.Place && y.Undo == x.Undo })
	if i < 0 {
		i = len(way.First)
		way.First = append(way.First, x)
	}
	if target != "" {
		way.First[i].Targets = append(way.First[i].Targets, target)
	}
	return x.Asks
}

// howItEnded is how a run ended, as the runbook's text foresees it.
func howItEnded(e flow.Ended) runbook.End {
	switch {
	case e.State == flow.HandedOver:
		return runbook.End{Kind: runbook.EndHandedOver, To: e.To}
	case e.State == flow.StateFail:
		return runbook.End{Kind: runbook.EndFailed}
	case e.Outcome != "":
		return runbook.End{Kind: runbook.EndClosed, Outcome: e.Outcome}
	}
	return runbook.End{Kind: runbook.EndOver}
}

package story

import (
	"slices"
	"strings"
	"time"

	"urgentis/core/incident"
)

// Folder makes a story of entries, in the order in which they stand in the record.
type Folder struct {
	rows []*row
	open map[string]*row // by what they are about
	// asks names, by gate and by question, the row that it is asked in; times how often a step was asked for anew.
	asks    map[string]*row
	times   map[string]int
	touches *touches
	last    int64
	// stated are a person's words by field, and left what is left to do, in the order in which it was written down.
	stated map[string]string
	left   []incident.FollowUpContent
}

// row is a row with what it was made of.
type row struct {
	Row
	part
	key   string
	stale bool // Row is not drawn since the newest entry
}

// part is what a row gathers of its entries, and draws.
type part interface {
	add(e *entry)
	draw(r *Row)
}

// entry is an entry with its content read, and the step that it is about: the same for all items of an each, and for
// all branches.
type entry struct {
	*incident.Entry
	content incident.Content
	of      incident.OfStep
	step    string
}

// title is the step's title, or the entry's own.
func (e *entry) title() string {
	if e.of.Title != "" {
		return e.of.Title
	}
	return e.Title
}

// New begins a story.
func New() *Folder {
	return &Folder{open: map[string]*row{}, asks: map[string]*row{}, times: map[string]int{}, touches: newTouches(),
		stated: map[string]string{}}
}

// Of folds a whole record.
func Of(entries []incident.Entry) *Folder {
	f := New()
	for i := range entries {
		f.Add(&entries[i])
	}
	return f
}

// Last is the number of the newest entry.
func (f *Folder) Last() int64 { return f.last }

// Add takes an entry in. Its number is greater than those before.
func (f *Folder) Add(e *incident.Entry) {
	x := &entry{Entry: e, content: e.Read(), step: folded(e.Step)}
	if s, ok := x.content.(interface{ Step() incident.OfStep }); ok {
		x.of = s.Step()
	}
	r := f.rowOf(x)
	r.add(x)
	r.Last, r.Entries, r.stale = e.Seq, r.Entries+1, true
	if e.At.After(r.Until) {
		r.Until = e.At
	}
	f.last = e.Seq
	f.touches.add(x)
	f.follow(x.content)
}

// Rows gives, in their order, the rows that altered after an entry; 0 is all.
func (f *Folder) Rows(after int64) []Row {
	var out []Row
	for _, r := range f.rows {
		if r.Last <= after {
			continue
		}
		if r.stale {
			r.Title, r.Says, r.Below, r.Targets, r.Courses, r.Rounds = "", nil, nil, nil, nil, 0
			r.draw(&r.Row)
			r.stale = false
		}
		out = append(out, r.Row)
	}
	return out
}

// folded is a place without its marks of items and branches. The rounds of an ask are told apart.
func folded(place string) string {
	if !strings.ContainsAny(place, "@~") {
		return place
	}
	var out strings.Builder
	marked := false
	for _, c := range place {
		switch c {
		case '@', '~':
			marked = true
		case '.', '/', '#':
			marked = false
		}
		if !marked {
			out.WriteRune(c)
		}
	}
	return out.String()
}

// burst is for how long what happens to several alerts is one row.
const burst = time.Minute

// rowOf finds the row that an entry belongs to, or begins one.
func (f *Folder) rowOf(e *entry) *row {
	key, fresh := f.about(e)
	if r := f.open[key]; r != nil {
		return r
	}
	r := &row{part: fresh(), key: key}
	r.Kind = e.Kind
	r.First, r.At, r.Until, r.Run, r.Step = e.Seq, e.At, e.At, e.Run, e.step
	f.rows = append(f.rows, r)
	if key != "" {
		f.open[key] = r
	}
	f.asked(e, r)
	return r
}

// asked notes in which row a gate or a question is asked.
func (f *Folder) asked(e *entry, r *row) {
	switch c := e.content.(type) {
	case incident.GateContent:
		f.asks[c.Gate] = r
	case incident.QuestionContent:
		f.asks[c.Question] = r
	}
}

// about gives the key of the row that an entry belongs to, "" for a row of its own, and how such a row begins.
func (f *Folder) about(e *entry) (string, func() part) {
	in := func(what string) string { return what + "|" + e.Run + "|" + e.step }
	switch c := e.content.(type) {
	case incident.AlertContent:
		return f.alert(e), func() part { return &alertPart{} }
	case incident.AttemptContent:
		return f.attempt(e, c)
	case incident.IntentContent:
		if e.Kind == incident.UndoBegun {
			return in("undo"), newUndo
		}
		return f.changeKey(e), newChange
	case incident.JudgedContent:
		return f.judged(e)
	case incident.GateContent:
		return f.gate(e), newDecision
	case incident.DecidedContent:
		if r := f.asks[c.Gate]; r != nil {
			return r.key, newDecision
		}
		return in("gate"), newDecision
	case incident.QuestionContent:
		if c.Attempt != "" {
			return f.changeKey(e), newChange
		}
		return in("question"), newDecision
	case incident.AnswerContent:
		if r := f.asks[c.Question]; r != nil {
			return r.key, newDecision
		}
		return in("question"), newDecision
	case incident.StepContent:
		return f.ofStep(e, c)
	case incident.WaitContent:
		return f.wait(e)
	case incident.PeopleContent:
		if r := f.asks[thing(c.Thing)]; r != nil && e.Kind == incident.CalledOut {
			return r.key, newDecision
		}
		return "", func() part { return &plainPart{} }
	case incident.EndedContent:
		if e.Kind == incident.CallEnded {
			return in("call"), newCall
		}
		return f.end(e), newEnd
	case incident.ClosedContent:
		if e.Kind == incident.Closed && e.Run != "" {
			return f.end(e), newEnd
		}
	case incident.NoteContent:
		if e.Kind == incident.Told {
			return f.told(e), newEnd
		}
	case incident.BegunContent:
		if e.Kind == incident.CallBegun {
			return in("call"), newCall
		}
	}
	return "", func() part { return &plainPart{} }
}

// thing is the gate or the question that a notice is about.
func thing(of string) string {
	_, id, _ := strings.Cut(of, "/")
	return id
}

// alert has what happens to several alerts within a minute in one row.
func (f *Folder) alert(e *entry) string {
	key := "alert|" + string(e.Kind)
	if e.Kind == incident.AlertRaised {
		return ""
	}
	if r := f.open[key]; r != nil && e.At.Sub(r.Until) > burst {
		delete(f.open, key)
	}
	return key
}

func (f *Folder) attempt(e *entry, c incident.AttemptContent) (string, func() part) {
	in := func(what string) string { return what + "|" + e.Run + "|" + e.step }
	switch {
	case e.Kind == incident.UndoDone, c.Purpose == "undone", c.Purpose == "undo":
		return in("undo"), newUndo
	case e.Kind == incident.ChangeEnded, e.Kind == incident.ChangeReported, c.Verb == "change", c.Verb == "undo_change":
		return f.changeKey(e), newChange
	case c.Verb == "check", c.Verb == "wait":
		return in(c.Verb), newCheck
	}
	return in("look"), newLook
}

func (f *Folder) judged(e *entry) (string, func() part) {
	in := func(what string) string { return what + "|" + e.Run + "|" + e.step }
	switch e.Kind {
	case incident.ChangeStill, incident.ChangeSettled:
		return f.changeKey(e), newChange
	case incident.UndoJudged:
		return in("undo"), newUndo
	case incident.StepSkipped:
		return in("skipped"), func() part { return &plainPart{} }
	}
	return in("check"), newCheck
}

// changeKey is that of a change as it was asked for last.
func (f *Folder) changeKey(e *entry) string {
	return "change|" + e.Run + "|" + e.step + "|" + count(f.times[e.Run+e.step])
}

// gate has what is asked anew in the row in which it was asked, until what it is about began.
func (f *Folder) gate(e *entry) string {
	if r := f.open[f.changeKey(e)]; r != nil {
		f.times[e.Run+e.step]++
	}
	return "gate|" + e.Run + "|" + e.step + "|" + count(f.times[e.Run+e.step])
}

func (f *Folder) ofStep(e *entry, c incident.StepContent) (string, func() part) {
	in := func(what string) string { return what + "|" + e.Run + "|" + e.step }
	switch e.Kind {
	case incident.ChangeCleared:
		if c.Approval == "" {
			return in("gate") + "|" + count(f.times[e.Run+e.step]), newDecision
		}
		return f.changeKey(e), newChange
	case incident.ChangeRepeated, incident.TargetPassed:
		return f.changeKey(e), newChange
	case incident.AttemptLost, incident.JobFollowed:
		switch {
		case c.Undoes:
			return in("undo"), newUndo
		case c.Change || c.Verb == "change":
			return f.changeKey(e), newChange
		case c.Verb == "check" || c.Verb == "wait":
			return in(c.Verb), newCheck
		}
		return in("look"), newLook
	case incident.UndoLeft:
		return in("undo"), newUndo
	case incident.UndoPlanned, incident.UndoEnded:
		return in("undoing"), newUndoing
	case incident.ItemPassed:
		return in("passed"), newPassed
	case incident.EachBegun:
		return "", func() part { return &plainPart{} }
	}
	return in("trouble"), newTrouble
}

// wait has what a run waited for, and that it goes on, in one row.
func (f *Folder) wait(e *entry) (string, func() part) {
	key := ""
	switch e.Kind {
	case incident.WaitBegun, incident.WaitEnded:
		key = "wait|" + e.Run + "|" + e.step
	case incident.LockAwaited, incident.LockTaken, incident.LockGivenBack:
		key = "lock|" + e.Run
	case incident.HaltAwaited, incident.HaltLifted:
		key = "halt|" + e.Run
	default:
		return "", func() part { return &plainPart{} }
	}
	return key, newWait
}

// told begins what may be the end of a run.
func (f *Folder) told(e *entry) string {
	key := "end|" + e.Run
	delete(f.open, key)
	return key
}

// end finds what a run told last, if nothing of it came since.
func (f *Folder) end(e *entry) string {
	key := "end|" + e.Run
	at := slices.Index(f.rows, f.open[key])
	if at >= 0 && slices.ContainsFunc(f.rows[at+1:], func(r *row) bool {
		_, quiet := r.part.(*waitPart)
		return r.Run == e.Run && !quiet
	}) {
		delete(f.open, key)
	}
	return key
}

package story

import (
	"slices"

	"urgentis/core/incident"
)

// Sum is what is to be read of an incident that is over, in five answers.
type Sum struct {
	Cause    Text
	Stated   bool // the cause was stated by a person or by the runbook, and is not only what was found
	Done     []Text
	Approved []Text
	Effect   Text
	Proved   bool
	Left     []Text
}

// Sum makes the five answers of what was taken in.
func (f *Folder) Sum() Sum {
	rows := f.Rows(0)
	s := Sum{Done: f.touches.done(), Approved: f.touches.approvals(), Left: f.touches.left()}
	s.Cause, s.Stated = f.cause(rows)
	if len(f.touches.list) == 0 {
		s.Done = f.byHand()
	}
	if len(s.Approved) == 0 {
		s.Approved = []Text{text("no approval is recorded")}
		if len(f.touches.list) == 0 {
			s.Approved = []Text{text("no change by a runbook to approve")}
		}
	}
	s.Effect, s.Proved = f.effect(rows)
	s.Left = append(append(f.toFollow(), s.Left...), f.toDo(rows)...)
	if len(s.Left) == 0 {
		s.Left = []Text{text("nothing known")}
	}
	return s
}

// cause is what a person states it to be, or else a runbook; else what decided its last check before the first change.
func (f *Folder) cause(rows []Row) (Text, bool) {
	if by := f.stated[incident.FieldCause]; by != "" {
		return text(by), true
	}
	for _, r := range slices.Backward(f.rows) {
		if p, ok := r.part.(*endPart); ok && p.ended != nil && p.ended.Cause != "" {
			return text(p.ended.Cause), true
		}
	}
	first := f.touches.firstRow(rows)
	for i := first - 1; i >= 0; i-- {
		if _, ok := f.rows[i].part.(*checkPart); ok && len(rows[i].Says) > 0 && rows[i].Lane == Decision {
			return text("not stated. Found: ", rows[i].Says), false
		}
	}
	return text("not stated"), false
}

// firstRow is the row of the first change; all of them where nothing was changed.
func (t *touches) firstRow(rows []Row) int {
	if len(t.list) == 0 {
		return len(rows)
	}
	i := slices.IndexFunc(rows, func(r Row) bool { return r.Lane == Change && r.Word == "change" && r.Weight == Tell })
	if i < 0 {
		return len(rows)
	}
	return i
}

// byHand says that no runbook changed anything, and what whoever closed it as repaired by hand said of that.
func (f *Folder) byHand() []Text {
	out := []Text{text("no change by a runbook")}
	for _, r := range f.rows {
		p, ok := r.part.(*plainPart)
		if !ok || p.kind != incident.Closed {
			continue
		}
		if c, ok := p.content.(incident.ClosedContent); ok && c.Outcome == incident.RepairedByHand {
			out = []Text{text("by hand, as ", who(p.actor), " says: ", c.Because)}
		}
	}
	return out
}

// effect is how the number went that the last proof rests on, from the worst before the first change to the last.
func (f *Folder) effect(rows []Row) (Text, bool) {
	if len(f.touches.list) == 0 {
		return text("no change by a runbook that a check could prove"), false
	}
	var proofs []Row
	for i := len(rows) - 1; i >= 0; i-- {
		if p, ok := f.rows[i].part.(*checkPart); !ok || !p.proves {
			continue
		}
		if r := rows[i]; r.Word != "passes" {
			return text("not proved: ", r.Title, " ", r.Word), false
		}
		proofs = append(proofs, rows[i])
	}
	for _, r := range proofs {
		for _, c := range r.Courses {
			if c.Limit != nil {
				return text(c.Reading, " ", value(number(f.before(rows, c))), " → ",
					value(withUnit(number(c.Last), c.Unit)), ", proved"), true
			}
		}
	}
	if len(proofs) > 0 {
		return text("proved: ", proofs[0].Title), true
	}
	return text("not proved: no check proves it"), false
}

// before is the worst of a reading up to the first change.
func (f *Folder) before(rows []Row, of Course) float64 {
	less := of.Last <= *of.Limit // so that less is better
	out, found := of.First, false
	for i := range rows {
		for _, c := range rows[i].Courses {
			switch {
			case c.Reading != of.Reading || rows[i].At.After(f.touches.begunAt):
			case !found:
				out, found = map[bool]float64{true: c.High, false: c.Low}[less], true
			case less:
				out = max(out, c.High)
			default:
				out = min(out, c.Low)
			}
		}
	}
	return out
}

// toDo is what people have to see to, beside changes.
func (f *Folder) toDo(rows []Row) []Text {
	var out []Text
	for i, r := range f.rows {
		switch p := r.part.(type) {
		case *plainPart:
			if c, ok := p.content.(incident.ClosedContent); ok && p.kind == incident.Closed {
				for _, s := range c.Still {
					out = append(out, text("open when it was closed: ", s))
				}
			}
		case *endPart:
			if p.kind == incident.RunHandedOver && !f.settled(i) {
				out = append(out, text(p.title, ": ", p.ended.Because))
			}
		}
	}
	return out
}

// settled reports whether somebody said, or saw to it by closing the incident, that a hand-over is done with.
func (f *Folder) settled(at int) bool {
	run := f.rows[at].Run
	return slices.ContainsFunc(f.rows[at+1:], func(r *row) bool {
		p, ok := r.part.(*plainPart)
		return ok && (p.kind == incident.RunSettled && r.Run == run || p.kind == incident.Closed)
	})
}

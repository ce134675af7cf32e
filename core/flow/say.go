package flow

import (
	"fmt"
	"strings"

	"urgentis/core/incident"
)

// Line says what became of one change on some targets, or of its undo.
type Line struct {
	Title   string   `json:"title"`
	Targets []string `json:"targets"`
	Says    string   `json:"says"`
}

// String writes a line for people.
func (l Line) String() string {
	var on []string
	times := map[string]int{}
	for _, t := range l.Targets {
		if times[t]++; times[t] == 1 {
			on = append(on, t)
		}
	}
	for i, t := range on {
		if times[t] > 1 {
			on[i] = fmt.Sprintf("%s (%d times)", t, times[t])
		}
	}
	return fmt.Sprintf("%q on %s: %s.", l.Title, strings.Join(on, ", "), strings.TrimSuffix(l.Says, "."))
}

// Says tells in words what became of a touch: no more than was seen or said.
func (t *Touch) Says() string {
	change, undo := t.Change.changeSays(), t.undoSays()
	switch {
	case undo == "":
		return change
	case t.Undo.MayBegin() || t.Undo.Fate == FailedBefore || t.Change.Twice:
		return change + "; " + undo
	}
	return undo
}

// Became is what the record says of a touch. The undo has no fate as long as nobody meant to begin it.
func (t *Touch) Became() incident.Became {
	if t == nil {
		return incident.Became{}
	}
	out := incident.Became{Fate: fates[t.Change.Fate], Says: t.Says()}
	if t.Undo.Fate != NotBegun || t.Left != "" {
		out.UndoFate = fates[t.Undo.Fate]
	}
	return out
}

// undoSays tells what became of its undo; "" where it is not to be undone.
func (t *Touch) undoSays() string {
	undo := &t.Undo
	why := comma(undo.Cause.Says)
	switch undo.Fate {
	case WasDone:
		return "undone" + undo.times(t.Change.Twice) + undo.told() + comma(t.UndoDoubt)
	case DoneInPart, FailedAfter:
		return "may be undone in part" + why
	case NotKnown, UnderWay:
		return "whether it was undone is unknown" + why
	case FailedBefore:
		return undo.not("undone") + why
	}
	switch {
	case t.Left != "":
		return undo.not("undone") + ", " + t.Left
	case undo.Fate == HeldBack:
		return undo.not("undone") + why
	}
	return ""
}

// times tells how often something was done: nothing where that was once, as is to be expected.
func (e *Effect) times(once bool) string {
	switch {
	case e.Twice:
		return ", twice"
	case once:
		return " once"
	}
	return ""
}

// told tells of what was done who says so, where it was not seen in time.
func (e *Effect) told() string {
	switch {
	case e.Cause.Who == ByPerson:
		return comma(e.Cause.Says)
	case e.Cause.Who == ByLate && e.Cause.By != "":
		return " (late: reported by " + e.Cause.By + ")"
	case e.Cause.Who == ByLate:
		return " (reported late)"
	}
	return ""
}

func (e *Effect) changeSays() string {
	why := comma(e.Cause.Says)
	if e.Perhaps && e.MayBegin() {
		return "outcome unknown" + comma(e.Earlier) + "; it was to be repeated"
	}
	switch e.Fate {
	case WasDone:
		return "done" + e.times(false) + e.told()
	case DoneInPart:
		return "done in part" + why
	case FailedAfter:
		return "failed after it had begun" + why
	case NotKnown:
		if e.Cause.Who == ByNobody {
			return "outcome unknown, nobody could say"
		}
		return "outcome unknown" + why
	case UnderWay:
		return "outcome unknown, it may still run"
	}
	return e.not("begun") + why
}

// not says that something was not done, or what is not known of that because the log lost it.
func (e *Effect) not(done string) string {
	if e.Lost {
		return "whether it was " + done + " before the database was put back is not known"
	}
	return "not " + done
}

// trouble says of a change that did not come to a good end what came of it.
func (e *Effect) trouble(title, on string) string {
	switch {
	case e.Fate == NotKnown:
		return fmt.Sprintf("The outcome of the change %q on %s is unknown, and nobody could say.", title, on)
	case e.Fate == DoneInPart:
		return fmt.Sprintf("The change %q happened in part on %s%s.", title, on, comma(e.Cause.Says))
	case e.Fate == FailedBefore && e.Cause.Who == ByLook:
		return fmt.Sprintf("The change %q did not happen on %s: %s.", title, on, e.Cause.Says)
	case e.Fate == FailedBefore && e.Cause.Who == ByPerson:
		return fmt.Sprintf("The change %q did not happen on %s%s.", title, on, comma(e.Cause.Says))
	}
	return fmt.Sprintf("The change %q failed on %s: %s.", title, on, strings.TrimSuffix(e.Cause.Says, "."))
}

func comma(why string) string {
	if why == "" {
		return ""
	}
	return ", " + strings.TrimSuffix(why, ".")
}

// lines says of touches what became of each, those with equal words on one line, in the order of the first.
func (s *State) lines(touches []*Touch) []Line {
	var out []Line
	at := map[[2]string]int{}
	for _, t := range touches {
		title := t.Place.String()
		if step, _ := Find(s.book, t.Place); step != nil {
			title = step.Title
		}
		key := [2]string{title, t.Says()}
		i, ok := at[key]
		if !ok {
			i = len(out)
			at[key] = i
			out = append(out, Line{Title: title, Says: key[1]})
		}
		out[i].Targets = append(out[i].Targets, here(t.Target))
	}
	return out
}

func sentence(lines []Line) string {
	out := make([]string, len(lines))
	for i, l := range lines {
		out[i] = l.String()
	}
	return strings.Join(out, " ")
}

// Changes says what became of all that the run changed, or began to, in the order in which it began.
func (s *State) Changes() []Line { return s.lines(s.Touches()) }

// Changed tells it in a sentence, and what is not known of it because the log lost it.
func (s *State) Changed() string {
	const unknown = ": what was changed shortly before is not known"
	switch lost := s.putBack.says(); {
	case lost != "" && len(s.touchOrder) == 0:
		return strings.ToUpper(lost[:1]) + lost[1:] + unknown + "; nothing else was."
	case lost != "":
		return sentence(s.Changes()) + " And " + lost + unknown + "."
	case len(s.touchOrder) == 0:
		return "Nothing was changed."
	}
	return sentence(s.Changes())
}

// says tells it in a clause; "" where the database was not put back.
func (p *PutBack) says() string {
	if p == nil {
		return ""
	}
	return "the database was put back to an older state at " + p.At.UTC().Format("15:04:05")
}

// UndoneAt tells what became of what was to be undone at a place.
func (s *State) UndoneAt(place Place) string {
	st := s.steps[place]
	if st == nil || st.undoing == nil {
		return ""
	}
	var list []*Touch
	for _, k := range st.undoing.Touches {
		list = append(list, s.touches[k])
	}
	for _, l := range st.undoing.Left {
		list = append(list, s.touches[l.TouchKey])
	}
	switch {
	case len(list) > 0:
		return sentence(s.lines(list))
	case len(s.inForce(func(*Touch) bool { return true })) > 0:
		return "Nothing in this part had been changed, so there was nothing to undo there."
	}
	return "Nothing had been changed, so there was nothing to undo."
}

// plainly reports whether every touch was simply done, so that the end needs no list to be true.
func (s *State) plainly() bool {
	for _, t := range s.touchOrder {
		if t.Change.Fate != WasDone || t.Change.Twice || t.Undo.Fate != NotBegun || t.Left != "" {
			return false
		}
	}
	return true
}

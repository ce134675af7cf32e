package story

import (
	"maps"
	"slices"
	"strings"
	"time"

	"urgentis/core/incident"
	"urgentis/core/plain"
)

// changePart is a change of one step under one approval: the look before it, its beginning and its end on each target,
// what is asked about it, and what is reported late.
type changePart struct {
	rechecked evidence
	effect    effect
	step      string
	lines     []Text
	cannot    bool
	loses     string
}

// effect is what is done on each target, a change or the undo of one.
type effect struct {
	shown, undo map[string]string // by place and target
	says        map[string]string // what became of it, in words
	state       map[string]State
	target      map[string]string
	printed     map[string]string
	why         map[string]string // it did not end well
	order       []string
}

func (x *effect) at(e *entry, target string) string {
	if x.shown == nil {
		x.shown, x.undo, x.says = map[string]string{}, map[string]string{}, map[string]string{}
		x.state, x.target, x.printed = map[string]State{}, map[string]string{}, map[string]string{}
		x.why = map[string]string{}
	}
	key := e.Step + "|" + target
	if _, known := x.target[key]; !known {
		x.order = append(x.order, key)
		x.target[key] = target
	}
	return key
}

// becomes notes what is known of it now.
func (x *effect) becomes(key string, b incident.Became, of string) {
	fate := b.Fate
	if of == "undo" {
		fate = b.UndoFate
	}
	if fate == "" {
		return
	}
	x.state[key], x.says[key] = fateState(fate), b.Says
}

// fateState is how a fate is shown.
func fateState(f incident.EffectFate) State {
	switch f {
	case incident.WasDone:
		return Good
	case incident.NotKnown:
		return Unknown
	case incident.UnderWay:
		return Going
	case incident.NotBegun, incident.HeldBack:
		return Waiting
	}
	return Bad
}

// ends notes how an attempt ended, where the entry does not say what became of the change.
func (x *effect) ends(key string, kind incident.Kind, c incident.AttemptContent, of string) {
	x.becomes(key, c.Became, of)
	if x.state[key] == "" || c.Fate == "" {
		x.state[key] = map[string]State{"ok": Good, "failed": Bad, "unknown": Unknown, "held": Waiting}[c.State]
		x.says[key] = map[string]string{"ok": "done", "failed": "failed", "unknown": "outcome unknown",
			"held": "held back"}[c.State]
	}
	if c.Shown != "" {
		x.shown[key] = c.Shown
	}
	x.printed[key], x.why[key] = head(c), ""
	if why := ended(c); c.State != "ok" && why != c.State && !strings.Contains(x.says[key], why) {
		x.why[key] = why
	}
}

func newChange() part { return &changePart{} }

func (p *changePart) add(e *entry) {
	if e.of.Title != "" || p.step == "" {
		p.step = e.title()
	}
	switch c := e.content.(type) {
	case incident.IntentContent:
		key := p.effect.at(e, c.Target)
		p.effect.shown[key], p.effect.undo[key] = c.Shown, c.Undo
		p.cannot, p.loses = c.Cannot, c.Loses
		p.effect.state[key], p.effect.says[key] = Going, "under way"
	case incident.AttemptContent:
		if c.Purpose != "change" && e.Kind != incident.ChangeEnded && e.Kind != incident.ChangeReported {
			p.rechecked.take(e.Kind, c)
			return
		}
		p.effect.ends(p.effect.at(e, c.Target), e.Kind, c, "change")
	case incident.JudgedContent:
		p.judged(e, c)
	case incident.QuestionContent:
		p.lines = append(p.lines, text("asked ", clock(e.At), ": ", c.Text))
	case incident.AnswerContent:
		p.answered(e, c)
	case incident.StepContent:
		p.happened(e, c)
	}
}

func (p *changePart) judged(e *entry, c incident.JudgedContent) {
	if e.Kind == incident.ChangeSettled {
		p.effect.becomes(p.effect.at(e, c.Target), c.Became, "change")
		p.lines = append(p.lines, text("a look says ", map[string]string{"passes": "that it happened",
			"fails": "that it did not happen"}[c.Result], " on ", Span{Text: here(c.Target), Is: Target}))
		return
	}
	if c.Result == "passes" {
		return
	}
	why := c.Unsure
	if why == "" {
		values := map[string]string{}
		for _, v := range c.Values {
			values[v.Part] = v.Text
		}
		why = filled(c.Expression, values).String()
	}
	p.lines = append(p.lines, text("no longer needed on ", Span{Text: here(c.Target), Is: Target}, ": ", why))
}

func (p *changePart) answered(e *entry, c incident.AnswerContent) {
	if c.Target != "" || c.Attempt != "" {
		p.effect.becomes(p.effect.at(e, c.Target), c.Became, "change")
	}
	said := text(who(e.Actor), " says: ", c.Label)
	if c.Label == "" {
		said = text(who(e.Actor), " says: ", c.Choice)
	}
	if e.Kind == incident.QuestionExpired {
		said = text("nobody said what became of it")
	}
	if c.Comment != "" {
		said = text(said, " ", quote("“"+cut(plain.Line(c.Comment))+"”"))
	}
	p.lines = append(p.lines, said)
}

func (p *changePart) happened(e *entry, c incident.StepContent) {
	switch e.Kind {
	case incident.AttemptLost:
		key := p.effect.at(e, c.Target)
		p.effect.state[key], p.effect.says[key] = Unknown, "outcome unknown"
		p.effect.becomes(key, c.Became, "change")
		p.lines = append(p.lines, text("interrupted on ", Span{Text: here(c.Target), Is: Target}, ": ", c.Because))
	case incident.ChangeRepeated:
		p.lines = append(p.lines, text("begun once more on ", Span{Text: here(c.Target), Is: Target}))
	case incident.TargetPassed:
		p.lines = append(p.lines, text("not changed: ", Span{Text: here(c.Target), Is: Target}, ", ", c.Because))
	case incident.JobFollowed:
		p.lines = append(p.lines, text("follows the job ", value(cut(plain.Line(c.Job)))))
	}
}

// targets lists on what it acts.
func (x *effect) targets() []string {
	seen := map[string]bool{}
	for _, k := range x.order {
		seen[x.target[k]] = true
	}
	return sorted(seen)
}

// worst is the state that is to be said.
func (x *effect) worst() State {
	out := Over
	for _, k := range x.order {
		out = worse(out, x.state[k])
	}
	return out
}

// saysFates writes what became of it, those targets together of which the same is known.
func (x *effect) saysFates() Text {
	by := map[string][]string{}
	var order []string
	for _, k := range x.order {
		s := x.says[k]
		if by[s] == nil {
			order = append(order, s)
		}
		if t := x.target[k]; !slices.Contains(by[s], t) {
			by[s] = append(by[s], t)
		}
	}
	var parts []Text
	for _, s := range order {
		slices.SortFunc(by[s], natural)
		word, why, more := strings.Cut(s, ", ")
		t := text(word, " on ", named(by[s]))
		if more {
			t = text(t, ", ", why)
		}
		parts = append(parts, t)
	}
	return join("; ", parts...)
}

// commands writes what ran: once, where it is the same everywhere.
func (x *effect) commands(of map[string]string, before string) []Text {
	by := map[string][]string{}
	var order []string
	for _, k := range x.order {
		if s := of[k]; s != "" {
			if by[s] == nil {
				order = append(order, s)
			}
			by[s] = append(by[s], x.target[k])
		}
	}
	var out []Text
	for _, s := range order {
		on := text()
		if len(order) > 1 {
			slices.SortFunc(by[s], natural)
			on = text(named(slices.Compact(by[s])), ": ")
		}
		out = append(out, text(before, on, code(cut(plain.Line(strings.ReplaceAll(s, "\n", " ⏎ "))))))
	}
	return out
}

// outputs writes what was printed, where that is of one target, or of one that did not end well.
func (x *effect) outputs() []Text {
	var out []Text
	for _, k := range x.order {
		on := text()
		if len(x.order) > 1 {
			on = text(Span{Text: here(x.target[k]), Is: Target}, " ")
		}
		if s := x.why[k]; s != "" {
			out = append(out, text(on, "ended: ", s))
		}
		if s := x.printed[k]; s != "" && (len(x.order) == 1 || x.state[k] == Bad || x.state[k] == Unknown) {
			out = append(out, text(on, "printed: ", code(s)))
		}
	}
	return out
}

func (p *changePart) draw(r *Row) {
	r.Lane, r.Weight, r.Word, r.Title = Change, Tell, "change", p.step
	r.Targets, r.State, r.Courses = p.effect.targets(), p.effect.worst(), p.rechecked.courses()
	if len(p.effect.order) == 0 {
		r.State, r.Weight, r.Says = Over, Detail, text("not begun")
		if len(p.lines) == 0 {
			r.Says = text("rechecked")
		}
	} else {
		r.Says = p.effect.saysFates()
	}
	if list := p.rechecked.says(); len(list) > 0 {
		r.Says = text(r.Says, "; rechecked, ", join(", ", list...))
	}
	undo := p.effect.commands(p.effect.undo, "undo: ")
	if len(undo) == 0 && len(p.effect.order) > 0 {
		undo = []Text{text(map[bool]string{true: "cannot be undone", false: "no undo in this runbook"}[p.cannot])}
		if p.loses != "" {
			undo[0] = text(undo[0], "; lost: ", p.loses)
		}
	}
	r.Below = bounded(slices.Concat(p.effect.commands(p.effect.shown, ""), undo, p.effect.outputs(), p.lines,
		p.rechecked.missing()))
}

// undoPart is the undo of a step's changes, on each target.
type undoPart struct {
	effect effect
	step   string
	lines  []Text
	looks  evidence
	left   map[string]string
}

func newUndo() part { return &undoPart{left: map[string]string{}} }

func (p *undoPart) add(e *entry) {
	if e.of.Title != "" || p.step == "" {
		p.step = e.title()
	}
	switch c := e.content.(type) {
	case incident.IntentContent:
		key := p.effect.at(e, c.Target)
		p.effect.shown[key], p.effect.state[key], p.effect.says[key] = c.Shown, Going, "being undone"
	case incident.AttemptContent:
		if e.Kind != incident.UndoDone && e.Kind != incident.ChangeReported {
			p.looks.take(e.Kind, c)
			return
		}
		key := p.effect.at(e, c.Target)
		p.effect.ends(key, e.Kind, c, "undo")
		if c.UndoFate == "" && c.State == "ok" {
			p.effect.says[key] = "undone"
		}
	case incident.JudgedContent:
		p.effect.becomes(p.effect.at(e, c.Target), c.Became, "undo")
		if c.Result != "passes" {
			p.lines = append(p.lines, text("undone, but not as it must be on ", Span{Text: here(c.Target), Is: Target},
				": ", c.Expression))
		}
	case incident.StepContent:
		p.left[c.Target] = c.Because
		key := p.effect.at(e, c.Target)
		p.effect.state[key], p.effect.says[key] = Bad, "not undone, "+c.Because
		if c.UndoFate != "" {
			p.effect.becomes(key, c.Became, "undo")
			p.effect.state[key] = worse(Bad, p.effect.state[key])
		}
	}
}

func (p *undoPart) draw(r *Row) {
	r.Lane, r.Weight, r.Word, r.Title = Change, Tell, "undo", p.step
	r.Targets, r.State, r.Says = p.effect.targets(), p.effect.worst(), p.effect.saysFates()
	if len(p.lines) > 0 {
		r.State = worse(Bad, r.State)
	}
	r.Below = bounded(slices.Concat(p.effect.commands(p.effect.shown, ""), p.effect.outputs(), p.lines,
		p.looks.missing()))
}

// undoingPart says that what was done is undone, and what came of it.
type undoingPart struct {
	n, left int
	ended   string
}

func newUndoing() part { return &undoingPart{} }

func (p *undoingPart) add(e *entry) {
	if c, ok := e.content.(incident.StepContent); ok {
		if e.Kind == incident.UndoPlanned {
			p.n, p.left = p.n+len(c.Touches), p.left+len(c.Left)
		} else {
			p.ended = c.Because
		}
	}
}

func (p *undoingPart) draw(r *Row) {
	r.Lane, r.Weight, r.Word, r.State = Change, Tell, "undo", Going
	r.Title = "Undoing " + plural(p.n, "change")
	if p.left > 0 {
		r.Below = []Text{text(plural(p.left, "change"), " cannot be undone")}
	}
	if p.ended != "" {
		r.State, r.Says = Over, text(p.ended)
	}
}

func plural(n int, of string) string {
	if n == 1 {
		return "1 " + of
	}
	return count(n) + " " + of + "s"
}

// touches are all changes of a record, and what became of them.
type touches struct {
	list     []*touch
	by       map[string]*touch
	approved map[string]approval // by the gate, or the question
	without  map[string][]string // reasons, by digest
	begunAt  time.Time
}

// touch is a change on one target.
type touch struct {
	run, step, title, target, shown, digest, under string
	became                                         incident.Became
	at                                             time.Time
}

// approval is a yes.
type approval struct {
	by, comment string
	at          time.Time
}

func newTouches() *touches {
	return &touches{by: map[string]*touch{}, approved: map[string]approval{}, without: map[string][]string{}}
}

func (t *touches) add(e *entry) {
	key := func(target string) string { return e.Run + "|" + e.Step + "|" + target }
	var target string
	var became incident.Became
	switch c := e.content.(type) {
	case incident.IntentContent:
		if e.Kind == incident.ChangeBegun && t.by[key(c.Target)] == nil {
			x := &touch{run: e.Run, step: e.step, title: e.title(), target: c.Target, shown: c.Shown,
				digest: c.Approval, under: c.Under, at: e.At, became: incident.Became{Fate: incident.UnderWay}}
			t.list, t.by[key(c.Target)] = append(t.list, x), x
			if t.begunAt.IsZero() {
				t.begunAt = e.At
			}
		}
		return
	case incident.DecidedContent:
		if e.Kind == incident.GateApproved {
			t.approved[c.Gate] = approval{e.Actor, c.Comment, e.At}
		}
		return
	case incident.AttemptContent:
		target, became = c.Target, c.Became
	case incident.JudgedContent:
		target, became = c.Target, c.Became
	case incident.AnswerContent:
		if e.Kind == incident.QuestionAnswered {
			t.approved[c.Question] = approval{e.Actor, c.Comment, e.At}
		}
		target, became = c.Target, c.Became
	case incident.StepContent:
		if e.Kind == incident.ChangeCleared && c.Approval == "" {
			t.without[c.Digest] = c.Reasons
		}
		target, became = c.Target, c.Became
	}
	if x := t.by[key(target)]; x != nil && became.Fate != "" {
		x.became = became
	}
}

// done writes what was done, step by step; what is unknown first.
func (t *touches) done() []Text {
	type group struct {
		title, says, run string
		targets          []string
		state            State
	}
	var groups []*group
	for _, x := range t.list {
		i := slices.IndexFunc(groups, func(g *group) bool {
			return g.title == x.title && g.says == x.became.Says && g.run == x.run
		})
		if i < 0 {
			i = len(groups)
			groups = append(groups, &group{title: x.title, says: x.became.Says, run: x.run,
				state: fateState(x.became.Fate)})
		}
		groups[i].targets = append(groups[i].targets, x.target)
	}
	slices.SortStableFunc(groups, func(a, b *group) int {
		return slices.Index(states, a.state) - slices.Index(states, b.state)
	})
	var out []Text
	for _, g := range groups {
		slices.SortFunc(g.targets, natural)
		line := text(g.title, " on ", named(slices.Compact(g.targets)))
		if g.says != "" && g.says != "done" {
			line = text(line, ": ", g.says)
		}
		out = append(out, line)
	}
	return out
}

// approvals writes by whom what was begun was approved.
func (t *touches) approvals() []Text {
	var out []Text
	seen := map[string]bool{}
	for _, x := range t.list {
		key := x.under
		if key == "" {
			key = x.digest
		}
		if seen[key] {
			continue
		}
		seen[key] = true
		if a, ok := t.approved[x.under]; ok {
			line := text(who(a.by), ", ", clock(a.at))
			if a.comment != "" {
				line = text(line, ": ", quote("“"+cut(plain.Line(a.comment))+"”"))
			}
			out = append(out, line)
		} else if why := t.without[x.digest]; len(why) > 0 {
			out = append(out, text("no approval needed: ", strings.Join(why, "; ")))
		}
	}
	return out
}

// left writes what is not as it was meant of what was begun.
func (t *touches) left() []Text {
	by := map[string][]string{}
	for _, x := range t.list {
		fate, undo := x.became.Fate, x.became.UndoFate
		open := fate == incident.NotKnown || fate == incident.UnderWay || fate == incident.DoneInPart ||
			fate == incident.FailedAfter
		if undo == incident.WasDone {
			open = false
		}
		if undo != "" && undo != incident.WasDone && undo != incident.NotBegun {
			open = true
		}
		if open {
			key := x.title + "|" + x.became.Says
			by[key] = append(by[key], x.target)
		}
	}
	var out []Text
	for _, k := range slices.Sorted(maps.Keys(by)) {
		title, says, _ := strings.Cut(k, "|")
		slices.SortFunc(by[k], natural)
		out = append(out, text(title, " on ", named(slices.Compact(by[k])), ": ", says))
	}
	return out
}

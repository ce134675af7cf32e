package runbook

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/doc"
	"urgentis/core/expr"
	"urgentis/core/route"
)

func (d *decoder) stepList(n ast.Node, prefix string, depth int) []*Step {
	items := d.List(n, "steps")
	if len(items) == 0 && d.steps == 0 {
		d.Fail(n, "the runbook has no steps")
	}
	if depth > MaxDepth {
		d.Fail(n, "steps may stand %d deep in one another", MaxDepth)
		return nil
	}
	out := []*Step{}
	for i, item := range items {
		if d.steps++; d.steps > MaxSteps {
			d.Fail(item, "a runbook may have %d steps", MaxSteps)
			return out
		}
		s := d.step(item, fmt.Sprintf("%s%d", prefix, i+1), depth)
		d.book.byPath[s.Path] = s
		out = append(out, s)
	}
	return out
}

// step decodes one step. Which keys it may have follows from its verb.
func (d *decoder) step(n ast.Node, place string, depth int) *Step {
	s := &Step{Path: place}
	if p := doc.Position(n); p != nil {
		s.Line, s.Column = p.Line, p.Column
	}
	known := d.common(s, place, depth)
	entries := d.Mapping(n, "a step")
	s.lines = make(map[string]int, len(entries))
	for _, e := range entries {
		if p := doc.Position(e.Node); p != nil {
			s.lines[e.Key] = p.Line
		}
		if v := Verb(e.Key); slices.Contains(Verbs, v) {
			if s.Verb != "" {
				d.Fail(e.Node, "this step has two verbs, %s and %s", s.Verb, v)
			}
			s.Verb = v
			known[e.Key] = func(n ast.Node) { s.Title = d.title(n) }
		}
	}
	if s.Verb == "" {
		d.noVerb(n, entries)
		return s
	}
	outer := *d
	d.inChange = d.inChange && s.Verb != Look && s.Verb != Check || s.Verb == Change
	if s.Verb == Each {
		// What an each gives to its steps is known before they are read.
		d.iteration(s, entries, place, depth)
	}
	d.verbKeys(s, known, place, depth)
	got := d.Fields(n, "a "+string(s.Verb), known)
	d.inChange, d.names = outer.inChange, outer.names
	if !d.Findings.Failed() {
		d.complete(s, n, got)
	}
	return s
}

// likeAnID makes an id of a word; "" where that cannot be.
func likeAnID(word string) string {
	id := strings.Map(func(r rune) rune {
		if r == '-' || r == ' ' {
			return '_'
		}
		return r
	}, strings.ToLower(word))
	if !idPattern.MatchString(id) {
		return ""
	}
	return id
}

// common are the keys of every step.
func (d *decoder) common(s *Step, place string, depth int) map[string]func(ast.Node) {
	return map[string]func(ast.Node){
		"id": func(n ast.Node) {
			if s.ID = d.Word(n, "id"); !idPattern.MatchString(s.ID) {
				d.At(
					doc.Position(n),
					0,
					false,
					"an id must be small letters, digits and _, and begin with a letter",
					likeAnID(s.ID),
				)
			}
			if other := d.book.byID[s.ID]; other != nil {
				d.Fail(n, "the step in line %d has the id %s already", other.Line, s.ID)
			}
			d.book.byID[s.ID] = s
		},
		"when":      func(n ast.Node) { s.When = d.condition(n, expr.InStep, "when") },
		"otherwise": func(n ast.Node) { s.Otherwise = d.stepList(n, place+".otherwise.", depth+1) },
		"on_error":  func(n ast.Node) { s.OnError = d.branch(n, "on_error", place+".", depth) },
	}
}

func (d *decoder) noVerb(n ast.Node, entries []doc.Entry) {
	names := make([]string, len(Verbs))
	for i, v := range Verbs {
		names[i] = string(v)
	}
	meant := ""
	if len(entries) > 0 {
		meant = doc.Nearest(entries[0].Key, names)
	}
	d.At(doc.Position(n), 0, false, "this step has no verb; it needs one of "+strings.Join(names, ", "), meant)
}

func (d *decoder) verbKeys(s *Step, known map[string]func(ast.Node), place string, depth int) {
	branch := func(name string, b *Branch) {
		known[name] = func(n ast.Node) { *b = d.branch(n, name, place+".", depth) }
	}
	text := func(name string, t **expr.Template) {
		known[name] = func(n ast.Node) { *t = d.template(n, expr.InStep, name) }
	}
	switch s.Verb {
	case Look, Change:
		s.Do = &Do{}
		d.doKeys(s.Do, known)
		known["where"] = func(n ast.Node) { s.Where = d.selector(n, "where") }
		known["timeout"] = func(n ast.Node) { s.Timeout = d.timeout(n) }
		s.Timeout = 30 * time.Second
	case Check, Wait:
		known["retake"] = func(n ast.Node) { s.Retake = d.Word(n, "retake") }
		known["again"] = func(n ast.Node) { s.Again = d.again(n) }
	case Call:
		s.Given = map[string]*expr.Template{}
		known["inputs"] = func(n ast.Node) {
			for _, e := range d.Mapping(n, "inputs") {
				s.Given[e.Key] = d.template(e.Value, expr.InStep, "an input")
			}
		}
	case Ask:
		d.askKeys(s, known, place, depth)
	case Each:
		known["steps"] = func(n ast.Node) { s.Steps = d.stepList(n, place+".do.", depth+1) }
		known["gate"] = func(n ast.Node) { s.Gate = d.gate(n, place, depth) }
		for _, k := range []string{"over", "where", "peers", "named", "at_once", "tolerate", "between"} {
			known[k] = func(ast.Node) {} // see iteration
		}
	case Together:
		known["gate"] = func(n ast.Node) { s.Gate = d.gate(n, place, depth) }
		known["branches"] = func(n ast.Node) { d.branches(n, s, place, depth) }
	case UndoChange:
		known["of"] = func(n ast.Node) { s.UndoOf = d.Word(n, "of") }
	case Tell:
		text("text", &s.Text)
		known["to"] = func(n ast.Node) { s.Tells = d.tells(n) }
		known["source"] = func(n ast.Node) {
			if s.Source = d.Word(n, "source"); s.Source != "acknowledge" && s.Source != "close" {
				d.Fail(n, "source can be told to acknowledge or close, not %s", s.Source)
			}
		}
	case Note:
		text("text", &s.Text)
	case Close, HandOver:
		text("because", &s.Because)
		text("cause", &s.Cause)
	}
	switch s.Verb {
	case Look:
		known["read"] = func(n ast.Node) { s.Read = d.readings(n) }
		known["again"] = func(n ast.Node) { s.Again = d.again(n) }
		known["fits"] = func(n ast.Node) { s.Fits = d.schemaOf(n) }
		known["at_once"] = func(n ast.Node) {
			if s.AtOnce = d.Integer(n, "at_once"); s.AtOnce < 1 || s.AtOnce > MaxAtOnce {
				d.Fail(n, "at_once is how many targets are looked at at once: a number from 1 to %d", MaxAtOnce)
			}
		}
		known["costly"] = func(n ast.Node) { s.Costly = d.only(n, "costly") }
		known["only_reads"] = func(n ast.Node) { s.OnlyReads = d.Word(n, "only_reads") }
	case Check:
		known["that"] = func(n ast.Node) { s.That = d.condition(n, expr.InStep, "that") }
		known["agrees"] = func(n ast.Node) { s.Agrees = d.agrees(n) }
		known["fits"] = func(n ast.Node) { s.Agrees = d.fits(n) }
		known["proves"] = func(n ast.Node) { s.Proves = d.Word(n, "proves") }
		branch("passes", &s.Passes)
		branch("fails", &s.Fails)
		branch("unsure", &s.Unsure)
	case Wait:
		known["for"] = func(n ast.Node) { s.WaitFor = d.Duration(n, "for") }
		known["until"] = func(n ast.Node) { s.That = d.condition(n, expr.InStep, "until") }
	case Change:
		d.changeKeys(s, known, place, depth)
	}
}

func (d *decoder) changeKeys(s *Step, known map[string]func(ast.Node), place string, depth int) {
	s.Timeout = time.Minute
	known["still"] = func(n ast.Node) { s.Still = d.condition(n, expr.InTarget, "still") }
	known["happened"] = func(n ast.Node) { s.Happened = d.condition(n, expr.InTarget, "happened") }
	known["fresh"] = func(n ast.Node) { s.Fresh = d.Duration(n, "fresh") }
	known["repeatable"] = func(n ast.Node) { s.Repeatable = d.Boolean(n, "repeatable") }
	known["gate"] = func(n ast.Node) { s.Gate = d.gate(n, place, depth) }
	known["steps"] = func(n ast.Node) { s.Steps = d.stepList(n, place+".do.", depth+1) }
	known["loses"] = func(n ast.Node) { s.Loses = d.plainLine(n, "loses", MaxLoses, "what is lost, and for whom") }
	known["undo"] = func(n ast.Node) {
		if w, ok := n.(*ast.StringNode); ok && w.Value == NoUndoWord {
			s.NoUndo = true
			return
		}
		s.Undo = &Do{}
		keys := map[string]func(ast.Node){}
		d.doKeys(s.Undo, keys)
		keys["that"] = func(n ast.Node) { s.UndoThat = d.condition(n, expr.InTarget, "that") }
		keys["only_if"] = func(n ast.Node) {
			if d.Word(n, "only_if") != "done" {
				d.Fail(n, "only_if of an undo is done: without it what failed after it had begun is undone too")
			}
			s.UndoOnlyIfDone = true
		}
		d.Fields(n, "undo", keys)
		if s.Undo.ways() != 1 {
			d.Fail(n, "undo needs one way of doing, such as run or http")
		}
	}
}

// NoUndoWord says in the place of an undo that there is none.
const NoUndoWord = "none"

func (d *decoder) timeout(n ast.Node) time.Duration {
	t := d.Duration(n, "timeout")
	if t > MaxJobTime {
		d.Fail(n, "a timeout may be an hour at most, or a day of a job elsewhere")
	}
	return t
}

func (d *decoder) branch(n ast.Node, name, place string, depth int) Branch {
	if _, ok := n.(*ast.SequenceNode); ok {
		return Branch{Steps: d.stepList(n, place+name+".", depth+1)}
	}
	w := d.Word(n, name)
	if words := []string{GoOn, Stop, UndoWord, HandOverWord}; !slices.Contains(words, w) {
		d.At(
			doc.Position(n),
			0,
			false,
			fmt.Sprintf("%s must be a list of steps, or one of: %s", name, strings.Join(words, ", ")),
			doc.Nearest(w, words),
		)
	}
	return Branch{Word: w}
}

func (d *decoder) selector(n ast.Node, what string) *Selector {
	s := &Selector{Labels: map[string]*expr.Template{}}
	if x, ok := n.(*ast.StringNode); ok {
		d.Fail(
			n,
			"%s selects targets by their labels or by name, as in %s: {role: %s} or %s: {name: %s}",
			what,
			what,
			x.Value,
			what,
			x.Value,
		)
		return s
	}
	for _, e := range d.Mapping(n, what) {
		switch e.Key {
		case "pick":
			if w := d.Word(e.Value, "pick"); w != "one" {
				d.Fail(e.Value, "pick can only be one; leave it out for all")
			}
			s.PickOne = true
		case "name":
			s.Name = d.template(e.Value, expr.InStep, "name")
		default:
			s.Labels[e.Key] = d.template(e.Value, expr.InStep, "label "+e.Key)
		}
	}
	return s
}

func (d *decoder) again(n ast.Node) *Again {
	a := &Again{}
	got := d.Fields(n, "again", map[string]func(ast.Node){
		"every":  func(n ast.Node) { a.Every = d.Duration(n, "every") },
		"for":    func(n ast.Node) { a.For = d.Duration(n, "for") },
		"times":  func(n ast.Node) { a.Times = d.Integer(n, "times") },
		"steady": func(n ast.Node) { a.Steady = d.Duration(n, "steady") },
	})
	if got["every"] == nil {
		d.Fail(n, "again needs every, as in again: {every: 10s, for: 5m}")
	}
	if (got["for"] == nil) == (got["times"] == nil) {
		d.Fail(n, "again needs an end: for, or times")
	}
	if got["times"] != nil && (a.Times < 1 || a.Times > 10000) {
		d.Fail(got["times"], "times must be from 1 to 10000")
	}
	if a.For > 24*time.Hour {
		d.Fail(n, "again may last a day at most")
	}
	d.pace(n, a)
	return a
}

// How often again may take a round: maxRounds in all, however they are said, and in less than a second only a few.
const (
	maxRounds     = 10_000
	maxQuick      = 600
	shortestQuick = 100 * time.Millisecond
)

func (d *decoder) pace(n ast.Node, a *Again) {
	if a.Every <= 0 {
		return
	}
	rounds := max(a.Times, int(a.For/a.Every))
	switch {
	case a.Every < shortestQuick:
		d.Fail(n, "every must be 100ms or longer")
	case a.Every < time.Second && rounds > maxQuick:
		d.Fail(n, "that is %d rounds; with less than 1s between them there may be %d", rounds, maxQuick)
	case rounds > maxRounds:
		d.Fail(n, "that is %d rounds; there may be %d", rounds, maxRounds)
	}
}

func (d *decoder) gate(n ast.Node, place string, depth int) *Gate {
	g := &Gate{Within: 30 * time.Minute}
	d.Fields(n, "gate", map[string]func(ast.Node){
		"ask": func(n ast.Node) { g.Ask = d.people(n, "ask") },
		"within": func(n ast.Node) {
			if g.Within = d.Duration(n, "within"); g.Within > 7*24*time.Hour {
				d.Fail(n, "a gate may wait 7 days at most")
			}
		},
		"comment": func(n ast.Node) { g.Comment = d.Boolean(n, "comment") },
		"people": func(n ast.Node) {
			if g.People = d.Integer(n, "people"); g.People < 1 || g.People > 5 {
				d.Fail(n, "people must be from 1 to 5")
			}
		},
		"refused":    func(n ast.Node) { g.Refused = d.branch(n, "refused", place+".", depth) },
		"unanswered": func(n ast.Node) { g.Unanswered = d.branch(n, "unanswered", place+".", depth) },
	})
	return g
}

// tells reads whom a tell is for: one word or a list, written out.
func (d *decoder) tells(n ast.Node) []string {
	list := []ast.Node{n}
	if s, ok := n.(*ast.SequenceNode); ok {
		list = s.Values
	}
	var out []string
	for _, item := range list {
		w := d.Word(item, "to")
		switch {
		case w != TicketWord && w != TicketOpenly && !route.IsWord(w):
			d.Fail(item, "%q is nobody: write team/NAME, on-call/NAME, person/NAME, room/NAME, connection/NAME, "+
				"%s or %s", w, TicketWord, TicketOpenly)
		case slices.Contains(out, w):
			d.Fail(item, "%s is told once", w)
		}
		out = append(out, w)
	}
	if len(out) == 0 || len(out) > maxTells {
		d.Fail(n, "a tell is for one to %d", maxTells)
	}
	return out
}

// maxTells bounds whom one tell is for.
const maxTells = 20

// people reads team/NAME or on-call/NAME: written out, never from readings or alerts.
func (d *decoder) people(n ast.Node, what string) string {
	w := d.Word(n, what)
	kind, name, ok := strings.Cut(w, "/")
	if !ok || kind != "team" && kind != "on-call" || !namePattern.MatchString(name) {
		meant := ""
		if !ok && namePattern.MatchString(w) {
			meant = "team/" + w
		}
		d.At(doc.Position(n), 0, false, what+" must be team/NAME or on-call/NAME, written out", meant)
	}
	return w
}

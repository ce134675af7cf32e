package runbook

import (
	"errors"
	"fmt"
	"maps"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/expr"
)

var accountPattern = regexp.MustCompile(`^[a-z_][a-z0-9_-]{0,31}$`)

// complete finds what one step lacks, and titles that are words with a meaning of their own.
func (d *decoder) complete(s *Step, n ast.Node, got map[string]ast.Node) {
	if s.Do != nil {
		d.completeDo(s, n, got)
	}
	switch s.Verb {
	case Look:
		d.completeLook(s, got)
	case Check:
		d.completeCheck(s, n, got)
	case Wait:
		d.completeWait(s, n, got)
	case Ask:
		if len(s.Ask.Choices) == 0 && len(s.Ask.Fields) == 0 {
			d.fail(n, "an ask needs choices or fields")
		}
		for k := range s.Ask.Suggest {
			if !slices.ContainsFunc(s.Ask.Fields, func(in Input) bool { return in.Name == k }) {
				d.fail(got["suggest"], "suggest names the field %s, which is not there", k)
			}
		}
	case Call:
		if s.Callee = s.Title; !namePattern.MatchString(s.Callee) {
			d.fail(got["call"], "call names a part or a runbook: small letters, digits and hyphens")
		}
		d.calls[d.caller()] = append(d.calls[d.caller()], callAt{s, n})
	case Each:
		switch it := s.Each; {
		case (it.Over != nil) == (it.Where != nil):
			d.fail(n, "an each needs over: LIST, or where: {LABEL: VALUE} for targets")
		case it.Peers != nil && it.Where == nil:
			d.fail(n, "peers go with where: each target with each of its peers")
		case len(s.Steps) == 0:
			d.fail(n, "an each needs steps")
		}
	case Together:
		if len(s.Branches) < 2 {
			d.fail(n, "a together needs at least two branches")
		}
	case Tell:
		if s.Text == nil && s.Source == "" {
			s.Text = plain(d, s.Title)
		}
	case Note:
		if s.Text == nil {
			d.fail(n, "a note needs text")
		}
	case Close:
		s.Outcome = s.Title
		if !slices.Contains(Outcomes, s.Outcome) {
			d.at(position(got["close"]), 0, false, "close needs an outcome: "+strings.Join(Outcomes, ", "), nearest(s.Outcome, Outcomes))
		}
		if s.Because == nil {
			d.fail(n, "close needs because: the record says why")
		}
	case HandOver:
		s.To = d.people(got["hand_over"], "hand_over")
		if s.Because == nil {
			d.fail(n, "hand_over needs because: whoever takes it must know why")
		}
	}
}

func (d *decoder) caller() string {
	if d.part {
		return d.book.Name
	}
	return ""
}

// altering are programs that a reader would not take for a look.
var altering = []string{"rm", "rmdir", "mv", "cp", "dd", "kill", "killall", "pkill", "reboot", "shutdown", "halt", "poweroff", "mkfs", "mount", "umount", "truncate", "tee", "chmod", "chown", "useradd", "userdel", "apt", "apt-get", "dnf", "yum", "sed"}

// readingSQL begins the statements that only read.
var readingSQL = []string{"select", "show", "with", "explain", "table", "values"}

func (d *decoder) completeLook(s *Step, got map[string]ast.Node) {
	for _, r := range s.Read {
		if old := d.book.takes[r.Name]; old != nil {
			d.fail(got["read"], "reading %s is taken by two looks", r.Name)
		}
		d.book.takes[r.Name] = s
	}
	if s.OnlyReads != "" {
		return
	}
	const way = "; if it only reads, say so: only_reads: \"why\""
	switch do := s.Do; {
	case do.HTTP != nil && do.HTTP.Method != "GET" && do.HTTP.Method != "HEAD":
		d.fail(got["http"], "a look only reads: use GET or HEAD, or make it a change"+way)
	case do.Send != nil:
		d.fail(got["send"], "a look only reads: sending a file is a change")
	case do.SQL != nil && do.SQL.Statement != "":
		if first := strings.ToLower(strings.Fields(do.SQL.Statement)[0]); !slices.Contains(readingSQL, first) {
			d.fail(got["sql"], "a look only reads: %s does more than that%s", strings.ToUpper(first), way)
		}
	case len(do.Run) > 0 && do.Run[0] != nil && slices.Contains(altering, path.Base(do.Run[0].Source)):
		d.fail(got["run"], "a reader would not call %s a look: make it a change%s", path.Base(do.Run[0].Source), way)
	}
}

func (d *decoder) completeCheck(s *Step, n ast.Node, got map[string]ast.Node) {
	forms := 0
	for _, k := range []string{"that", "agrees", "fits"} {
		if got[k] != nil {
			forms++
		}
	}
	if forms != 1 {
		d.fail(n, "a check needs that: CONDITION, or agrees, or fits")
	}
	if s.Again != nil && s.Retake == "" && s.waitsForAlert() {
		return
	}
	if s.Again != nil && s.Retake == "" {
		d.fail(got["again"], "again needs retake: without a new look the answer stays the same")
	}
}

// waitsForAlert reports whether the condition rests on the alert as it is now, which changes by itself.
func (s *Step) waitsForAlert() bool { return s.That != nil && len(s.That.Refers("alert_now")) > 0 }

func (d *decoder) completeWait(s *Step, n ast.Node, got map[string]ast.Node) {
	switch {
	case (s.WaitFor > 0) == (s.That != nil):
		d.fail(n, "a wait needs for: TIME, or until: CONDITION")
	case s.WaitFor > 7*24*time.Hour:
		d.fail(got["for"], "a wait may last 7 days at most")
	case s.WaitFor > 0 && (s.Again != nil || s.Retake != ""):
		d.fail(n, "a wait for a time takes nothing anew; use until for a condition")
	case s.That != nil && s.Again == nil:
		d.fail(n, "this wait has no end: give again, as in again: {every: 10s, for: 5m}")
	case s.That != nil && s.Retake == "" && !s.waitsForAlert():
		d.fail(n, "until needs retake: without a new look the answer stays the same")
	}
}

func plain(d *decoder, s string) *expr.Template {
	t, err := d.cel.CompileTemplate(s, expr.InStep)
	if err != nil {
		return nil
	}
	return t
}

func (d *decoder) completeDo(s *Step, n ast.Node, got map[string]ast.Node) {
	if got["interpreter"] != nil && got["script"] == nil {
		d.fail(got["interpreter"], "interpreter goes with script")
	}
	if s.Verb == Change && got["steps"] != nil {
		if s.Do.ways() > 0 || s.Where != nil || s.Still != nil || s.Undo != nil {
			d.fail(n, "a change with steps is a block: what is done stands in its steps")
		}
		s.Do = nil
		return
	}
	if s.Do.ways() != 1 {
		d.fail(n, "a %s needs one way of doing: run, script, http, sql, port, name, echo, send or fetch", s.Verb)
		return
	}
	item := slices.Contains(d.names.Names(), "target")
	if kind := s.Do.Kind(); s.Where == nil && !item && (kind == "ssh" || kind == "sql" || s.Do.Echo != nil || s.Do.Port != nil) {
		d.fail(n, "where does this run? give where: {LABEL: VALUE}, or from: here")
	}
	if s.Where != nil && s.Where.Name == nil && len(s.Where.Labels) == 0 {
		d.fail(got["where"], "where selects by name or by labels")
	}
	if s.Undo != nil && s.Undo.HTTP != nil && s.Do.HTTP == nil && s.Where == nil && !item {
		d.fail(got["undo"], "undo must act where the change acts")
	}
	if s.Again != nil && s.Again.Steady > 0 {
		d.fail(got["again"], "steady is for a check")
	}
	if s.Where == nil && !item {
		d.noTarget(s, got)
	}
	if s.Do.Plain && (s.Do.Env != nil || s.Do.Script != nil || s.Do.As != "") {
		d.fail(got["words"], "a device with plain words has no shell: env, script and as do not go with it")
	}
}

// noTarget refuses the names that only a target gives.
func (d *decoder) noTarget(s *Step, got map[string]ast.Node) {
	for key, do := range map[string]*Do{"": s.Do, "undo": s.Undo} {
		for _, t := range do.Templates() {
			for _, h := range t.Holes() {
				if len(h.Refers("target")) > 0 {
					n := got["http"]
					if n == nil {
						n = got["run"]
					}
					if key != "" {
						n = got[key]
					}
					d.fail(n, "there is no target here; give where: {LABEL: VALUE}")
					return
				}
			}
		}
	}
}

// Templates lists every text of a way of doing that may have holes.
func (do *Do) Templates() []*expr.Template {
	if do == nil {
		return nil
	}
	out := slices.Clone(do.Run)
	var add func(v *Value)
	add = func(v *Value) {
		if v == nil {
			return
		}
		out = append(out, v.Text)
		for _, x := range v.List {
			add(x)
		}
		for _, k := range keys(v.Map) {
			add(v.Map[k])
		}
	}
	sorted := func(m map[string]*expr.Template) {
		for _, k := range keys(m) {
			out = append(out, m[k])
		}
	}
	sorted(do.Env)
	out = append(out, do.Stdin, do.Fetch)
	add(do.Port)
	if h := do.HTTP; h != nil {
		out = append(out, h.URL)
		sorted(h.Headers)
		add(h.Body)
	}
	if q := do.SQL; q != nil {
		out = append(out, q.Database, q.User, q.Secret)
		for _, v := range q.With {
			add(v)
		}
		for _, k := range keys(q.Names) {
			out = append(out, q.Names[k].Is)
		}
	}
	if do.Name != nil {
		out = append(out, do.Name.Name)
	}
	if do.Send != nil {
		out = append(out, do.Send.To)
		add(do.Send.JSON)
	}
	return slices.DeleteFunc(out, func(t *expr.Template) bool { return t == nil })
}

// check finds what only shows in the whole: references, order, proofs, paths.
func (d *decoder) check(root ast.Node) {
	b := d.book
	line := func(s *Step, warning bool, meant, format string, args ...any) {
		d.findings = append(d.findings, Finding{Line: s.Line, Column: 1, Warning: warning, Message: fmt.Sprintf(format, args...), Meant: meant})
	}
	w := &whole{decoder: d, line: line, proved: map[string]bool{}}
	for _, s := range b.All() {
		w.references(s)
	}
	for _, l := range b.lists() {
		w.paths(l.steps, within{})
	}
	taken := map[string]bool{}
	for _, l := range b.lists() {
		w.order(l.steps, taken, nil)
	}
	for _, r := range b.Results {
		for _, h := range r.Value.Holes() {
			for _, n := range h.Refers("readings") {
				if !taken[n] {
					d.fail(root, "result %s uses reading %s, which no path takes", r.Name, n)
				}
			}
		}
	}
	if last := lastOf(b.Steps); last != nil && !d.part && !ends(b.Steps) {
		line(last, true, "", "a path ends here without close or hand_over: the incident stays open for a person")
	}
}

// whole checks what only shows in the whole.
type whole struct {
	*decoder
	line   lineFunc
	proved map[string]bool
}

func (w *whole) references(s *Step) {
	b, ids := w.book, keys(w.book.byID)
	if s.Retake != "" {
		if l := b.byID[s.Retake]; l == nil || l.Verb != Look {
			w.line(s, false, nearest(s.Retake, ids), "retake names no look: there is none with the id %s", s.Retake)
		} else if !strings.HasPrefix(s.Path, concurrent(b, l.Path)) {
			w.line(s, false, "", "look %s stands inside an each or a together: it can be retaken only there", s.Retake)
		}
	}
	if s.Proves != "" {
		if c := b.byID[s.Proves]; c == nil || c.Verb != Change {
			w.line(s, false, nearest(s.Proves, ids), "proves names no change: there is none with the id %s", s.Proves)
		}
		w.proved[s.Proves] = true
	}
	if q := s.Ask; q != nil {
		labels := map[string]bool{}
		for _, c := range q.Choices {
			if labels[strings.ToLower(c.Label)] {
				w.line(s, false, "", "nobody can reach the choice %s: another one has the same label", c.Name)
			}
			labels[strings.ToLower(c.Label)] = true
			if a := b.byID[c.Approves]; c.Approves != "" && (a == nil || a.Verb != Change) {
				w.line(s, false, nearest(c.Approves, ids), "approves names no change: there is none with the id %s", c.Approves)
			}
		}
	}
	for _, p := range s.programs() {
		for _, c := range p.Compared("answers") {
			if a := b.byID[c.Of]; a != nil && a.Ask != nil && c.Field == "choice" && !a.Ask.has(c.Value) {
				w.line(s, false, nearest(c.Value, a.Ask.names()), "the question %s has no choice %s", c.Of, c.Value)
			}
		}
	}
}

func (q *Question) names() []string {
	out := []string{NoneOfThese}
	for _, c := range q.Choices {
		out = append(out, c.Name)
	}
	return out
}

func (q *Question) has(name string) bool { return name == "" || slices.Contains(q.names(), name) }

// concurrent is the path up to and with the innermost each or branch of a together around a step; "" without one.
func concurrent(b *Book, place string) string {
	segs := strings.Split(place, ".")
	for i := len(segs) - 1; i > 0; i-- {
		if around := b.byPath[strings.Join(segs[:i], ".")]; around != nil {
			switch {
			case around.Verb == Each && segs[i] == "do":
				return strings.Join(segs[:i+1], ".") + "."
			case around.Verb == Together && segs[i] == "branches":
				return strings.Join(segs[:i+2], ".") + "."
			}
		}
	}
	return ""
}

// within says what stands around a step.
type within struct {
	concurrent bool // an each or a together
	gate       bool
	proved     bool // a block around is proved
}

// paths finds steps that nobody reaches, ends where others are still under way, and changes that nobody proves.
func (w *whole) paths(list []*Step, in within) {
	for i, s := range list {
		if i > 0 && ends(list[:i]) && !ends(list[:i-1]) {
			w.line(s, true, "", "nobody reaches this step: every path ends before it")
		}
		if (s.Verb == Close || s.Verb == HandOver) && in.concurrent {
			w.line(s, false, "", "%s cannot stand inside an each or a together, where other steps are under way: end the run after it", s.Verb)
		}
		inner := in
		inner.proved = in.proved || s.ID != "" && w.proved[s.ID]
		inner.gate = in.gate || s.Gate != nil
		inner.concurrent = in.concurrent || s.Verb == Each || s.Verb == Together
		if s.Verb == Change && s.Do != nil {
			if !inner.proved {
				w.line(s, true, "", "nothing proves this change: add a check with proves: ID that takes the reading again")
			}
			if s.Still == nil && inner.gate {
				w.line(s, true, "", "without still: nobody looks again between the approval and the change")
			}
		}
		for _, br := range s.branches() {
			w.paths(br.steps, inner)
		}
	}
}

type lineFunc func(s *Step, warning bool, meant, format string, args ...any)

// order walks the paths and finds readings that are used before any path takes them. known is what was
// taken when the gate around was raised; nil without one.
func (w *whole) order(list []*Step, taken, known map[string]bool) {
	for _, s := range list {
		w.uses(s, taken, known)
		for _, r := range s.Read {
			taken[r.Name] = true
		}
		if (s.Verb == Check || s.Verb == Wait) && s.ID != "" {
			taken["check "+s.ID] = true
		}
		inGate := known
		if s.Gate != nil && s.Do == nil {
			inGate = copied(taken)
		}
		after := map[string]bool{}
		for _, br := range s.branches() {
			inner := copied(taken)
			if s.Verb != Together {
				maps.Copy(inner, after)
			}
			if s.Ask != nil && s.ID != "" {
				inner["answer "+s.ID] = true
			}
			w.order(br.steps, inner, inGate)
			// Another path may have taken it; what is not there at run time is unsure, never guessed.
			maps.Copy(after, inner)
		}
		maps.Copy(taken, after)
		if s.Ask != nil && s.ID != "" {
			taken["answer "+s.ID] = true
		}
		if s.Verb == Call && s.ID != "" {
			taken["call "+s.ID] = true
		}
	}
}

func copied(m map[string]bool) map[string]bool {
	out := make(map[string]bool, len(m))
	maps.Copy(out, m)
	return out
}

func (w *whole) uses(s *Step, taken, known map[string]bool) {
	if look := w.book.byID[s.Retake]; look != nil && len(look.Read) > 0 && !taken[look.Read[0].Name] {
		w.line(s, false, "", "look %s is retaken before it was taken", s.Retake)
	}
	if s.Agrees != nil && !taken[s.Agrees.Reading] {
		w.line(s, false, "", "reading %s is used before any path takes it", s.Agrees.Reading)
	}
	for _, p := range s.programs() {
		for _, r := range p.Refers("readings") {
			if !taken[r] {
				w.line(s, false, "", "reading %s is used before any path takes it", r)
			}
		}
		for object, kind := range map[string]string{"checks": "check", "answers": "answer", "calls": "call"} {
			for _, c := range p.Refers(object) {
				if !taken[kind+" "+c] && c != s.ID {
					w.line(s, false, "", "%s %s is used before it is made", kind, c)
				}
			}
		}
	}
	if s.Verb != Change || s.Do == nil {
		return
	}
	for _, t := range slices.Concat(s.Do.Templates(), s.Undo.Templates()) {
		for _, h := range t.Holes() {
			if h.Calls("first") {
				w.line(s, true, "own", "first() takes the value of whichever target comes first by name")
			}
			for _, r := range h.Refers("readings") {
				if known != nil && !known[r] && h.Bound() == nil {
					w.line(s, false, "", "{{ %s }} is not known yet when the gate around stands: give it a bound, as in within(…, '[0-9]+')", h.Source)
				}
			}
		}
	}
}

// programs lists every expression of a step, without those of the steps in it.
func (s *Step) programs() []*expr.Program {
	out := []*expr.Program{s.When, s.That, s.Still, s.Happened}
	for _, t := range s.templates() {
		out = append(out, t.Holes()...)
	}
	if s.Ask != nil {
		out = append(out, s.Ask.AskAgain)
		for _, c := range s.Ask.Choices {
			out = append(out, c.Itself)
		}
	}
	if s.Each != nil {
		out = append(out, s.Each.Over)
	}
	return slices.DeleteFunc(out, func(p *expr.Program) bool { return p == nil })
}

func (s *Step) templates() []*expr.Template {
	out := slices.Concat(s.Do.Templates(), s.Undo.Templates(), []*expr.Template{s.Text, s.Because})
	sorted := func(m map[string]*expr.Template) {
		for _, k := range keys(m) {
			out = append(out, m[k])
		}
	}
	sorted(s.Given)
	if s.Ask != nil {
		out = append(out, s.Ask.Text)
		sorted(s.Ask.Suggest)
	}
	selectors := []*Selector{s.Where}
	if s.Each != nil {
		selectors = append(selectors, s.Each.Where, s.Each.Peers)
	}
	for _, sel := range selectors {
		if sel != nil {
			out = append(out, sel.Name)
			sorted(sel.Labels)
		}
	}
	return slices.DeleteFunc(out, func(t *expr.Template) bool { return t == nil })
}

// loops follows the calls of parts: what they are given, and that none calls itself in the end.
func (d *decoder) loops() {
	for _, list := range d.calls {
		for _, c := range list {
			p := d.book.Parts[c.step.Callee]
			if p == nil {
				continue
			}
			if err := p.takesInputs(c.step.Given); err != nil {
				d.fail(c.node, "%s", err)
			}
		}
	}
	var visit func(name string, trail []string) bool
	visit = func(name string, trail []string) bool {
		for _, c := range d.calls[name] {
			next := c.step.Callee
			if d.book.Parts[next] == nil {
				continue
			}
			if slices.Contains(trail, next) {
				d.fail(c.node, "part %s would call itself: %s", next, strings.Join(append(trail, next), " → "))
				return false
			}
			if len(trail) >= MaxCalls {
				d.fail(c.node, "calls may stand %d deep in one another", MaxCalls)
				return false
			}
			if !visit(next, append(slices.Clone(trail), next)) {
				return false
			}
		}
		return true
	}
	visit("", nil)
	for _, p := range keys(d.book.Parts) {
		if !visit(p, []string{p}) {
			return
		}
	}
}

// takesInputs compares what a call gives with what is taken.
func (b *Book) takesInputs(given map[string]*expr.Template) error {
	var names []string
	for _, in := range b.Inputs {
		names = append(names, in.Name)
		if in.Default == nil && given[in.Name] == nil {
			return fmt.Errorf("the call does not give %s the input %s, which has no default", b.Name, in.Name)
		}
	}
	for _, k := range keys(given) {
		if !slices.Contains(names, k) {
			f := Finding{Message: fmt.Sprintf("%s has no input %s", b.Name, k), Meant: nearest(k, names)}
			return errors.New(f.sentence())
		}
	}
	return nil
}

// Link gives the book with the other runbooks that it calls, and those that they call. lookup returns nil
// for a runbook that is not there. Findings tell what is missing, given wrongly, or called in a circle.
func (b *Book) Link(lookup func(name string) *Book) (*Book, Findings) {
	l := &linker{lookup: lookup, done: map[string]*Book{}}
	out := l.link(b, []string{b.Name})
	if l.findings.Failed() {
		return nil, l.findings
	}
	return out, l.findings
}

type linker struct {
	lookup   func(string) *Book
	done     map[string]*Book
	findings Findings
}

func (l *linker) fail(s *Step, meant, format string, args ...any) {
	l.findings = append(l.findings, Finding{Line: s.Line, Column: 1, Message: fmt.Sprintf(format, args...), Meant: meant})
}

func (l *linker) link(b *Book, trail []string) *Book {
	out := *b
	out.linked = map[string]*Book{}
	if b.Parts != nil && b.linked == nil {
		out.Parts = map[string]*Book{}
		for n, p := range b.Parts {
			c := *p
			c.linked, c.Parts = out.linked, out.Parts
			out.Parts[n] = &c
		}
	}
	for _, s := range b.allCalls() {
		if b.Parts[s.Callee] != nil || out.linked[s.Callee] != nil {
			continue
		}
		if slices.Contains(trail, s.Callee) {
			l.fail(s, "", "runbook %s would call itself: %s", s.Callee, strings.Join(append(trail, s.Callee), " → "))
			continue
		}
		if len(trail) > MaxCalls {
			l.fail(s, "", "calls may stand %d deep in one another", MaxCalls)
			continue
		}
		callee := l.done[s.Callee]
		if callee == nil {
			found := l.lookup(s.Callee)
			if found == nil {
				l.fail(s, "", "there is no part and no runbook %s to call", s.Callee)
				continue
			}
			callee = l.link(found, append(slices.Clone(trail), s.Callee))
			l.done[s.Callee] = callee
		}
		if err := callee.takesInputs(s.Given); err != nil {
			l.fail(s, "", "%s", err)
		}
		out.linked[s.Callee] = callee
	}
	return &out
}

// allCalls lists the calls of the runbook and of its parts.
func (b *Book) allCalls() []*Step {
	var out []*Step
	books := []*Book{b}
	for _, n := range keys(b.Parts) {
		books = append(books, b.Parts[n])
	}
	for _, x := range books {
		for _, s := range x.All() {
			if s.Verb == Call {
				out = append(out, s)
			}
		}
	}
	return out
}

// Calls lists the other runbooks that this one calls, by name.
func (b *Book) Calls() []string {
	var out []string
	for _, s := range b.allCalls() {
		if b.Parts[s.Callee] == nil && !slices.Contains(out, s.Callee) {
			out = append(out, s.Callee)
		}
	}
	slices.Sort(out)
	return out
}

func lastOf(list []*Step) *Step {
	if len(list) == 0 {
		return nil
	}
	return list[len(list)-1]
}

// ends reports whether every path through the list ends the run.
func ends(list []*Step) bool {
	for _, s := range list {
		if s.When != nil {
			continue
		}
		switch s.Verb {
		case Close, HandOver:
			return true
		case Check:
			word := func(b Branch, def string) bool {
				b = b.Or(def)
				return b.Word != "" && b.Word != GoOn || b.Steps != nil && ends(b.Steps)
			}
			if word(s.Passes, GoOn) && word(s.Fails, HandOverWord) && word(s.Unsure, HandOverWord) {
				return true
			}
		case Ask:
			if len(s.Ask.Choices) > 0 && s.Ask.AskAgain == nil && !slices.ContainsFunc(s.Ask.Choices, func(c Choice) bool { return !ends(c.Steps) }) {
				return true
			}
		}
	}
	return false
}

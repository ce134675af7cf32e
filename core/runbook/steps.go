package runbook

import (
	"fmt"
	"net/textproto"
	"path"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/expr"
)

func (d *decoder) stepList(n ast.Node, prefix string, depth int) []*Step {
	items := d.list(n, "steps")
	if len(items) == 0 && d.steps == 0 {
		d.fail(n, "the runbook has no steps")
	}
	if depth > MaxDepth {
		d.fail(n, "steps may stand %d deep in one another", MaxDepth)
		return nil
	}
	out := []*Step{}
	for i, item := range items {
		if d.steps++; d.steps > MaxSteps {
			d.fail(item, "a runbook may have %d steps", MaxSteps)
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
	if p := position(n); p != nil {
		s.Line = p.Line
	}
	known := map[string]func(ast.Node){
		"id": func(n ast.Node) {
			if s.ID = d.word(n, "id"); !idPattern.MatchString(s.ID) {
				d.fail(n, "an id must be small letters, digits and _, and begin with a letter")
			}
			if d.book.byID[s.ID] != nil {
				d.fail(n, "there are two steps with the id %s", s.ID)
			}
			d.book.byID[s.ID] = s
		},
		"when":      func(n ast.Node) { s.When = d.condition(n, expr.InStep, "when") },
		"otherwise": func(n ast.Node) { s.Otherwise = d.stepList(n, place+".otherwise.", depth+1) },
	}
	entries := d.mapping(n, "a step")
	for _, e := range entries {
		if v := Verb(e.key); slices.Contains(Verbs, v) {
			if s.Verb != "" {
				d.fail(e.node, "this step has two verbs, %s and %s", s.Verb, v)
			}
			s.Verb = v
			known[e.key] = func(n ast.Node) { s.Title = d.title(n) }
		}
	}
	if s.Verb == "" {
		d.noVerb(n, entries)
		return s
	}
	d.inChange = s.Verb == Change
	d.verbKeys(s, known, place, depth)
	got := d.fields(n, "a "+string(s.Verb), known)
	d.inChange = false
	if !d.findings.Failed() {
		d.complete(s, n, got)
	}
	return s
}

func (d *decoder) noVerb(n ast.Node, entries []entry) {
	names := make([]string, len(Verbs))
	for i, v := range Verbs {
		names[i] = string(v)
	}
	meant := ""
	if len(entries) > 0 {
		meant = nearest(entries[0].key, names)
	}
	d.at(position(n), 0, false, "this step has no verb; it needs one of "+strings.Join(names, ", "), meant)
}

func (d *decoder) verbKeys(s *Step, known map[string]func(ast.Node), place string, depth int) {
	branch := func(name string, b *Branch) {
		known[name] = func(n ast.Node) { *b = d.branch(n, name, place, depth) }
	}
	switch s.Verb {
	case Look, Change:
		s.Do = &Do{}
		d.doKeys(s.Do, known)
		known["where"] = func(n ast.Node) { s.Where = d.selector(n) }
		known["timeout"] = func(n ast.Node) { s.Timeout = d.timeout(n) }
		s.Timeout = 30 * time.Second
	case Check:
		known["that"] = func(n ast.Node) { s.That = d.condition(n, expr.InStep, "that") }
		known["retake"] = func(n ast.Node) { s.Retake = d.word(n, "retake") }
		known["proves"] = func(n ast.Node) { s.Proves = d.word(n, "proves") }
		branch("passes", &s.Passes)
		branch("fails", &s.Fails)
		branch("unsure", &s.Unsure)
	case Tell:
		known["text"] = func(n ast.Node) { s.Text = d.template(n, expr.InStep, "text") }
		known["source"] = func(n ast.Node) {
			if s.Source = d.word(n, "source"); s.Source != "acknowledge" && s.Source != "close" {
				d.fail(n, "source can be told to acknowledge or close, not %s", s.Source)
			}
		}
	case Note:
		known["text"] = func(n ast.Node) { s.Text = d.template(n, expr.InStep, "text") }
	case Close:
		known["because"] = func(n ast.Node) { s.Because = d.template(n, expr.InStep, "because") }
	case HandOver:
		known["because"] = func(n ast.Node) { s.Because = d.template(n, expr.InStep, "because") }
	}
	switch s.Verb {
	case Look:
		known["read"] = func(n ast.Node) { s.Read = d.readings(n) }
		known["again"] = func(n ast.Node) { s.Again = d.again(n) }
	case Check:
		known["again"] = func(n ast.Node) { s.Again = d.again(n) }
	case Change:
		s.Timeout = time.Minute
		known["still"] = func(n ast.Node) { s.Still = d.condition(n, expr.InTarget, "still") }
		known["repeatable"] = func(n ast.Node) { s.Repeatable = d.boolean(n, "repeatable") }
		known["gate"] = func(n ast.Node) { s.Gate = d.gate(n, place, depth) }
		known["undo"] = func(n ast.Node) {
			s.Undo = &Do{}
			keys := map[string]func(ast.Node){}
			d.doKeys(s.Undo, keys)
			d.fields(n, "undo", keys)
			if len(s.Undo.Run) == 0 && s.Undo.HTTP == nil {
				d.fail(n, "undo needs run or http")
			}
		}
	}
}

func (d *decoder) doKeys(do *Do, known map[string]func(ast.Node)) {
	known["run"] = func(n ast.Node) { do.Run = d.words(n) }
	known["http"] = func(n ast.Node) { do.HTTP = d.http(n) }
	known["from"] = func(n ast.Node) {
		if w := d.word(n, "from"); w != "here" {
			d.fail(n, "from can only be here: commands run on their targets, or on this host")
		}
		do.FromHere = true
	}
	known["as"] = func(n ast.Node) {
		if do.As = d.word(n, "as"); !accountPattern.MatchString(do.As) {
			d.fail(n, "as must be the name of an account")
		}
	}
	known["accept"] = func(n ast.Node) {
		for _, x := range d.list(n, "accept") {
			do.Accept = append(do.Accept, d.integer(x, "an exit to accept"))
		}
	}
}

func (d *decoder) timeout(n ast.Node) time.Duration {
	t := d.duration(n, "timeout")
	if t > time.Hour {
		d.fail(n, "a timeout may be an hour at most")
	}
	return t
}

func (d *decoder) branch(n ast.Node, name, place string, depth int) Branch {
	if _, ok := n.(*ast.SequenceNode); ok {
		return Branch{Steps: d.stepList(n, place+"."+name+".", depth+1)}
	}
	w := d.word(n, name)
	if w != GoOn && w != Stop && w != HandOverWord {
		d.at(position(n), 0, false, fmt.Sprintf("%s must be a list of steps, or one of: %s, %s, %s", name, GoOn, Stop, HandOverWord),
			nearest(w, []string{GoOn, Stop, HandOverWord}))
	}
	return Branch{Word: w}
}

func (d *decoder) selector(n ast.Node) *Selector {
	s := &Selector{Labels: map[string]*expr.Template{}}
	for _, e := range d.mapping(n, "where") {
		switch e.key {
		case "pick":
			if w := d.word(e.value, "pick"); w != "one" {
				d.fail(e.value, "pick can only be one; leave it out for all")
			}
			s.PickOne = true
		case "name":
			s.Name = d.template(e.value, expr.InStep, "name")
		default:
			s.Labels[e.key] = d.template(e.value, expr.InStep, "label "+e.key)
		}
	}
	return s
}

func (d *decoder) words(n ast.Node) []*expr.Template {
	var out []*expr.Template
	items := d.list(n, "run")
	if len(items) == 0 {
		d.fail(n, "run needs at least the name of a program")
		return nil
	}
	if len(items) > MaxWords {
		d.fail(n, "run may have %d words", MaxWords)
		return nil
	}
	for _, x := range items {
		out = append(out, d.template(x, expr.InTarget, "a word"))
	}
	if !slices.Contains(out, nil) {
		d.dataNotCode(items, out)
	}
	return out
}

// interpreters read a word of theirs as program text. The value tells the options that say so;
// nil: any word may be program text.
var interpreters = map[string][]string{
	"sh": {"-c"}, "bash": {"-c"}, "dash": {"-c"}, "zsh": {"-c"}, "ksh": {"-c"}, "ash": {"-c"}, "busybox": nil,
	"python": {"-c"}, "python3": {"-c"}, "perl": {"-e", "-E"}, "ruby": {"-e"}, "node": {"-e", "-p", "--eval"}, "php": {"-r"},
	"awk": nil, "gawk": nil, "mawk": nil, "sed": nil, "eval": nil, "ssh": nil, "psql": {"-c", "--command"}, "mysql": {"-e", "--execute"}, "su": {"-c"},
}

// wrappers run the command that follows them.
var wrappers = []string{"sudo", "env", "nice", "ionice", "nohup", "timeout", "setsid", "xargs", "doas", "stdbuf", "chroot", "flock"}

// dataNotCode refuses a command in which a value from outside could become program text.
func (d *decoder) dataNotCode(nodes []ast.Node, words []*expr.Template) {
	if len(words[0].Holes()) > 0 {
		d.fail(nodes[0], "the program must be written out: a value from outside may be an argument, never the program")
		return
	}
	i := 0
	for i < len(words)-1 && slices.Contains(wrappers, path.Base(words[i].Source)) {
		for i++; i < len(words)-1 && (strings.HasPrefix(words[i].Source, "-") || strings.Contains(words[i].Source, "=") || strings.Trim(words[i].Source, "0123456789.smh") == ""); i++ {
		}
		if len(words[i].Holes()) > 0 {
			d.fail(nodes[i], "the program must be written out: a value from outside may be an argument, never the program")
			return
		}
	}
	program := path.Base(words[i].Source)
	flags, known := interpreters[program]
	if !known {
		return
	}
	code := flags == nil
	for _, w := range words[i+1:] {
		for _, f := range flags {
			short := len(f) == 2 && strings.HasPrefix(w.Source, "-") && !strings.HasPrefix(w.Source, "--") && strings.Contains(w.Source, f[1:])
			code = code || short || w.Source == f || strings.HasPrefix(w.Source, f+"=")
		}
	}
	for j := i + 1; j < len(words) && code; j++ {
		if len(words[j].Holes()) > 0 {
			d.fail(nodes[j], "%s would read this as program text: a value from outside may be an argument of a program, never text for an interpreter", program)
		}
	}
}

func (d *decoder) http(n ast.Node) *HTTP {
	h := &HTTP{Method: "GET", Headers: map[string]*expr.Template{}}
	var url ast.Node
	d.fields(n, "http", map[string]func(ast.Node){
		"method": func(n ast.Node) {
			h.Method = d.word(n, "method")
			if !slices.Contains([]string{"GET", "HEAD", "POST", "PUT", "PATCH", "DELETE"}, h.Method) {
				d.fail(n, "method must be GET, HEAD, POST, PUT, PATCH or DELETE")
			}
		},
		"url": func(n ast.Node) { url = n; h.URL = d.template(n, expr.InTarget, "url") },
		"headers": func(n ast.Node) {
			for _, e := range d.mapping(n, "headers") {
				h.Headers[textproto.CanonicalMIMEHeaderKey(e.key)] = d.template(e.value, expr.InTarget, "a header")
			}
		},
		"body": func(n ast.Node) {
			where := expr.InTarget
			h.Body = d.value(n, where, 0)
		},
	})
	switch {
	case url == nil:
		d.fail(n, "http needs a url")
	case h.URL != nil && !strings.HasPrefix(h.URL.Source, "http://") && !strings.HasPrefix(h.URL.Source, "https://"):
		d.fail(url, "a url begins with http:// or https://")
	case h.URL != nil:
		for _, p := range h.URL.HostHoles() {
			if len(p.Refers("target")) == 0 || len(p.Refers("alert"))+len(p.Refers("inputs"))+len(p.Refers("readings")) > 0 {
				d.fail(url, "the host of a url must be written out or come from the target, as in http://{{ target.address }}/")
			}
		}
	}
	return h
}

func (d *decoder) again(n ast.Node) *Again {
	a := &Again{}
	got := d.fields(n, "again", map[string]func(ast.Node){
		"every":  func(n ast.Node) { a.Every = d.duration(n, "every") },
		"for":    func(n ast.Node) { a.For = d.duration(n, "for") },
		"times":  func(n ast.Node) { a.Times = d.integer(n, "times") },
		"steady": func(n ast.Node) { a.Steady = d.duration(n, "steady") },
	})
	if got["every"] == nil {
		d.fail(n, "again needs every, as in again: {every: 10s, for: 5m}")
	}
	if (got["for"] == nil) == (got["times"] == nil) {
		d.fail(n, "again needs an end: for, or times")
	}
	if got["times"] != nil && (a.Times < 1 || a.Times > 10000) {
		d.fail(got["times"], "times must be from 1 to 10000")
	}
	if a.For > 24*time.Hour {
		d.fail(n, "again may last a day at most")
	}
	return a
}

func (d *decoder) gate(n ast.Node, place string, depth int) *Gate {
	g := &Gate{Within: 30 * time.Minute}
	d.fields(n, "gate", map[string]func(ast.Node){
		"ask": func(n ast.Node) { g.Ask = d.people(n, "ask") },
		"within": func(n ast.Node) {
			if g.Within = d.duration(n, "within"); g.Within > 7*24*time.Hour {
				d.fail(n, "a gate may wait 7 days at most")
			}
		},
		"comment":    func(n ast.Node) { g.Comment = d.boolean(n, "comment") },
		"refused":    func(n ast.Node) { g.Refused = d.branch(n, "refused", place, depth) },
		"unanswered": func(n ast.Node) { g.Unanswered = d.branch(n, "unanswered", place, depth) },
	})
	return g
}

// people reads team/NAME or on-call/NAME: written out, never from readings or alerts.
func (d *decoder) people(n ast.Node, what string) string {
	w := d.word(n, what)
	kind, name, ok := strings.Cut(w, "/")
	if !ok || kind != "team" && kind != "on-call" || !namePattern.MatchString(name) {
		d.fail(n, "%s must be team/NAME or on-call/NAME, written out", what)
	}
	return w
}

package estate

import (
	"net/netip"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/alert"
	"urgentis/core/doc"
	"urgentis/core/expr"
	"urgentis/core/field"
	"urgentis/core/message"
	"urgentis/core/source"
)

// decoder decodes one document.
type decoder struct {
	*doc.Text
	d   *Document
	cel *expr.Compiler
	// names are what expressions see.
	names []string
}

// where is the place of an expression of the document.
func (x *decoder) where() expr.Where {
	w := expr.InReport
	for _, n := range x.names {
		w = w.With(n, "")
	}
	return w
}

// name takes the name of the document.
func (x *decoder) name(n ast.Node) {
	if x.d.Name = x.Word(n, "name"); !namePattern.MatchString(x.d.Name) {
		x.Fail(n, "name must be small letters, digits and hyphens, and begin with a letter")
	}
}

func (x *decoder) source(root ast.Node) {
	s := &source.Source{
		Takes:   x.before(root, "takes", source.Takes),
		Reports: x.before(root, "reports", source.Reports),
	}
	x.d.Source = s
	x.names = source.Names(s.Takes)
	got := x.Fields(root, "a source", x.sourceKeys(s))
	if s.Name = x.d.Name; s.Name == "urgentis" {
		x.Fail(got["name"], "urgentis is the source of the service's own alerts; give it another name")
	}
	if x.Findings.Failed() {
		return // a key that is misspelt is not missing as well
	}
	if got["name"] == nil {
		x.Fail(root, "the source has no name")
	}
	if s.Proves(source.Network) && len(s.From) == 0 {
		x.Fail(
			root,
			"from is missing: without keys, what may report is known by its network, such as from: [10.1.0.0/16]",
		)
	}
	if got["zone"] != nil && s.Takes != source.Syslog {
		x.Fail(got["zone"], "zone is for sources that take syslog, whose times may name none")
	}
	if s.Reports != source.OfTickets {
		for _, k := range []string{"desk", "echo"} {
			if got[k] != nil {
				x.Fail(got[k], "%s is for sources that report tickets", k)
			}
		}
	}
	switch s.Reports {
	case source.OfDeployments:
		x.deployments(got, s)
		return
	case source.OfTickets:
		x.tickets(root, got, s)
		return
	}
	x.mapped(root, got, s)
}

// deployments sees to it that what is said of a source of deployments has a meaning.
func (x *decoder) deployments(got map[string]ast.Node, s *source.Source) {
	if s.Takes != source.HTTP {
		x.Fail(got["takes"], "deployments are taken by HTTP")
	}
	for _, k := range []string{"cleared", "over_after", "silent_after"} {
		if got[k] != nil {
			x.Fail(got[k], "%s is about alerts; this source reports deployments", k)
		}
	}
	if got["map"] != nil && s.Map["service"] == nil {
		x.Fail(got["map"], "map has no service")
	}
}

// TellBackWords are what a source may be told of an alert.
var TellBackWords = []string{"acknowledge", "close"}

// inTellBack is what requests back to a source see.
var inTellBack = expr.InReport.With("alert", "").With("incident", "")

// tellBack decodes how a source is told what becomes of its alerts.
func (x *decoder) tellBack(n ast.Node) {
	x.d.TellBack = map[string]*message.Request{}
	keys := map[string]func(ast.Node){}
	for _, do := range TellBackWords {
		keys[do] = func(n ast.Node) { x.d.TellBack[do] = x.request(n, do, inTellBack) }
	}
	x.Fields(n, "tell_back", keys)
}

// tickets sees to it that a source through which a desk tells of its tickets knows them, and its own echo: without that
// there would be a loop.
func (x *decoder) tickets(root ast.Node, got map[string]ast.Node, s *source.Source) {
	x.need(root, got, "source of tickets", "desk", "map", "echo")
	if s.Takes != source.HTTP && s.Takes != source.Mail {
		x.Fail(got["takes"], "tickets are told by HTTP or by mail")
	}
	if got["map"] != nil && s.Map["ticket"] == nil {
		x.Fail(got["map"], "map has no ticket: the number by which the desk names it")
	}
	for _, k := range []string{"over_after", "ignore"} {
		if got[k] != nil {
			x.Fail(got[k], "%s is about alerts; this source reports tickets", k)
		}
	}
}

// before reads a word before the rest is read, which rests on it; the first of the words stands where there is none.
func (x *decoder) before(root ast.Node, key string, words []string) string {
	n := valueOf(root, key)
	if n == nil {
		return words[0]
	}
	return x.oneOf(n, key, words)
}

// oneOf reads one of several words; another one is an error, and gives the first.
func (x *decoder) oneOf(n ast.Node, what string, words []string) string {
	w := x.Word(n, what)
	if slices.Contains(words, w) {
		return w
	}
	x.At(doc.Position(n), 0, false, what+" must be one of "+strings.Join(words, ", ")+", not "+w, doc.Nearest(w, words))
	return words[0]
}

// sourceKeys are the keys of a source.
func (x *decoder) sourceKeys(s *source.Source) map[string]func(ast.Node) {
	return map[string]func(ast.Node){
		"urgentis": func(ast.Node) {},
		"name":     x.name,
		"takes":    func(ast.Node) {}, // read before
		"reports":  func(ast.Node) {}, // read before
		"proof":    func(n ast.Node) { x.proof(n, s) },
		"from": func(n ast.Node) {
			for _, w := range x.List(n, "from") {
				s.From = append(s.From, x.network(w))
			}
		},
		"zone": func(n ast.Node) { s.Zone = x.Zone(n, "zone") },
		"rate": func(n ast.Node) {
			if s.Rate = x.Integer(n, "rate"); s.Rate < 1 || s.Rate > source.MaxRate {
				x.Fail(n, "rate is how many reports are taken in a second, from 1 to %d", source.MaxRate)
			}
		},
		"each":         func(n ast.Node) { s.Each = x.expression(n, "each") },
		"map":          func(n ast.Node) { x.fieldMap(n, s) },
		"cleared":      func(n ast.Node) { s.Cleared = x.condition(n, "cleared") },
		"ignore":       func(n ast.Node) { s.Ignore = x.condition(n, "ignore") },
		"silent_after": func(n ast.Node) { s.SilentAfter = x.Duration(n, "silent_after") },
		"tell_back":    func(n ast.Node) { x.tellBack(n) },
		"desk":         func(n ast.Node) { s.Desk = x.Word(n, "desk") },
		"echo":         func(n ast.Node) { s.Echo = x.condition(n, "echo") },
		"over_after":   func(n ast.Node) { s.OverAfter = x.Duration(n, "over_after") },
	}
}

func (x *decoder) proof(n ast.Node, s *source.Source) {
	ways := source.WaysOf(s.Takes)
	for _, w := range x.List(n, "proof") {
		way := x.Word(w, "proof")
		if !slices.Contains(ways, way) {
			x.At(doc.Position(w), 0, false, "there is no proof "+way+" of what comes by "+s.Takes+"; they are "+
				strings.Join(ways, ", "), doc.Nearest(way, ways))
		}
		s.Proof = append(s.Proof, way)
	}
	if len(s.Proof) == 0 {
		x.Fail(n, "proof is empty: then nothing can be reported")
	}
}

// network reads a network, or an address, which is one of its own.
func (x *decoder) network(n ast.Node) netip.Prefix {
	w := x.Word(n, "from")
	if p, err := netip.ParsePrefix(w); err == nil {
		return p.Masked()
	}
	a, err := netip.ParseAddr(w)
	if err != nil {
		x.Fail(n, "%s is no network; write it like 10.1.0.0/16, or 0.0.0.0/0 for any", w)
		return netip.Prefix{}
	}
	return netip.PrefixFrom(a, a.BitLen())
}

// mapped sees to it that what is mapped is mapped whole. What takes syslog or traps has a map of its own without one.
func (x *decoder) mapped(root ast.Node, got map[string]ast.Node, s *source.Source) {
	if got["map"] != nil {
		for _, k := range []string{"severity", "summary"} {
			if s.Map[k] == nil {
				x.Fail(got["map"], "map has no %s", k)
			}
		}
		return
	}
	for _, k := range []string{"each", "cleared", "ignore"} {
		if got[k] != nil {
			x.Fail(got[k], "%s needs a map: without one %s", k, withoutMap[s.Takes])
		}
	}
	if s.Takes == source.Mail {
		x.Fail(root, "what comes by mail needs a map: how it is read is known to nobody else")
	}
	if text := standardMaps[s.Takes]; text != "" && !x.Findings.Failed() {
		x.standard(text, s)
	}
}

// fieldMap decodes how the fields of a report are had.
func (x *decoder) fieldMap(n ast.Node, s *source.Source) {
	s.Map = map[string]*field.Field{}
	known := map[string]func(ast.Node){
		"labels": func(n ast.Node) {
			s.Labels = map[string]*field.Field{}
			for _, e := range x.Mapping(n, "labels") {
				if e.Value == nil {
					x.Fail(e.Node, "%s has no value", e.Key)
					continue
				}
				s.Labels[e.Key] = x.field(e.Value, "labels."+e.Key)
			}
		},
	}
	names := source.FieldNames
	switch s.Reports {
	case source.OfDeployments:
		names = source.DeploymentFields
		delete(known, "labels")
	case source.OfTickets:
		names = source.TicketFields
		delete(known, "labels")
	}
	for _, name := range names {
		known[name] = func(n ast.Node) { s.Map[name] = x.field(n, name) }
	}
	x.Fields(n, "map", known)
}

// field decodes how one field is had: a text, or a mapping with of.
func (x *decoder) field(n ast.Node, what string) *field.Field { return x.fields().Read(n, what) }

func (x *decoder) fields() *field.Reader {
	return &field.Reader{Text: x.Text, Cel: x.cel, Where: x.where(), Meant: x.meant,
		Check: func(n ast.Node, what, word string) {
			x.severity(n, what, word)
			if _, err := source.Moment(word); what == "at" && err != nil {
				x.Fail(n, "%s: %s", what, err)
			}
		}}
}

// severity refuses a word that is no severity where one is wanted.
func (x *decoder) severity(n ast.Node, what, word string) {
	if what != "severity" || slices.Contains(alert.Severities(), word) {
		return
	}
	x.At(doc.Position(n), 0, false, "there is no severity "+word+"; they are "+
		strings.Join(alert.Severities(), ", "), doc.Nearest(word, alert.Severities()))
}

func (x *decoder) expression(n ast.Node, what string) *expr.Program {
	p, err := x.cel.Compile(x.Word(n, what), x.where())
	if err != nil {
		x.Expr(n, err, x.meant)
		return nil
	}
	return p
}

func (x *decoder) condition(n ast.Node, what string) *expr.Program {
	p := x.expression(n, what)
	if p != nil && !p.IsBool() {
		x.Fail(n, "%s must be true or false, this is %s", what, p.TypeName())
	}
	return p
}

// meant finds the name that an unknown one in an expression probably stands for.
func (x *decoder) meant(word string) string {
	if word == "" {
		return ""
	}
	return doc.Nearest(word, x.names)
}

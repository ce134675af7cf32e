// Package estate is what people configure, as documents: YAML headed `urgentis: KIND/1`, many in a file or a folder. It
// reads them with their places, says what is wrong with them, and compares what is wanted with what is there.
package estate

import (
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/calendar"
	"urgentis/core/device"
	"urgentis/core/doc"
	"urgentis/core/expr"
	"urgentis/core/incident"
	"urgentis/core/library"
	"urgentis/core/lookback"
	"urgentis/core/message"
	"urgentis/core/objective"
	"urgentis/core/reads"
	"urgentis/core/route"
	"urgentis/core/runbook"
	"urgentis/core/source"
	"urgentis/core/trigger"
	"urgentis/core/watch"
)

// Kind is what a document is about.
type Kind string

// The kinds.
const (
	Runbook  Kind = "runbook"
	Source   Kind = "source"
	Trigger  Kind = "trigger"
	Calendar Kind = "calendar"
	Mute     Kind = "mute"
	Join     Kind = "join"
	Team     Kind = "team"
	// Connection is a way out to people or to another system, Route who is told of what.
	Connection Kind = "connection"
	Route      Kind = "route"
	// Binding makes a runbook of the library one of somebody's own.
	Binding Kind = "binding"
	// Watch is a scheduled look.
	Watch Kind = "watch"
	// Objective is what a service is measured against.
	Objective Kind = "objective"
	// Device is how devices of a kind are spoken with.
	Device Kind = "device"
	// LookBack is looks into the past.
	LookBack Kind = "lookback"
	// Reader is what else is known to only read.
	Reader Kind = "reader"
)

// Kinds lists the kinds that are known.
var Kinds = []Kind{Runbook, Source, Trigger, Calendar, Mute, Join, Team, Connection, Route, Binding, Watch, Objective,
	Device, LookBack, Reader}

// MaxDocuments bounds how many documents one push has.
const MaxDocuments = 5000

// Document is one sound document.
type Document struct {
	Kind Kind
	Name string
	// File and Line say where it begins.
	File  string
	Line  int
	first int // the line of the file where its text begins
	// Text is its own part of the file; Digest is the SHA-256 of that.
	Text, Digest string

	// One of them is what it says.
	Runbook *runbook.Book
	Source  *source.Source
	// TellBack is how a source is told what becomes of its alerts: acknowledge and close, as far as it is.
	TellBack   map[string]*message.Request
	Trigger    *trigger.Beside
	Calendar   *calendar.Calendar
	Mute       *trigger.Mute
	Join       *incident.Join
	Team       *route.Team
	Connection *message.Connection
	Route      *route.Route
	Binding    *library.Binding
	Watch      *watch.Watch
	Objective  *objective.Objective
	Device     *device.Kind
	LookBack   *lookback.LookBack
	Reader     *reads.Extension
	// FromBinding says that the runbook is made of the library's by a binding of the same name.
	FromBinding bool
}

// Found is a finding and the file that it is about.
type Found struct {
	File string `json:"file"`
	doc.Finding
}

// Failed reports whether any finding is an error.
func Failed(found []Found) bool {
	return slices.ContainsFunc(found, func(f Found) bool { return !f.Warning })
}

// Found gives findings about the text of the document their places in its file.
func (d *Document) Found(findings doc.Findings) []Found {
	out := make([]Found, len(findings))
	for i, x := range findings {
		if x.Line += d.first - 1; d.FromBinding {
			x.Line, x.Column, x.Message = d.Line, 1, "in the runbook that it makes: "+x.Message
		}
		out[i] = Found{d.File, x}
	}
	return out
}

// File is a text to read documents from.
type File struct{ Name, Text string }

var (
	namePattern = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)
	rolePattern = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$`)
)

// Parse reads the documents of files, in their order. Those with mistakes are left out, and the mistakes listed.
func Parse(files []File) (out []*Document, found []Found) {
	seen := map[string]*Document{}
	for _, f := range files {
		for _, p := range parts(f.Text) {
			docs, findings := parseWhole(p)
			for _, x := range findings {
				x.Line += p.line - 1
				found = append(found, Found{f.Name, x})
			}
			for _, d := range docs {
				d.File, d.Line, d.first = f.Name, d.Line+p.line-1, p.line
				id := string(d.Kind) + " " + d.Name
				if first := seen[id]; first != nil {
					found = append(found, Found{f.Name, doc.Finding{Line: d.Line, Column: 1,
						Message: "there is another " + id + " in " + first.File}})
					continue
				}
				seen[id] = d
				if out = append(out, d); len(out) > MaxDocuments {
					return nil, append(found, Found{f.Name, doc.Finding{Line: d.Line, Column: 1,
						Message: "there are too many documents for one push"}})
				}
			}
		}
	}
	return out, found
}

// parseWhole reads one document, and what it makes: a binding makes a runbook.
func parseWhole(p part) ([]*Document, doc.Findings) {
	d, found := parse(p)
	if d == nil {
		return nil, found
	}
	out := []*Document{d}
	if d.Binding == nil {
		return out, found
	}
	made, more := bound(d)
	if found = append(found, more...); made == nil {
		return nil, found
	}
	return append(out, made), found
}

// part is the text of one document in a file, and the line where it begins.
type part struct {
	text string
	line int
}

// parts cuts a file at its lines ---; parts of nothing but comments are left out.
func parts(text string) []part {
	var out []part
	begin := 0
	lines := strings.SplitAfter(text, "\n")
	add := func(from, to int) {
		body := strings.Join(lines[from:to], "")
		if !empty(body) {
			out = append(out, part{body, from + 1})
		}
	}
	for i, l := range lines {
		if strings.TrimRight(l, " \r\n") == "---" {
			add(begin, i)
			begin = i + 1
		}
	}
	add(begin, len(lines))
	return out
}

func empty(text string) bool {
	for l := range strings.SplitSeq(text, "\n") {
		if l = strings.TrimSpace(l); l != "" && !strings.HasPrefix(l, "#") {
			return false
		}
	}
	return true
}

func parse(p part) (*Document, doc.Findings) {
	t := &doc.Text{What: "a document"}
	root := t.Load([]byte(p.text))
	if root == nil {
		return nil, t.Sorted()
	}
	d := &Document{Text: p.text, Digest: doc.Sum([]byte(p.text)), Line: doc.Position(root).Line}
	head := header(root)
	if head == nil {
		t.Fail(root, "a document begins with urgentis: KIND/1, where KIND is %s", kinds())
		return nil, t.Sorted()
	}
	kind, version, _ := strings.Cut(t.Word(head, "urgentis"), "/")
	if d.Kind = Kind(kind); !slices.Contains(Kinds, d.Kind) || version != "1" {
		t.At(doc.Position(head), 0, false, "urgentis must be KIND/1, where KIND is "+kinds(), meantKind(kind))
		return nil, t.Sorted()
	}
	if d.Kind == Runbook {
		book, found := runbook.Parse([]byte(p.text))
		if book == nil {
			return nil, found
		}
		d.Name, d.Runbook = book.Name, book
		return d, found
	}
	x := &decoder{Text: t, d: d}
	x.decode(root)
	if found := t.Sorted(); found.Failed() {
		return nil, found
	}
	return d, t.Findings
}

// decode decodes a document of its kind, which is none that other packages read.
func (x *decoder) decode(root ast.Node) {
	var err error
	if x.cel, err = expr.NewCompiler(expr.Schema{}); err != nil {
		x.Fail(root, "%s", err)
		return
	}
	switch x.d.Kind {
	case Source:
		x.source(root)
	case Trigger:
		x.trigger(root)
	case Calendar:
		x.calendar(root)
	case Mute:
		x.mute(root)
	case Join:
		x.join(root)
	case Team:
		x.team(root)
	case Connection:
		x.connection(root)
	case Route:
		x.route(root)
	case Binding:
		x.binding(root)
	case Watch:
		x.watch(root)
	case Objective:
		x.objective(root)
	case Device:
		x.device(root)
	case LookBack:
		x.lookBack(root)
	case Reader:
		x.reader(root)
	case Runbook: // read by its own package
	}
}

// header is the value of the key urgentis; nil without one.
func header(root ast.Node) ast.Node { return valueOf(root, "urgentis") }

// valueOf is the value of a key, read before the document is; nil without one.
func valueOf(root ast.Node, key string) ast.Node {
	quiet := &doc.Text{}
	for _, e := range quiet.Mapping(root, "a document") {
		if e.Key == key && e.Value != nil {
			return e.Value
		}
	}
	return nil
}

func kinds() string {
	words := make([]string, len(Kinds))
	for i, k := range Kinds {
		words[i] = string(k)
	}
	last := len(words) - 1
	return strings.Join(words[:last], ", ") + " or " + words[last]
}

func meantKind(word string) string {
	var names []string
	for _, k := range Kinds {
		names = append(names, string(k))
	}
	if m := doc.Nearest(word, names); m != "" {
		return m + "/1"
	}
	return ""
}

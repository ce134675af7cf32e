package library

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"urgentis/core/doc"
	"urgentis/core/reads"
	"urgentis/core/runbook"
	"urgentis/library"
)

// Unbound stands in a runbook of the library for the service and the team that it is not bound to yet.
const Unbound = "unbound"

// Binding says what a runbook of the library is bound to.
type Binding struct {
	Name    string // of the runbook that is made
	Library string // the runbook of the library
	Service string
	Owner   string
	// Title and Harm replace those of the library; "" leaves them.
	Title, Harm string
	// Roles says which role the targets of the service have that play a role of the library.
	Roles map[string]string
	// Inputs are values that its inputs have unless a start or a person says otherwise.
	Inputs map[string]any
	// Starts is the text of the key starts, as it stands in a runbook; "" for none.
	Starts string
}

// Runbook is a runbook of the library.
type Runbook struct {
	Book  *runbook.Book
	Text  string
	Cases string
	// Roles are the roles that targets play in it.
	Roles []string
}

// Find finds a runbook of the library; the error names those that are alike.
func Find(name string) (*Runbook, error) {
	text, ok := library.Text(name)
	if !ok {
		says := "the library has no runbook " + name
		if m := doc.Nearest(name, library.Names()); m != "" {
			says += "; did you mean " + m + "?"
		}
		return nil, fmt.Errorf("%s", says)
	}
	book, found := runbook.Parse([]byte(text))
	if book == nil {
		return nil, fmt.Errorf("the library's %s has errors: %w", name, found)
	}
	cases, _ := library.Cases(name)
	return &Runbook{Book: book, Text: text, Cases: cases, Roles: rolesIn(text)}, nil
}

// Beginning is a binding to begin with: it names every role and input.
func (r *Runbook) Beginning() string {
	var b strings.Builder
	fmt.Fprintf(&b, "urgentis: binding/1\nname: my-%s\nlibrary: %s\nservice: my-service\nowner: my-team\n", r.Book.Name,
		r.Book.Name)
	b.WriteString("roles: # which label role your targets have that play each of these\n")
	for _, role := range r.Roles {
		fmt.Fprintf(&b, "  %s: %s\n", role, role)
	}
	var usual, given strings.Builder
	for _, in := range r.Book.Inputs {
		if in.Default == nil {
			fmt.Fprintf(&given, "#   %s: %s\n", in.Name, in.Label)
		} else {
			fmt.Fprintf(&usual, "  %s: %s", in.Name, line(in.Default))
		}
	}
	if usual.Len() > 0 {
		b.WriteString("inputs: # what they are unless a start or a person says otherwise\n" + usual.String())
	}
	if given.Len() > 0 {
		b.WriteString("# These have to be given here, or by whatever starts it:\n" + given.String())
	}
	return b.String()
}

// All lists the runbooks of the library by their names.
func All() ([]*Runbook, error) {
	var out []*Runbook
	for _, n := range library.Names() {
		r, err := Find(n)
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	return out, nil
}

// Bind makes the text of the runbook that a binding asks for. The error says what of it does not fit the library's.
func Bind(b Binding) (string, error) {
	r, err := Find(b.Library)
	if err != nil {
		return "", err
	}
	for _, role := range slices.Sorted(maps.Keys(b.Roles)) {
		if !slices.Contains(r.Roles, role) {
			return "", fmt.Errorf("%s has no role %s; it has %s", b.Library, role, strings.Join(r.Roles, ", "))
		}
	}
	inputs, err := boundInputs(r.Book, b.Inputs)
	if err != nil {
		return "", err
	}
	var out strings.Builder
	fmt.Fprintf(&out, "# Made of the library's %s (%.12s) by the binding %s. Change that, not this.\n", b.Library,
		r.Book.Revision, b.Name)
	for _, block := range blocksOf(replaceWords(r.Text, b)) {
		switch {
		case block.key == "name":
			fmt.Fprintf(&out, "name: %s\n", b.Name)
		case block.key == "service":
			fmt.Fprintf(&out, "service: %s\n", b.Service)
		case block.key == "title" && b.Title != "":
			fmt.Fprintf(&out, "title: %s", line(b.Title))
		case block.key == "harm" && b.Harm != "":
			fmt.Fprintf(&out, "harm: %s", line(b.Harm))
		case block.key == "inputs" && len(b.Inputs) > 0:
			out.WriteString(inputs)
		case block.key == "steps" && b.Starts != "":
			out.WriteString(strings.TrimRight(b.Starts, "\n") + "\n\n" + block.text)
		default:
			out.WriteString(block.text)
		}
	}
	return out.String(), nil
}

// line is a value of YAML, on a line of its own.
func line(v any) string {
	b, err := yaml.Marshal(v)
	if err != nil {
		return fmt.Sprint(v) + "\n"
	}
	return string(b)
}

// boundInputs writes the inputs with what they are bound to, each as the runbook takes it.
func boundInputs(book *runbook.Book, given map[string]any) (string, error) {
	for _, name := range slices.Sorted(maps.Keys(given)) {
		i := slices.IndexFunc(book.Inputs, func(in runbook.Input) bool { return in.Name == name })
		if i < 0 {
			var names []string
			for _, in := range book.Inputs {
				names = append(names, in.Name)
			}
			return "", fmt.Errorf("%s has no input %s; it has %s", book.Name, name, strings.Join(names, ", "))
		}
		if _, err := book.Inputs[i].Accept(given[name]); err != nil {
			return "", err
		}
	}
	var file struct{ Inputs yaml.MapSlice }
	if text, ok := library.Text(book.Name); ok {
		if err := yaml.UnmarshalWithOptions([]byte(text), &file, yaml.UseOrderedMap()); err != nil {
			return "", err
		}
	}
	for i, in := range file.Inputs {
		v, ok := given[fmt.Sprint(in.Key)]
		fields, is := in.Value.(yaml.MapSlice)
		if !ok || !is {
			continue
		}
		fields = slices.DeleteFunc(slices.Clone(fields), func(f yaml.MapItem) bool { return f.Key == "default" })
		file.Inputs[i].Value = append(fields, yaml.MapItem{Key: "default", Value: v})
	}
	out, err := yaml.Marshal(yaml.MapSlice{{Key: "inputs", Value: file.Inputs}})
	return string(out) + "\n", err
}

// block is a key of the whole with all that stands under it, and the comments before it.
type block struct{ key, text string }

var topKey = regexp.MustCompile(`^([a-z_]+):`)

// blocksOf cuts a text at its outermost keys. Texts of the library are in the canonical form.
func blocksOf(text string) []block {
	var out []block
	before := ""
	for l := range strings.SplitAfterSeq(text, "\n") {
		switch m := topKey.FindStringSubmatch(l); {
		case m != nil:
			out = append(out, block{m[1], before + l})
			before = ""
		case strings.HasPrefix(l, "#"):
			before += l
		case len(out) > 0:
			out[len(out)-1].text += l
		}
	}
	return out
}

// place is a word in a text: its line and column, from 1, and what it says.
type place struct {
	line, column int
	word         string
}

// replaceWords puts the owner and the roles of a binding where the library's text has others.
func replaceWords(text string, b Binding) string {
	lines := strings.Split(text, "\n")
	words := wordsIn(text)
	slices.SortFunc(words, func(x, y wordIn) int { return y.column - x.column }) // from the right
	for _, w := range words {
		is := w.word
		switch {
		case w.role:
			if r, ok := b.Roles[w.word]; ok {
				is = r
			}
		case w.word == Unbound && w.key == "owner":
			is = b.Owner
		case w.word == "team/"+Unbound:
			is = "team/" + b.Owner
		case w.word == "on-call/"+Unbound:
			is = "on-call/" + b.Owner
		}
		l := lines[w.line-1]
		if from := w.column - 1; is != w.word && strings.HasPrefix(l[from:], w.word) {
			lines[w.line-1] = l[:from] + is + l[from+len(w.word):]
		}
	}
	return strings.Join(lines, "\n")
}

// wordIn is a value that is a plain word, with its key; role says that it stands for a role of targets.
type wordIn struct {
	place
	key  string
	role bool
}

// finder goes through a text.
type finder struct{ found []wordIn }

// wordsIn lists the values of a text that are plain words.
func wordsIn(text string) []wordIn {
	file, err := parser.ParseBytes([]byte(text), 0)
	if err != nil || len(file.Docs) == 0 {
		return nil
	}
	var f finder
	f.walk(file.Docs[0].Body, "", false)
	return f.found
}

func (f *finder) walk(n ast.Node, key string, selects bool) {
	switch x := n.(type) {
	case *ast.MappingNode:
		for _, v := range x.Values {
			f.walk(v, key, selects)
		}
	case *ast.MappingValueNode:
		k := x.Key.GetToken().Value
		f.walk(x.Value, k, key == "where" || key == "peers")
	case *ast.SequenceNode:
		for _, v := range x.Values {
			f.walk(v, key, false)
		}
	case *ast.StringNode:
		at := x.Token.Position
		f.found = append(f.found, wordIn{place{at.Line, at.Column, x.Value}, key, selects && key == "role"})
	}
}

// rolesIn lists the roles by which a text selects targets.
func rolesIn(text string) []string {
	var out []string
	for _, w := range wordsIn(text) {
		if w.role && !slices.Contains(out, w.word) {
			out = append(out, w.word)
		}
	}
	slices.Sort(out)
	return out
}

// Reads is what is known to only read where nobody says more: the table, and the scripts by which the runbooks of the
// library look. It is made anew each time.
func Reads() *reads.Set {
	s := reads.Builtin()
	books, err := All()
	if err != nil {
		return s // a test of the library fails
	}
	for _, r := range books {
		for _, st := range r.Book.Everything() {
			if st.Verb == runbook.Look && st.Do.Script != nil {
				s.AddScript(reads.Digest(st.Do.Script.Text))
			}
		}
	}
	return s
}

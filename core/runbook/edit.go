package runbook

import (
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"urgentis/core/doc"
)

// Sketch reads as much of a runbook as can be read while it is written: its steps are there though something in them is
// wrong. nil where it has no steps that can be told apart. Only what the text says of them, their places and titles,
// can be relied on where Findings fail.
func Sketch(src []byte) (*Book, Findings) {
	d := newDecoder(&Book{Source: src, Revision: doc.Sum(src)})
	if root := d.Load(src); root != nil {
		d.decode(root)
	}
	if len(d.book.byPath) == 0 {
		return nil, d.Sorted()
	}
	return d.book, d.Sorted()
}

// EditOp is how a picture of a runbook is altered.
type EditOp string

// The ways in which a picture is altered.
const (
	EditRename EditOp = "rename" // gives a step another title
	EditRemove EditOp = "remove" // takes a step away, with what stands in it
	EditUp     EditOp = "up"     // puts a step before the one above it in its list
	EditDown   EditOp = "down"   // puts it after the one below it
	EditAdd    EditOp = "add"    // puts a new step after it, in the same list
)

// Edit is one alteration of a picture: what is done with the step at Path.
type Edit struct {
	Op    EditOp
	Path  string
	Title string // of rename and add
	Verb  Verb   // of add
}

// ErrEdit says why a picture cannot be altered so; what is to be done instead is said with it.
var ErrEdit = errors.New("the text must be altered by hand")

// skeletons are what a new step has besides its title, so that its author sees what is wanted there.
var skeletons = map[Verb][]string{
	Look:       {"run: [uptime]"},
	Check:      {`that: "1 == 1"`},
	Ask:        {"choices: {yes_it_is: go on}"},
	Change:     {"run: [systemctl, restart, unit]", "undo: none"},
	Wait:       {"for: 1m"},
	Note:       {`text: "…"`},
	Call:       {},
	Each:       {"over: []", "steps:", "  - note: Each", `    text: "…"`},
	Together:   {"branches:", "  one:", "    - note: One", `      text: "…"`},
	UndoChange: {},
	HandOver:   {`because: "…"`},
	Close:      {`because: "…"`},
}

// place is where the lines of a step stand: from its comments to the line behind it.
type place struct{ from, dash, to, indent int }

// Apply alters the text of a runbook as its picture is altered, and nothing else in it: other lines stay byte for byte,
// comments above a step go where it goes.
func (e Edit) Apply(src []byte) ([]byte, error) {
	b, _ := Sketch(src)
	if b == nil {
		return nil, fmt.Errorf("%w: it has no steps that can be told apart", ErrEdit)
	}
	lines := strings.Split(string(src), "\n")
	at, err := placeOf(lines, b.Step(e.Path))
	if err != nil {
		return nil, err
	}
	switch e.Op {
	case EditRename:
		err = rename(lines, b.Step(e.Path), e.Title)
	case EditRemove:
		lines, err = remove(lines, b, e.Path, at)
	case EditUp, EditDown:
		lines, err = move(lines, b, e.Path, e.Op)
	case EditAdd:
		lines, err = add(lines, b, e, at)
	default:
		err = fmt.Errorf("%w: %q is no way to alter a picture", ErrEdit, e.Op)
	}
	if err != nil {
		return nil, err
	}
	out := []byte(strings.Join(lines, "\n"))
	if t := (&doc.Text{What: "a runbook"}); t.Load(out) == nil {
		return nil, fmt.Errorf("%w: what would stand there could not be read", ErrEdit)
	}
	return out, nil
}

func indentOf(line string) int { return len(line) - len(strings.TrimLeft(line, " ")) }

func blank(line string) bool { return strings.TrimSpace(line) == "" }

// placeOf finds the lines of a step that stands as an item of a list, on lines of its own.
func placeOf(lines []string, s *Step) (place, error) {
	if s == nil {
		return place{}, fmt.Errorf("%w: there is no such step in it any more", ErrEdit)
	}
	p := place{dash: s.Line - 1}
	if p.dash < 0 || p.dash >= len(lines) {
		return p, fmt.Errorf("%w: the step has no line of its own", ErrEdit)
	}
	line := lines[p.dash]
	p.indent = indentOf(line)
	if !strings.HasPrefix(line[p.indent:], "- ") || strings.HasPrefix(strings.TrimLeft(line[p.indent+1:], " "), "{") {
		return p, fmt.Errorf("%w: the step stands within brackets, or not on lines of its own", ErrEdit)
	}
	p.to = endOf(lines, p.dash, p.indent)
	p.from = p.dash
	for p.from > 0 && indentOf(lines[p.from-1]) == p.indent && strings.HasPrefix(lines[p.from-1][p.indent:], "#") {
		p.from--
	}
	return p, nil
}

// endOf is the line behind an item: behind the last of its lines that are deeper than its dash.
func endOf(lines []string, dash, indent int) int {
	end := dash + 1
	for i := dash + 1; i < len(lines); i++ {
		if blank(lines[i]) {
			continue
		}
		if indentOf(lines[i]) <= indent {
			break
		}
		end = i + 1
	}
	return end
}

// siblings are the steps of the list in which a step stands, in their order.
func siblings(b *Book, path string) (prefix string, list []*Step, at int) {
	if i := strings.LastIndexByte(path, '.'); i >= 0 {
		prefix = path[:i+1]
	}
	for n := 1; ; n++ {
		s := b.Step(fmt.Sprintf("%s%d", prefix, n))
		if s == nil {
			return prefix, list, at
		}
		if s.Path == path {
			at = n - 1
		}
		list = append(list, s)
	}
}

func remove(lines []string, b *Book, path string, at place) ([]string, error) {
	_, list, _ := siblings(b, path)
	if len(list) == 1 {
		return nil, fmt.Errorf("%w: it is the only step in its list", ErrEdit)
	}
	from, to := at.from, at.to
	next := to
	for next < len(lines) && blank(lines[next]) {
		next++
	}
	if list[len(list)-1].Path != path {
		to = next
	} else {
		for from > 0 && blank(lines[from-1]) {
			from--
		}
	}
	return slices.Delete(slices.Clone(lines), from, to), nil
}

func move(lines []string, b *Book, path string, op EditOp) ([]string, error) {
	_, list, n := siblings(b, path)
	if op == EditUp {
		n--
	}
	if n < 0 || n+1 >= len(list) {
		return nil, fmt.Errorf("%w: there is no step on that side of it in its list", ErrEdit)
	}
	x, err := placeOf(lines, list[n])
	if err != nil {
		return nil, err
	}
	y, err := placeOf(lines, list[n+1])
	if err != nil {
		return nil, err
	}
	if x.to > y.from {
		return nil, fmt.Errorf("%w: the two steps share lines", ErrEdit)
	}
	out := slices.Clone(lines[:x.from])
	out = append(out, lines[y.from:y.to]...)
	out = append(out, lines[x.to:y.from]...)
	out = append(out, lines[x.from:x.to]...)
	return append(out, lines[y.to:]...), nil
}

func add(lines []string, b *Book, e Edit, at place) ([]string, error) {
	if !slices.Contains(Verbs, e.Verb) {
		return nil, fmt.Errorf("%w: %q is no verb", ErrEdit, e.Verb)
	}
	title, err := scalar(e.Title)
	if err != nil {
		return nil, err
	}
	pad := strings.Repeat(" ", at.indent)
	text := []string{fmt.Sprintf("%s- %s: %s", pad, e.Verb, title)}
	for _, l := range skeletons[e.Verb] {
		text = append(text, pad+"  "+l)
	}
	// The canonical form keeps these steps apart by an empty line; others are as their author wrote them.
	prefix, list, n := siblings(b, e.Path)
	apart := prefix == "" || prefix == "finally."
	if n+1 < len(list) {
		if next, err := placeOf(lines, list[n+1]); err == nil {
			apart = next.from > at.to
		}
	}
	if apart {
		text = append([]string{""}, text...)
	}
	return slices.Insert(slices.Clone(lines), at.to, text...), nil
}

// titled finds the title of a step behind its verb: what stands before it, the title, and a comment behind it.
var titled = regexp.MustCompile(`^(\s*(?:- +)?[a-z_]+: +)` +
	`("(?:[^"\\]|\\.)*"|'(?:[^']|'')*'|[^"'|>&*!{\[#\s](?:[^#]|\S#)*?)(\s+#.*|\s*)$`)

// valued are the verbs behind which no title stands, but what is done.
var valued = []Verb{Close, HandOver, Call, UndoChange}

func rename(lines []string, s *Step, title string) error {
	if slices.Contains(valued, s.Verb) {
		return fmt.Errorf("%w: what stands behind %s: is no title", ErrEdit, s.Verb)
	}
	now, err := scalar(title)
	if err != nil {
		return err
	}
	n := s.lines[string(s.Verb)] - 1
	if n < 0 || n >= len(lines) {
		return fmt.Errorf("%w: the title has no line of its own", ErrEdit)
	}
	m := titled.FindStringSubmatch(lines[n])
	if m == nil || !strings.Contains(m[1], string(s.Verb)+":") || n+1 < len(lines) && goesOn(lines[n], lines[n+1]) {
		return fmt.Errorf("%w: its title does not stand on one line behind the word %s", ErrEdit, s.Verb)
	}
	lines[n] = m[1] + now + m[3]
	return nil
}

// goesOn reports whether a title that is begun on a line goes on on the next one.
func goesOn(line, next string) bool {
	column := indentOf(line)
	if strings.HasPrefix(line[column:], "- ") {
		column += 2
	}
	return !blank(next) && indentOf(next) > column && !strings.HasPrefix(strings.TrimSpace(next), "#")
}

// scalar writes a title as one line of YAML, without quotes where it needs none.
func scalar(title string) (string, error) {
	title = strings.TrimSpace(title)
	if title == "" || strings.ContainsAny(title, "\r\n") || strings.Contains(title, "{{") || len(title) > 200 {
		return "", fmt.Errorf("%w: a title is one line of 200 bytes at most, without holes", ErrEdit)
	}
	var back struct{ T any }
	if !strings.ContainsAny(title, "#\"'\\") {
		if err := yaml.Unmarshal([]byte("t: "+title+"\n"), &back); err == nil && back.T == any(title) {
			return title, nil
		}
	}
	quoted, err := json.Marshal(title)
	if err != nil {
		return "", err
	}
	return string(quoted), nil
}

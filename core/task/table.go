package task

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// Part is requests of one kind, told as a table: what they have in common once, and what differs as columns. It says
// all that the requests say, and nothing else: Requests gives them back.
type Part struct {
	Step string // the step that they belong to
	// Common is every value in which they agree, and Columns are the names of those in which they do not. A name is a
	// place in the request, such as words.2, env.PORT or undo.words.0; values are JSON.
	Common  map[string]string
	Columns []string
	Rows    []Row
}

// Row is one request: the values of the columns.
type Row struct {
	Target string
	Cells  []string
	at     int // its place among all requests
}

// Table tells requests as few parts as can be, in the order in which their steps come first. stepOf names the step
// that a request belongs to, the same for all items of an each.
func Table(list []Request, stepOf func(Request) string) ([]Part, error) {
	var parts []*table
	for i, r := range list {
		leaves, err := leavesOf(r)
		if err != nil {
			return nil, fmt.Errorf("tell request %d: %w", i+1, err)
		}
		step, shape := stepOf(r), strings.Join(slices.Sorted(maps.Keys(leaves)), "\n")
		j := slices.IndexFunc(parts, func(t *table) bool { return t.step == step && t.shape == shape })
		if j < 0 {
			j = len(parts)
			parts = append(parts, &table{step: step, shape: shape})
		}
		parts[j].rows = append(parts[j].rows, leaves)
		parts[j].targets = append(parts[j].targets, r.Target.Name)
		parts[j].places = append(parts[j].places, i)
	}
	out := make([]Part, len(parts))
	for i, t := range parts {
		out[i] = t.part()
	}
	return out, nil
}

// table collects the requests of one part.
type table struct {
	step, shape string
	rows        []map[string]string
	targets     []string
	places      []int
}

func (t *table) part() Part {
	p := Part{Step: t.step, Common: map[string]string{}}
	for _, name := range slices.SortedFunc(maps.Keys(t.rows[0]), comparePlaces) {
		same := !slices.ContainsFunc(t.rows, func(r map[string]string) bool { return r[name] != t.rows[0][name] })
		if same {
			p.Common[name] = t.rows[0][name]
		} else {
			p.Columns = append(p.Columns, name)
		}
	}
	for i, r := range t.rows {
		row := Row{Target: t.targets[i], at: t.places[i]}
		for _, c := range p.Columns {
			row.Cells = append(row.Cells, r[c])
		}
		p.Rows = append(p.Rows, row)
	}
	return p
}

// Requests gives back the requests that parts tell, in their order.
func Requests(parts []Part) ([]Request, error) {
	n := 0
	for _, p := range parts {
		n += len(p.Rows)
	}
	out := make([]Request, n)
	for _, p := range parts {
		for _, row := range p.Rows {
			leaves := maps.Clone(p.Common)
			for i, c := range p.Columns {
				leaves[c] = row.Cells[i]
			}
			r, err := fromLeaves(leaves)
			if err != nil {
				return nil, err
			}
			out[row.at] = r
		}
	}
	return out, nil
}

// Pattern is the request of a part with a mark in the place of each column that is a text; of other columns it has the
// value of the first row.
func (p Part) Pattern(mark func(column int) string) (Request, error) {
	leaves := maps.Clone(p.Common)
	for i, c := range p.Columns {
		leaves[c] = p.Rows[0].Cells[i]
		if strings.HasPrefix(leaves[c], `"`) {
			b, err := json.Marshal(mark(i))
			if err != nil {
				return Request{}, err
			}
			leaves[c] = string(b)
		}
	}
	return fromLeaves(leaves)
}

// leavesOf takes a request apart into its single values. What holds nothing, such as an empty list, is one as well.
func leavesOf(r Request) (map[string]string, error) {
	b, err := json.Marshal(r)
	if err != nil {
		return nil, err
	}
	var v any
	if err := json.Unmarshal(b, &v); err != nil {
		return nil, err
	}
	out := map[string]string{}
	return out, leaves(out, "", v)
}

// Names of keys may hold dots, and what stands between two of them must be told from them.
var (
	escape   = strings.NewReplacer(`\`, `\\`, ".", `\-`, "#", `\+`)
	unescape = strings.NewReplacer(`\\`, `\`, `\-`, ".", `\+`, "#")
)

func leaves(out map[string]string, at string, v any) error {
	switch x := v.(type) {
	case map[string]any:
		for k, y := range x {
			if err := leaves(out, at+"."+escape.Replace(k), y); err != nil {
				return err
			}
		}
		if len(x) > 0 {
			return nil
		}
	case []any:
		for i, y := range x {
			if err := leaves(out, at+".#"+strconv.Itoa(i), y); err != nil {
				return err
			}
		}
		if len(x) > 0 {
			return nil
		}
	}
	b, err := json.Marshal(v)
	out[strings.TrimPrefix(at, ".")] = string(b)
	return err
}

// fromLeaves puts a request together from its single values.
func fromLeaves(leaves map[string]string) (Request, error) {
	root := any(map[string]any{})
	for _, at := range slices.SortedFunc(maps.Keys(leaves), comparePlaces) {
		root = put(root, strings.Split(at, "."), json.RawMessage(leaves[at]))
	}
	b, err := json.Marshal(root)
	if err != nil {
		return Request{}, err
	}
	var r Request
	return r, json.Unmarshal(b, &r)
}

// put sets a value in a tree; the items of a list come in their order.
func put(tree any, at []string, v json.RawMessage) any {
	if len(at) == 0 {
		return v
	}
	if i, is := strings.CutPrefix(at[0], "#"); is {
		list, _ := tree.([]any)
		if n, _ := strconv.Atoi(i); n < len(list) {
			list[n] = put(list[n], at[1:], v)
			return list
		}
		return append(list, put(nil, at[1:], v))
	}
	m, _ := tree.(map[string]any)
	if m == nil {
		m = map[string]any{}
	}
	k := unescape.Replace(at[0])
	m[k] = put(m[k], at[1:], v)
	return m
}

// comparePlaces orders the tenth item of a list after the second.
func comparePlaces(a, b string) int {
	x, y := strings.Split(a, "."), strings.Split(b, ".")
	for i := range min(len(x), len(y)) {
		m, errX := strconv.Atoi(strings.TrimPrefix(x[i], "#"))
		n, errY := strconv.Atoi(strings.TrimPrefix(y[i], "#"))
		if errX == nil && errY == nil && m != n {
			return m - n
		}
		if c := strings.Compare(x[i], y[i]); c != 0 {
			return c
		}
	}
	return len(x) - len(y)
}

// NameOf says in words what stands at a place of a request.
func NameOf(place string) string {
	words := strings.Split(place, ".")
	prefix := ""
	if words[0] == "undo" && len(words) > 1 {
		prefix, words = "undo: ", words[1:]
	}
	last := words[len(words)-1]
	if i, is := strings.CutPrefix(last, "#"); is {
		n, _ := strconv.Atoi(i)
		last = strconv.Itoa(n + 1)
	}
	last = unescape.Replace(last)
	switch {
	case words[0] == "job" && len(words) > 2:
		return prefix + "job: " + words[1] + " " + last
	case words[0] == "lines":
		return prefix + "line " + last
	case words[0] == "words":
		return prefix + "word " + last
	case words[0] == "target" && last == "host_key":
		return prefix + "host key"
	case words[0] == "target" && last == "secret":
		return prefix + "signs in with"
	case words[0] == "target", len(words) == 1:
		return prefix + strings.ReplaceAll(last, "_", " ")
	case words[0] == "headers":
		return prefix + "header " + last
	case words[0] == "secrets":
		return prefix + "version of secret " + last
	case words[0] == "sql" && words[1] == "with":
		return prefix + "$" + last
	}
	return prefix + strings.ReplaceAll(words[0], "_", " ") + " " + last
}

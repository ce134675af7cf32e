package reading

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"urgentis/core/expr"
)

// Table reads columns of text output. The first line names the columns unless Names does. Columns stand
// apart by tabs or two blanks, or by any blanks where the header has no such gap; the last takes the rest.
type Table struct {
	Column string            // the column wanted; "" gives all rows
	Where  map[string]string // rows in which these columns have these values
	Names  []string
	Skip   int // lines before the header
}

// maxRows bounds how many rows of a table or lines of a text are taken.
const maxRows = 10000

var gap = regexp.MustCompile(`\t+ *| {2,}`)

func (t *Table) take(output string, typ expr.Type) (any, error) {
	rows, err := t.rows(output)
	if err != nil {
		return nil, err
	}
	if t.Column == "" {
		out := make([]any, len(rows))
		for i, r := range rows {
			m := map[string]any{}
			for k, v := range r {
				m[k] = v
			}
			out[i] = m
		}
		return out, nil
	}
	var vals []any
	for _, r := range rows {
		v, ok := r[t.Column]
		if !ok {
			return nil, fmt.Errorf("%w: a row has no column %s", ErrMissing, t.Column)
		}
		vals = append(vals, v)
	}
	switch {
	case typ == expr.JSON:
		return vals, nil
	case len(vals) == 0:
		return nil, fmt.Errorf("%w: no row fits", ErrMissing)
	case len(vals) > 1:
		return nil, fmt.Errorf("%d rows match, one is needed", len(vals))
	}
	return vals[0], nil
}

func (t *Table) rows(output string) ([]map[string]string, error) {
	var lines []string
	for l := range strings.Lines(output) {
		if l = strings.TrimRight(l, "\r\n "); strings.TrimSpace(l) != "" {
			lines = append(lines, l)
		}
	}
	if len(lines) < t.Skip {
		return nil, fmt.Errorf("%w: the output has %d lines", ErrMissing, len(lines))
	}
	lines = lines[t.Skip:]
	names := t.Names
	split := func(l string) []string { return strings.Fields(l) }
	if names == nil {
		if len(lines) == 0 {
			return nil, fmt.Errorf("%w: the table has no header", ErrMissing)
		}
		head := strings.TrimSpace(lines[0])
		if gap.MatchString(head) {
			split = func(l string) []string { return gap.Split(strings.TrimSpace(l), -1) }
		}
		names, lines = split(head), lines[1:]
	}
	for k := range t.Where {
		if !slices.Contains(names, k) {
			return nil, fmt.Errorf("%w: the table has no column %s, only %s", ErrMissing, k, strings.Join(names, ", "))
		}
	}
	if t.Column != "" && !slices.Contains(names, t.Column) {
		return nil, fmt.Errorf(
			"%w: the table has no column %s, only %s",
			ErrMissing,
			t.Column,
			strings.Join(names, ", "),
		)
	}
	if len(lines) > maxRows {
		return nil, fmt.Errorf("the table has %d rows, %d are allowed", len(lines), maxRows)
	}
	var out []map[string]string
	for _, l := range lines {
		r := row(names, split(l))
		fits := true
		for k, v := range t.Where {
			fits = fits && r[k] == v
		}
		if fits {
			out = append(out, r)
		}
	}
	return out, nil
}

func row(names, cells []string) map[string]string {
	r := map[string]string{}
	for i, n := range names {
		switch {
		case i >= len(cells):
			return r
		case i == len(names)-1:
			r[n] = strings.Join(cells[i:], " ")
		default:
			r[n] = cells[i]
		}
	}
	return r
}

// linesOf gives the lines that match: how many for a number, the first for text, all as a list for json.
func linesOf(re *regexp.Regexp, output string, typ expr.Type) (any, error) {
	var found []any
	for l := range strings.Lines(output) {
		if l = strings.TrimRight(l, "\r\n"); re.MatchString(l) {
			found = append(found, l)
		}
		if len(found) > maxRows {
			return nil, fmt.Errorf("more than %d lines match %s", maxRows, re)
		}
	}
	switch typ {
	case expr.Integer, expr.Number:
		return len(found), nil
	case expr.JSON:
		if found == nil {
			found = []any{}
		}
		return found, nil
	}
	if len(found) == 0 {
		return nil, fmt.Errorf("%w: no line matches %s", ErrMissing, re)
	}
	return found[0], nil
}

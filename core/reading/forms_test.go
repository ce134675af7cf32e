package reading

import (
	"encoding/json"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/expr"
)

const disks = "Filesystem      Size  Used  Mounted on\n/dev/sda1       50G   12G   /\n/dev/sdb1       200G  180G  " +
	"/var data\n"

func TestForms(t *testing.T) {
	three := 3
	for name, c := range map[string]struct {
		spec Spec
		out  string
		exit *int
		want any
		err  string
	}{
		"a cell": {Spec{Table: &Table{Column: "Used",
			Where: map[string]string{"Mounted on": "/var data"}}}, disks, nil, "180G", ""},
		"a column": {Spec{Type: expr.JSON, Table: &Table{Column: "Used"}}, disks, nil, []any{"12G",
			"180G"}, ""},
		"all rows": {Spec{Type: expr.JSON, Table: &Table{Names: []string{"a", "b"}, Skip: 1}}, "x\n1 2\n",
			nil, []any{map[string]any{"a": "1", "b": "2"}}, ""},
		"the last takes all": {Spec{Table: &Table{Column: "b", Names: []string{"a", "b"}}}, "1 2 3\n", nil, "2 3", ""},
		"no such column":     {Spec{Table: &Table{Column: "Free"}}, disks, nil, nil, "no column Free"},
		"no such row": {Spec{Table: &Table{Column: "Used", Where: map[string]string{"Mounted on": "/x"}}},
			disks, nil, nil, "no row fits"},
		"two rows": {Spec{Table: &Table{Column: "Used"}}, disks, nil, nil, "2 rows match, one is needed"},
		"a short row": {Spec{Table: &Table{Column: "b", Names: []string{"a", "b"}}}, "1\n", nil, nil,
			"a row has no column b"},
		"an empty table": {Spec{Table: &Table{Column: "b"}}, "", nil, nil, "no header"},
		"how many lines": {Spec{Type: expr.Integer, Lines: regexp.MustCompile(`^/dev`)}, disks, nil, int64(2), ""},
		"no lines are 0": {Spec{Type: expr.Integer, Lines: regexp.MustCompile(`^x`)}, disks, nil, int64(0), ""},
		"the first line": {Spec{Lines: regexp.MustCompile(`sdb`)}, disks, nil, "/dev/sdb1       200G  180G  " +
			"/var data", ""},
		"no first line":         {Spec{Lines: regexp.MustCompile(`sdc`)}, disks, nil, nil, "no line matches"},
		"lines as a list":       {Spec{Type: expr.JSON, Lines: regexp.MustCompile(`sdc`)}, disks, nil, []any{}, ""},
		"the exit":              {Spec{Type: expr.Integer, Exit: true}, "", &three, int64(3), ""},
		"no exit":               {Spec{Type: expr.Integer, Exit: true}, "", nil, nil, "there was no exit"},
		"the whole":             {Spec{Whole: true}, "a\nb\r\n", nil, "a\nb", ""},
		"the whole as a number": {Spec{Type: expr.Integer, Whole: true}, "42\n", nil, int64(42), ""},
	} {
		t.Run(name, func(t *testing.T) {
			c.spec.Name = "r"
			got, err := Take(c.spec, []byte(c.out), c.exit)
			if c.err != "" {
				assert.ErrorContains(t, err, c.err)
				return
			}
			require.NoError(t, err)
			assert.Equal(t, c.want, got)
		})
	}
}

func value(t testing.TB, text string) any {
	v, err := ParseJSON([]byte(text))
	require.NoError(t, err)
	return v
}

func TestCompare(t *testing.T) {
	for name, c := range map[string]struct {
		want, got string
		how       How
		says      []string
	}{
		"the same":        {`{"a":[1,{"b":null}]}`, `{"a":[1,{"b":null}]}`, How{}, nil},
		"another value":   {`{"a":1}`, `{"a":2}`, How{}, []string{`/a is "2", expected "1"`}},
		"missing":         {`{"a":1}`, `{}`, How{}, []string{`/a is missing, expected "1"`}},
		"surplus":         {`{}`, `{"a":1}`, How{}, []string{`/a is "1", and not expected`}},
		"surplus allowed": {`{}`, `{"a":1}`, How{Subset: true}, nil},
		"another order": {`[1,2]`, `[2,1]`, How{}, []string{`/0 is "2", expected "1"`,
			`/1 is "1", expected "2"`}},
		"order does not": {`[1,2]`, `[2,1]`, How{AnyOrder: true}, nil},
		"twice is not once": {`[1,1]`, `[1,2]`, How{AnyOrder: true}, []string{`/ lacks "1"`,
			`/ has "2", which is not expected`}},
		"longer":     {`[1]`, `[1,2]`, How{}, []string{`/1 is "2", and not expected`}},
		"other kind": {`{"a":[1]}`, `{"a":"1"}`, How{}, []string{`/a is "1", expected a list`}},
	} {
		t.Run(name, func(t *testing.T) {
			var says []string
			for _, d := range Compare(value(t, c.want), value(t, c.got), c.how) {
				says = append(says, d.At+" "+d.Says)
			}
			assert.Equal(t, c.says, says)
		})
	}
}

func TestSchema(t *testing.T) {
	s, err := CompileSchema(
		value(t, `{"type":"object","required":["a"],"properties":{"a":{"type":"integer","maximum":5}}}`),
	)
	require.NoError(t, err)
	assert.Empty(t, s.Differences(map[string]any{"a": int64(3)}))
	d := s.Differences(map[string]any{"a": int64(9)})
	require.Len(t, d, 1)
	assert.Equal(t, "/a", d[0].At)
	assert.Contains(t, d[0].Says, "5")
	_, err = CompileSchema(value(t, `{"$ref":"http://elsewhere.example/schema"}`))
	assert.Error(t, err, "nothing is fetched")
	_, err = CompileSchema(value(t, `{"type":"nonsense"}`))
	assert.ErrorContains(t, err, "this is not a JSON Schema")
}

// FuzzForms gives any output to every form, with any configuration: what comes back is a value of the type, or an
// error.
func FuzzForms(f *testing.F) {
	f.Add(byte(0), byte(0), "Used", disks)
	f.Add(byte(1), byte(1), "^/dev", disks)
	f.Add(byte(2), byte(2), ".a", `{"a":[1]}`)
	f.Add(byte(3), byte(4), `(\d+)`, "x 12")
	f.Add(byte(4), byte(3), `{"type":"object"}`, `{}`)
	f.Fuzz(func(t *testing.T, form, typ byte, config, output string) {
		s := Spec{Name: "r", Type: expr.Types[int(typ)%len(expr.Types)]}
		switch form % 6 {
		case 0:
			s.Table = &Table{Column: config, Skip: int(typ) % 3}
		case 1, 3:
			re, err := regexp.Compile(config)
			if err != nil {
				t.Skip()
			}
			if s.Pattern = re; form%6 == 1 {
				s.Pattern, s.Lines = nil, re
			}
		case 2:
			q, err := CompileQuery(config)
			if err != nil {
				t.Skip()
			}
			s.JSON = q
		case 4:
			schemaOf(t, config, output)
			return
		case 5:
			s.Whole = true
		}
		v, err := Take(s, []byte(output), nil)
		if err != nil {
			return
		}
		again, err := Convert(v, s.Type)
		require.NoError(t, err)
		_, err = json.Marshal(again)
		_ = err // values such as infinities of jq have no JSON; they are refused when they are stored
	})
}

func schemaOf(t *testing.T, config, output string) {
	doc, err := ParseJSON([]byte(config))
	if err != nil {
		t.Skip()
	}
	got, err := ParseJSON([]byte(output))
	if err != nil {
		t.Skip()
	}
	require.Empty(t, Compare(got, got, How{}), "everything agrees with itself")
	require.Empty(t, Compare(got, got, How{AnyOrder: true, Subset: true}))
	if s, err := CompileSchema(doc); err == nil {
		s.Differences(got)
	}
}

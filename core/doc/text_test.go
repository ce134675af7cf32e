package doc

import (
	"strings"
	"testing"

	"github.com/goccy/go-yaml/ast"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSeveralDocuments(t *testing.T) {
	x := &Text{What: "a document"}
	docs := x.LoadAll([]byte("a: 1\n---\nb: 2\n---\n"))
	require.Empty(t, x.Findings)
	require.Len(t, docs, 2)
	assert.Equal(t, 3, Position(docs[1]).Line, "places are those of the whole text")
	assert.Nil(t, x.Load([]byte("a: 1\n---\nb: 2\n")))
	assert.Equal(t, "line 3: one file holds one document", x.Findings.Error())
}

func TestFields(t *testing.T) {
	x := &Text{What: "a lamp"}
	root := x.Load([]byte("name: quay\ncolor: green\nname: again\nlit:\n"))
	var name string
	got := x.Fields(root, "a lamp", map[string]func(ast.Node){
		"name": func(n ast.Node) { name = x.Word(n, "name") }, "colour": nil, "lit": nil,
	})
	assert.Equal(t, "quay", name)
	assert.Contains(t, got, "name")
	assert.Equal(t, "line 2: a lamp has no key color; did you mean colour?; line 3: name is said twice; "+
		"line 4: lit has no value", x.Sorted().Error())
}

func TestNearest(t *testing.T) {
	assert.Equal(t, "severity", Nearest("severty", []string{"summary", "severity"}))
	assert.Equal(t, "", Nearest("tide", []string{"summary", "severity"}))
	assert.Equal(t, "when", Nearest("if", []string{"on", "when"}))
	assert.Equal(t, "", Nearest("if", []string{"on"}), "another word is meant only where it is known")
}

// What a slip is taken for must not depend on where it stands.
func FuzzSlips(f *testing.F) {
	for _, s := range []string{"a: {{ b }}", "a: b: c", "\ta: b", "a: [b", "a: \"b", "-a: b", "a:b"} {
		f.Add("x: y\n"+s+"\nz: 1\n", 3)
	}
	f.Fuzz(func(t *testing.T, src string, line int) {
		if x, ok := slipIn(src, line, "',' or ']' must be specified"); ok {
			assert.Positive(t, x.Line)
			assert.Positive(t, x.Column)
			assert.LessOrEqual(t, x.Line, strings.Count(src, "\n")+1)
		}
	})
}

package task

import (
	"encoding/json"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func clock(name, address, first string) Request {
	return Request{Kind: "ssh", Step: "3.do@" + name + ".1", Target: Facts{Name: name, Address: address, Port: 22},
		Words: []string{"clockctl", "set-servers", "ntp-a", "ntp-b"}, Timeout: 30,
		Undo: &Request{Kind: "ssh", Target: Facts{Name: name, Address: address, Port: 22}, Timeout: 30,
			Words: []string{"clockctl", "set-servers", first, "ntp-b"}}}
}

func TestTheSameWordsAreSaidOnce(t *testing.T) {
	list := []Request{clock("c1", "127.0.10.1", "old-1"), clock("c2", "127.0.10.2", "old-2"),
		{Kind: "ssh", Step: "3.do@c1.2", Target: Facts{Name: "c1"}, Words: []string{"clockctl", "step"}, Timeout: 30}}
	parts, err := Table(list, func(r Request) string { return r.Step[len(r.Step)-1:] })
	require.NoError(t, err)
	require.Len(t, parts, 2)
	p := parts[0]
	assert.Equal(t, []string{"step", "target.address", "target.name", "undo.target.address", "undo.target.name",
		"undo.words.#2"}, p.Columns)
	assert.Equal(t, `"ntp-a"`, p.Common["words.#2"])
	assert.Equal(t, "undo: word 3", NameOf(p.Columns[5]))
	assert.Equal(t, []string{"c1", "c2"}, []string{p.Rows[0].Target, p.Rows[1].Target})
	assert.Equal(t, `"old-2"`, p.Rows[1].Cells[5])
	shape, err := p.Pattern(func(i int) string { return fmt.Sprintf("⟨%d⟩", i) })
	require.NoError(t, err)
	assert.Equal(t, []string{"clockctl", "set-servers", "⟨5⟩", "ntp-b"}, shape.Undo.Words)
	assert.Equal(t, []string{"clockctl", "set-servers", "ntp-a", "ntp-b"}, shape.Words)
}

func genRequest(t *rapid.T, deep bool) Request {
	text := rapid.SampledFrom([]string{"", "a", "b", "x.y", `\-`, "#0", "0", "ä\u202e", "{}"})
	key := rapid.SampledFrom([]string{"A", "x.y", `\`, "#1", "0", `\-`})
	r := Request{
		Kind: rapid.SampledFrom([]string{"ssh", "http"}).Draw(t, "kind"), Step: text.Draw(t, "step"),
		Target: Facts{
			Name:    text.Draw(t, "name"),
			Address: text.Draw(t, "address"),
			Port:    rapid.IntRange(0, 2).Draw(t, "p"),
		},
		Words:   rapid.SliceOfN(text, 0, 12).Draw(t, "words"),
		Env:     rapid.MapOfN(key, text, 0, 3).Draw(t, "env"),
		Headers: rapid.MapOfN(key, text, 0, 2).Draw(t, "headers"),
		Accept:  rapid.SliceOfN(rapid.IntRange(0, 3), 0, 3).Draw(t, "accept"),
		Timeout: rapid.IntRange(0, 2).Draw(t, "timeout"), Plain: rapid.Bool().Draw(t, "plain"),
		Secrets: rapid.MapOfN(key, rapid.IntRange(1, 3), 0, 2).Draw(t, "secrets"),
	}
	if rapid.Bool().Draw(t, "sql") {
		r.SQL = &Statement{Text: text.Draw(t, "text"), With: rapid.SliceOfN(text, 0, 2).Draw(t, "with")}
	}
	if deep && rapid.Bool().Draw(t, "undo") {
		u := genRequest(t, false)
		r.Undo = &u
	}
	return r
}

// TestATableSaysExactlyWhatTheRequestsSay wants every request back from the table, and nothing else, as its canonical
// JSON has it: that is what an approval's digest is made of.
func TestATableSaysExactlyWhatTheRequestsSay(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var list []Request
		for i := range rapid.IntRange(1, 12).Draw(t, "n") {
			if i > 0 && rapid.Bool().Draw(t, "alike") { // the same but for a word and the target
				r := list[rapid.IntRange(0, i-1).Draw(t, "as")]
				r.Target.Name = fmt.Sprint("t", i)
				list = append(list, r)
				continue
			}
			list = append(list, genRequest(t, true))
		}
		parts, err := Table(list, func(r Request) string { return r.Step })
		require.NoError(t, err)
		again, err := Requests(parts)
		require.NoError(t, err)
		want, err := json.Marshal(list)
		require.NoError(t, err)
		got, err := json.Marshal(again)
		require.NoError(t, err)
		assert.Equal(t, string(want), string(got))
		for _, p := range parts {
			for i, c := range p.Columns {
				same := true
				for _, row := range p.Rows {
					same = same && row.Cells[i] == p.Rows[0].Cells[i]
				}
				assert.False(t, same, "%s is the same everywhere, and a column", c)
			}
		}
	})
}

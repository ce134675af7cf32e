package engine

import (
	"io/fs"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	documents "urgentis/core/estate"
	"urgentis/core/library"
	"urgentis/core/reads"
	"urgentis/core/runbook"
	"urgentis/examples"
)

// judgedAs tells what is known of a look, with holes where it is filled in.
func judgedAs(set *reads.Set, st *runbook.Step) (reads.Verdict, string) {
	if st.Do.Script != nil {
		if set.Script(st.Do.Script.Text, nil) {
			return reads.Reads, ""
		}
		return reads.Unknown, "a script"
	}
	words := make([]string, len(st.Do.Run))
	for i, w := range st.Do.Run {
		if words[i] = w.Source; len(w.Source) > 1 && w.Source[:2] == "{{" {
			words[i] = reads.Hole
		}
	}
	return set.Command(words, nil)
}

// ownTools are those that each installation has under a name of its own (docs/library.md).
var ownTools = map[string]bool{"node": true, "release": true, "show": true, "settings": true}

// Every look that ships is one that is known to read: of the library without anybody's word, of the example by what its
// readers say.
func TestWhatShipsIsKnownToRead(t *testing.T) {
	books, err := library.All()
	require.NoError(t, err)
	looks := 0
	check := func(set *reads.Set, b *runbook.Book) {
		for _, st := range b.Everything() {
			if st.Verb != runbook.Look || st.OnlyReads != "" || st.Do.Script == nil && len(st.Do.Run) == 0 {
				continue
			}
			if st.Do.Plain || len(st.Do.Run) > 0 && ownTools[st.Do.Run[0].Source] {
				continue // judged by the kind of device, or by whoever has such a tool
			}
			looks++
			v, why := judgedAs(set, st)
			assert.Equal(t, reads.Reads, v, "%s: %s: %s", b.Name, st.Title, why)
		}
	}
	for _, r := range books {
		check(library.Reads(), r.Book)
	}
	assert.Greater(t, looks, 20)
	var files []documents.File
	require.NoError(t, fs.WalkDir(examples.Ferry, ".", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		text, err := fs.ReadFile(examples.Ferry, path)
		files = append(files, documents.File{Name: path, Text: string(text)})
		return err
	}))
	docs, _ := documents.Parse(files)
	set := library.Reads().Clone()
	for _, d := range docs {
		if d.Reader != nil {
			require.NoError(t, set.Extend(d.Reader))
		}
	}
	for _, d := range docs {
		switch {
		case d.Runbook != nil:
			check(set, d.Runbook)
		case d.Watch != nil:
			check(set, d.Watch.Looks)
		}
	}
	_, err = reads.Lines([]string{"show **"})
	require.NoError(t, err)
}

package runbook_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	. "urgentis/core/runbook"
	"urgentis/internal/testbooks"
)

const drawn = `urgentis: runbook/1
name: drawn
title: Drawn
owner: quayside
service: berth-queue

steps:
  # Why it is looked at.
  - look: How deep is it?   # at night too
    id: depth
    run: [berthq, depth]
    read:
      depth: {json: .depth, type: integer}

  - check: Is it deep?
    that: max(readings.depth) > 5
    fails:
      # nothing to do
      - note: "It is: shallow"
        text: "fine"
      - close: false-alarm
        because: "Fine."

  # The end.
  - close: repaired
    because: "Done."
`

func edited(t testing.TB, src string, e Edit) string {
	out, err := e.Apply([]byte(src))
	require.NoError(t, err)
	return string(out)
}

func TestEditsOfAPicture(t *testing.T) {
	for _, c := range []struct {
		name      string
		edit      Edit
		was, then string
	}{
		{"a title, its comment kept", Edit{Op: EditRename, Path: "1", Title: "How full is it?"},
			"- look: How deep is it?   # at night too", "- look: How full is it?   # at night too"},
		{"a title that needs quotes", Edit{Op: EditRename, Path: "2.fails.1", Title: "It is: # fine"},
			`- note: "It is: shallow"`, `- note: "It is: # fine"`},
		{"a title that needs them no more", Edit{Op: EditRename, Path: "2.fails.1", Title: "Fine"},
			`- note: "It is: shallow"`, `- note: Fine`},
		{"a step goes with its comment", Edit{Op: EditRemove, Path: "2.fails.1"},
			"      # nothing to do\n      - note: \"It is: shallow\"\n        text: \"fine\"\n", ""},
		{"the last one, with the line above it", Edit{Op: EditRemove, Path: "3"},
			"\n  # The end.\n  - close: repaired\n    because: \"Done.\"\n", "\n"},
		{"a new one in a close list", Edit{Op: EditAdd, Path: "2.fails.1", Verb: Wait, Title: "A while"},
			"        text: \"fine\"\n", "        text: \"fine\"\n      - wait: A while\n        for: 1m\n"},
		{"a new one of the whole has an empty line above it", Edit{Op: EditAdd, Path: "1", Verb: Wait, Title: "A while"},
			"integer}\n", "integer}\n\n  - wait: A while\n    for: 1m\n"},
	} {
		t.Run(c.name, func(t *testing.T) {
			require.Contains(t, drawn, c.was)
			want := strings.Replace(drawn, c.was, c.then, 1)
			assert.Equal(t, strings.TrimRight(want, "\n"), strings.TrimRight(edited(t, drawn, c.edit), "\n"))
		})
	}
	moved := edited(t, drawn, Edit{Op: EditDown, Path: "1"})
	assert.Less(t, strings.Index(moved, "check: Is it deep?"), strings.Index(moved, "# Why it is looked at.\n  - look:"))
	assert.Equal(t, drawn, edited(t, moved, Edit{Op: EditUp, Path: "2"}))
}

func TestEditsThatAreRefused(t *testing.T) {
	brackets := strings.Replace(drawn, "      # nothing to do\n      - note: \"It is: shallow\"\n        text: \"fine\"\n"+
		"      - close: false-alarm\n        because: \"Fine.\"\n", "      [{close: false-alarm, because: Fine}]\n", 1)
	for _, c := range []struct {
		src  string
		edit Edit
		says string
	}{
		{drawn, Edit{Op: EditUp, Path: "1"}, "no step on that side"},
		{drawn, Edit{Op: EditDown, Path: "3"}, "no step on that side"},
		{drawn, Edit{Op: EditRemove, Path: "7"}, "no such step"},
		{drawn, Edit{Op: EditRename, Path: "1", Title: "a\nb"}, "one line"},
		{drawn, Edit{Op: EditRename, Path: "1", Title: "{{ 1 }}"}, "without holes"},
		{drawn, Edit{Op: EditRename, Path: "3", Title: "mitigated"}, "is no title"},
		{drawn, Edit{Op: EditAdd, Path: "1", Verb: "explode", Title: "x"}, "is no verb"},
		{drawn, Edit{Op: "paint", Path: "1"}, "no way to alter"},
		{brackets, Edit{Op: EditRemove, Path: "2.fails.1"}, "within brackets"},
		{"a: [", Edit{Op: EditUp, Path: "1"}, "no steps"},
		{strings.Replace(drawn, "look: How deep is it?   # at night too", "look: >\n      How deep\n      is it?", 1),
			Edit{Op: EditRename, Path: "1", Title: "x"}, "does not stand on one line"},
	} {
		out, err := c.edit.Apply([]byte(c.src))
		require.ErrorIs(t, err, ErrEdit, string(out))
		assert.ErrorContains(t, err, c.says)
	}
}

// steps are what a text has: each with its verb and title, in the order of the text.
func stepsOf(t *rapid.T, src []byte) []string {
	b, found := Sketch(src)
	require.NotNil(t, b, found.Format("x", src))
	out := []string{}
	for _, s := range b.All() {
		out = append(out, string(s.Verb)+" "+s.Title)
	}
	slices.Sort(out)
	return out
}

func commentsOf(src []byte) []string {
	out := []string{}
	for l := range strings.Lines(string(src)) {
		if i := strings.Index(l, "#kept"); i >= 0 {
			out = append(out, strings.TrimSpace(l[i:]))
		}
	}
	slices.Sort(out)
	return out
}

// Whatever is altered in the picture and altered back leaves the text as it was, byte for byte, also where somebody
// wrote in the text meanwhile; comments survive, and a text in the canonical form stays in it.
func TestAPictureAlteredAndBackChangesNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		src := []byte("urgentis: runbook/1\nname: drawn\ntitle: Drawn\nowner: o\nservice: s\n" +
			testbooks.Author{T: t, People: true}.Book())
		src, err := Format(src)
		require.NoError(t, err)
		src = commented(t, src)
		b, _ := Sketch(src)
		require.NotNil(t, b)
		all := b.All()
		s := all[rapid.IntRange(0, len(all)-1).Draw(t, "step")]
		if s.Path == "" || !strings.ContainsAny(s.Path[len(s.Path)-1:], "0123456789") {
			t.Skip("no step of a list")
		}
		do, back := pair(t, s)
		after, err := do.Apply(src)
		if err != nil {
			require.ErrorIs(t, err, ErrEdit)
			return
		}
		wrote, mine := meanwhile(t, src), func(x []byte) []byte { return x }
		if wrote != "" {
			mine = func(x []byte) []byte { return append(slices.Clone(x), wrote...) }
		}
		restored, err := back.Apply(mine(after))
		require.NoError(t, err, "%+v\n%s", back, after)
		require.Equal(t, string(mine(src)), string(restored), "%+v and back\n%s", do, after)
		require.Equal(t, commentsOf(src), commentsOf(after), "%+v\n%s", do, after)
		if do.Op == EditUp || do.Op == EditDown {
			require.Equal(t, stepsOf(t, src), stepsOf(t, after))
		}
		if formed, err := Format(src); err == nil && string(formed) == string(src) {
			now, err := Format(after)
			require.NoError(t, err)
			require.Equal(t, string(now), string(after), "%+v keeps the form", do)
		}
	})
}

// pair is an alteration of a step, and the one that takes it back.
func pair(t *rapid.T, s *Step) (do, back Edit) {
	prefix, n := s.Path[:strings.LastIndexByte(s.Path, '.')+1], 0
	_, err := fmt.Sscan(s.Path[len(prefix):], &n)
	require.NoError(t, err)
	sibling := func(by int) string { return fmt.Sprintf("%s%d", prefix, n+by) }
	switch rapid.SampledFrom([]EditOp{EditRename, EditUp, EditDown, EditAdd}).Draw(t, "op") {
	case EditUp:
		return Edit{Op: EditUp, Path: s.Path}, Edit{Op: EditDown, Path: sibling(-1)}
	case EditDown:
		return Edit{Op: EditDown, Path: s.Path}, Edit{Op: EditUp, Path: sibling(1)}
	case EditAdd:
		return Edit{Op: EditAdd, Path: s.Path, Verb: Wait, Title: "A while"}, Edit{Op: EditRemove, Path: sibling(1)}
	}
	return Edit{Op: EditRename, Path: s.Path, Title: "Another: title"},
		Edit{Op: EditRename, Path: s.Path, Title: s.Title}
}

// meanwhile is what somebody adds at the end of the text meanwhile; "" for nothing.
func meanwhile(t *rapid.T, src []byte) string {
	if !strings.HasSuffix(string(src), "\n") || rapid.Bool().Draw(t, "alone") {
		return ""
	}
	return "#kept at the end\n"
}

// commented puts comments above some steps.
func commented(t *rapid.T, src []byte) []byte {
	var out []string
	for l := range strings.Lines(string(src)) {
		trimmed := strings.TrimLeft(l, " ")
		if strings.HasPrefix(trimmed, "- ") && strings.Contains(trimmed, ": ") && rapid.IntRange(0, 4).Draw(t, "note") == 0 {
			out = append(out, fmt.Sprintf("%s#kept %d\n", l[:len(l)-len(trimmed)], len(out)))
		}
		out = append(out, l)
	}
	return []byte(strings.Join(out, ""))
}

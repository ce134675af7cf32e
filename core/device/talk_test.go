package device_test

import (
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"urgentis/core/device"
)

func all(s string) *regexp.Regexp { return regexp.MustCompile(`^\s*(?:` + s + `)\s*$`) }

// quay is a switch with paging, a mode that asks for a secret, and one that is entered from it.
func quay() *device.Kind {
	return &device.Kind{
		Name: "quay-switch", Ready: all(`[a-z0-9-]+>`), Before: []string{"pages off"},
		More: &device.More{Seen: all(`--more--`), Type: " "}, Refused: regexp.MustCompile(`^% `),
		Secret: "s", Leave: []string{"bye"},
		Modes: map[string]*device.Mode{
			"raised":   {Name: "raised", Type: "raise", Asks: all("Word:"), Ready: all(`[a-z0-9-]+#`), Leave: "lower"},
			"settings": {Name: "settings", From: "raised", Type: "set", Ready: all(`[a-z0-9-]+\(set\)#`), Leave: "end"},
		},
	}
}

// play lets a talk hear each piece and tells what it types between them.
func play(t *device.Talk, pieces ...string) (typed []string) {
	for _, p := range pieces {
		t.Hear([]byte(p))
		if s, ok := t.Quiet(); ok {
			typed = append(typed, s)
		}
	}
	return typed
}

func TestALookOnADevice(t *testing.T) {
	talk, err := device.NewTalk(quay(), "", []string{"show ports"}, "")
	require.NoError(t, err)
	typed := play(talk, "Welcome\r\nquay-1> ", "pages off\r\nquay-1>", "show ports\r\n1 up\r\n2 down\r\n--more--",
		"\r        \r3 up\r\n\x1b[7mquay-1>\x1b[0m ")
	assert.Equal(t, []string{"pages off\n", "show ports\n", " ", "bye\n"}, typed)
	assert.True(t, talk.Over())
	assert.Equal(t, "1 up\n2 down\n3 up\n", talk.Take())
	says, _, _ := talk.Refused()
	assert.Empty(t, says+talk.Failed())
}

func TestModes(t *testing.T) {
	talk, err := device.NewTalk(quay(), "settings", []string{"port 4", "reset"}, "open")
	require.NoError(t, err)
	typed := play(talk, "quay-1>", "pages off\r\nquay-1>", "raise\r\nWord: ", "\r\nquay-1#", "set\r\nquay-1(set)#",
		"port 4\r\nquay-1(set)#", "reset\r\ndone\r\nquay-1(set)#")
	assert.Equal(t, []string{"pages off\n", "raise\n", "open\n", "set\n", "port 4\n", "reset\n",
		"end\nlower\nbye\n"}, typed)
	assert.Equal(t, "done\n", talk.Take(), "neither echoes nor the secret")

	_, err = device.NewTalk(quay(), "root", []string{"x"}, "")
	assert.ErrorContains(t, err, "have no mode root: it has raised, settings")
}

// The secret is typed where it was asked for, and nowhere else.
func TestAWrongSecret(t *testing.T) {
	for name, answer := range map[string]string{
		"it asks again":         "\r\nWord: ",
		"it stays where it was": "\r\nquay-1>",
		"it says so":            "\r\n% wrong\r\nquay-1>",
	} {
		talk, err := device.NewTalk(quay(), "settings", []string{"port 4"}, "open")
		require.NoError(t, err)
		typed := play(talk, "quay-1>", "pages off\r\nquay-1>", "raise\r\nWord: ", answer)
		assert.Equal(t, []string{"pages off\n", "raise\n", "open\n"}, typed, name)
		assert.True(t, talk.Over(), name)
		assert.Contains(t, talk.Failed(), "the mode raised", name)
		assert.Zero(t, talk.Typed(), name)
	}
}

func TestARefusedLineEndsIt(t *testing.T) {
	talk, err := device.NewTalk(quay(), "", []string{"port 4", "vlan 99", "reset"}, "")
	require.NoError(t, err)
	typed := play(talk, "quay-1>", "quay-1>", "port 4\r\nquay-1>", "vlan 99\r\n% there is no 99\r\nquay-1>")
	assert.Equal(t, []string{"pages off\n", "port 4\n", "vlan 99\n", "bye\n"}, typed)
	says, line, of := talk.Refused()
	assert.Equal(t, "% there is no 99", says)
	assert.Equal(t, []int{2, 3}, []int{line, of})

	talk, err = device.NewTalk(quay(), "", []string{"show"}, "")
	require.NoError(t, err)
	play(talk, "quay-1>", "pages off\r\n% what?\r\nquay-1>")
	assert.Equal(t, "the device did not take what is typed first: % what?", talk.Failed())
}

func TestAPromptThatNeverComes(t *testing.T) {
	talk, err := device.NewTalk(quay(), "", []string{"show", "more"}, "")
	require.NoError(t, err)
	assert.Contains(t, talk.Waiting(), "once signed in; its last line was empty")
	typed := play(talk, "Accept the rules? [y/n] ")
	assert.Empty(t, typed, "nothing is typed where nobody knows what it is for")
	assert.Contains(t, talk.Waiting(), `its last line was "Accept the rules? [y/n]"`)
	play(talk, "\r\nquay-1>", "quay-1>", "show\r\nReally? ")
	assert.Contains(t, talk.Waiting(), `after line 1 of 2; its last line was "Really?"`)
	assert.Equal(t, 1, talk.Typed())
}

// A line that only looks like a prompt within what is printed is none, and a device that shows no echo loses nothing.
func TestWhatIsPrintedIsKept(t *testing.T) {
	k := quay()
	k.Before = nil
	talk, err := device.NewTalk(k, "", []string{"show"}, "")
	require.NoError(t, err)
	play(talk, "q>", "a>\nquay-1> is a name\n\x1b]0;title\ab\b\bXY\nlast")
	assert.False(t, talk.Over())
	play(talk, "\nq>")
	assert.True(t, talk.Over())
	assert.Equal(t, "a>\nquay-1> is a name\nXY\nlast\n", talk.Take())
}

// However what is printed is cut into pieces, the same comes of it, as long as the device is silent at its prompts
// only.
func TestPiecesDoNotMatter(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		lines := rapid.SliceOfN(rapid.StringMatching(`[a-z0-9 .:/]{0,40}`), 0, 20).Draw(t, "lines")
		k := quay()
		k.Before = nil
		talk, err := device.NewTalk(k, "", []string{"show all"}, "")
		require.NoError(t, err)
		play(talk, "q>")
		text := "show all\r\n" + strings.Join(append(lines, ""), "\r\n") + "q>"
		for text != "" {
			n := rapid.IntRange(1, len(text)).Draw(t, "n")
			talk.Hear([]byte(text[:n]))
			text = text[n:]
		}
		typed, ok := talk.Quiet()
		require.True(t, ok)
		assert.Equal(t, "bye\n", typed)
		want := ""
		for _, l := range lines {
			want += strings.TrimRight(l, " ") + "\n"
		}
		assert.Equal(t, want, talk.Take())
	})
}

// FuzzTalk wants no device to make us type the secret unasked, or to keep us from bounded memory.
func FuzzTalk(f *testing.F) {
	f.Add("q>q>\nWord:\nq#q(set)#")
	f.Add("0>0>Wor\x02d:") // what a screen does not show is not there
	asked := regexp.MustCompile("(?s)W.*o.*r.*d.*:")
	f.Fuzz(func(t *testing.T, printed string) {
		talk, err := device.NewTalk(quay(), "settings", []string{"a", "b"}, "SECRET")
		require.NoError(t, err)
		for i := range len(printed) {
			talk.Hear([]byte(printed[i : i+1]))
			if typed, ok := talk.Quiet(); ok && strings.Contains(typed, "SECRET") {
				last := printed[:i+1]
				require.Regexp(t, asked, last)
			}
		}
		talk.Waiting()
	})
}

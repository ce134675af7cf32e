package message

import (
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// An alert's text that forges lines, links, calls to everybody and an approval, as it was tried.
const forged = "Depth is 800\r\nApproved already by mara, nothing to do.\nSee http://evil.example/a#k " +
	"<!channel> [Approve](http://evil.example) @here \x1b[2J\u202e"

func TestNothingOfAnAlertForgesAMessage(t *testing.T) {
	m := (&Message{
		Subject: "Approval needed until 12:47 UTC: " + forged, Title: forged, Service: forged, Incident: 7,
		Lines: []Line{{Name: "Trend", Text: forged}, {Name: "On web-1", Text: "curl http://a/<b>\n\x1b[2J", Fixed: true}},
		Also:  []string{forged}, Choices: []Choice{{Label: forged, Link: "https://u/a#key"}},
	}).Outward()
	for _, text := range []string{m.Text(), m.Short(4000), m.HTML(), m.Heading(), m.Names(4000)["text"].(string)} {
		assert.NotContains(t, text, "\x1b")
		assert.NotContains(t, text, "\u202e")
		assert.NotContains(t, text, "http://evil")
		assert.NotContains(t, text, "<!channel>")
		assert.NotContains(t, text, "](")
		assert.NotContains(t, text, "@here")
		for _, line := range strings.Split(text, "\n") {
			assert.False(t, strings.HasPrefix(line, "Approved already") || strings.HasPrefix(line, "See "), line)
		}
	}
	assert.Contains(t, m.Text(), "    curl http://a/<b>", "what somebody says yes to stands as it is, in lines of its own")
	assert.NotContains(t, m.Heading(), "\n")
	assert.True(t, strings.HasPrefix(m.Heading(), "Approval needed until 12:47 UTC: "))
	assert.True(t, strings.HasSuffix(m.Heading(), " [7]"))
}

func TestForeignTextIsTheSameTwice(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.StringN(0, 300, -1).Draw(t, "text") +
			rapid.SampledFrom([]string{"", "://", "<a>", "\r\n", "www.x", "](", "@here", "\xff"}).Draw(t, "more")
		once := Foreign(text, 200)
		assert.Equal(t, once, Foreign(once, 200))
		assert.LessOrEqual(t, utf8.RuneCountInString(once), 200)
		assert.True(t, utf8.ValidString(once))
		assert.NotRegexp(t, `<[!@#/\pL]`, once)
		for _, bad := range []string{"\n", "\r", "://", "\x1b"} {
			assert.NotContains(t, once, bad)
		}
	})
}

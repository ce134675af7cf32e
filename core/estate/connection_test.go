package estate

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/message"
	"urgentis/core/route"
)

const connections = `urgentis: connection/1
name: quayside-room
kind: room
url: {secret: room_address}
body: {text: "{{ message.text }}", thread: "{{ message.incident }}"}
sign: "{{ secrets.room }}"
back: {person: body.user, do: body.press, refers: body.about, digest: body.shown}
says:
  incident.closed: "Over: {{ message.title }}"
---
urgentis: connection/1
name: harbour-mail
kind: mail
server: mail.merrow.example:587
account: urgentis
password: "{{ secrets.mail }}"
from: Urgentis <urgentis@merrow.example>
---
urgentis: connection/1
name: harbour-desk
kind: desk
when: incident.severity in ["critical", "major"]
open:
  url: https://desk.merrow.example/tickets
  headers: {Authorization: "Bearer {{ secrets.desk }}"}
  body: {short: "{{ incident.title }}", urgency: "{{ incident.severity == 'critical' ? 1 : 2 }}"}
  read: {number: answer.body.ticket.id, link: answer.body.ticket.page}
comment:
  method: PUT
  url: https://desk.merrow.example/tickets/{{ ticket.number }}/notes
  form: true
  body: {note: "{{ comment.text }}"}
---
urgentis: route/1
name: quayside-by-day
when: notice.owner == "quayside"
hours: {inside: quayside-staffed}
tell: [room/quayside-room]
escalate_after: 2m
`

func TestConnectionsAndRoutes(t *testing.T) {
	list, found := Parse([]File{{"a", connections}})
	require.Empty(t, found)
	room := list[0].Connection
	m := &message.Message{Kind: route.IncidentOpened, Subject: "Deep", Incident: 7, Title: "deep queue"}
	names, err := room.NamesFor(m)
	require.NoError(t, err)
	call, err := room.Send.Render(names, nil)
	require.NoError(t, err)
	assert.Equal(t, "room_address", call.Secret)
	assert.JSONEq(t, `{"text": "Deep", "thread": 7}`, call.Body, "a text that is one hole keeps its type")
	m.Kind = route.IncidentClosed
	text, err := room.Worded(m)
	require.NoError(t, err)
	assert.Equal(t, "Over: deep queue", text)

	desk := list[2].Connection.Desk
	call, err = desk.Open.Render(map[string]any{"incident": map[string]any{"title": "x", "severity": "critical"}}, nil)
	require.NoError(t, err)
	assert.JSONEq(t, `{"short": "x", "urgency": 1}`, call.Body)
	read, err := desk.Open.ReadAnswer(201, `{"ticket": {"id": 41, "page": "https://desk/41"}}`)
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"number": "41", "link": "https://desk/41"}, read)
	for _, nonsense := range []string{
		`{"ticket": {"id": "4\u00001", "page": "x"}}`,
		`{"ticket": {"id": "` + strings.Repeat("9", 3000) + `", "page": "x"}}`,
		"", "OK", "{}", `{"ticket": {"id": ""}}`, `{"ticket": 3}`, `[]`, "\xff",
	} {
		_, err = desk.Open.ReadAnswer(200, nonsense)
		assert.Error(t, err, "%q is no number", nonsense)
	}
	call, err = desk.Comment.Render(map[string]any{
		"ticket": map[string]any{"number": "4/1"}, "comment": map[string]any{"text": "a&b"}}, nil)
	require.NoError(t, err)
	assert.Equal(t, "https://desk.merrow.example/tickets/4%2F1/notes", call.URL)
	assert.Equal(t, "note=a%26b", call.Body)

	r := list[3].Route
	assert.Equal(t, 2*time.Minute, r.EscalateAfter)
	assert.True(t, r.Inside)
}

func TestMistakesInConnectionsAndRoutes(t *testing.T) {
	of := func(kind, rest string) string { return "urgentis: connection/1\nname: a\nkind: " + kind + "\n" + rest }
	for text, says := range map[string]string{
		of("room", ""):                                "1: the url is missing: where it is sent to, as in url: https://rooms.merrow.example/hook",
		of("room", "url: ftp://x/"):                   "4: a url begins with http:// or https://",
		of("room", "url: 'http://{{ message.to }}/'"): "4: the host of a url must be written out",
		of("rom", "url: http://x/"):                   "3: kind must be one of room, text, mail, webhook, syslog, desk, not rom; did you mean room?",
		of("mail", "server: mail:25\n"):               "1: the connection has no from",
		of("mail", "server: mail\nfrom: a@b"):         "4: server must be HOST:PORT, as in mail.merrow.example:587",
		of("syslog", "server: a:514\nlinks: act"):     "5: links is nothing of a connection of the kind syslog",
		of("desk", "open: {url: http://x/}"): "4: open must read the ticket's number from the answer, as in read: " +
			"{number: answer.body.id}",
		of("room", "url: http://x/\nback: {person: body.a, do: body.b, refers: body.c}"): "5: what calls back must be " +
			"signed: say with which secret, as in sign: '{{ secrets.room }}'",
		of("room", "url: http://x/\nsays: {gate: x}"): "5: there is no notice gate; they are",
		"urgentis: route/1\nname: a\n":                "1: a route either tells somebody (tell: [on-call/quayside]), or says nobody: true",
		"urgentis: route/1\nname: a\ntell: [mara]":    `3: "mara" is nobody: write room/NAME, team/NAME, on-call/NAME, person/NAME or connection/NAME`,
		"urgentis: route/1\nname: a\ntell: [person/a]\nlast_resort: true\nwhen: notice.urgent": "1: the last resort is " +
			"told at any time of whatever nobody took: it has no when, hours, page_after or nobody",
	} {
		_, found := Parse([]File{{"a", text}})
		if assert.NotEmpty(t, found, text) {
			assert.Contains(t, found[0].Sentence(), says[3:], text)
			assert.Equal(t, says[:1], string(rune('0'+found[0].Line)), text)
		}
	}
}

package telling

import (
	"context"
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/incident"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

const bureau = `urgentis: connection/1
name: bureau
kind: desk
open: {url: 'http://127.0.0.1:1/', read: {number: answer.body.id}}
comment: {url: 'http://127.0.0.1:1/', body: {text: "{{ comment.text }}"}}
update: {url: 'http://127.0.0.1:1/', body: {unsuccessful: "{{ incident.handed_over }}"}}
resolve: {url: 'http://127.0.0.1:1/'}
`

// desk is a teller with a ticket at a desk, at which everything arrives at once.
type desk struct{ *teller }

func deskOf(t *testing.T, documents string) *desk {
	x := &desk{tellingTo(t, harbour+"---\n"+documents)}
	ctx := context.Background()
	_, err := x.Store.In(ctx).AddTicket(x.inc, "bureau", store.TicketWanted)
	require.NoError(t, err)
	require.NoError(t, x.Store.In(ctx).TicketMade(&store.Ticket{Incident: x.inc, Connection: "bureau", Number: "T1"}))
	x.write(incident.AlertRaised, "It is deep", nil)
	assert.NotEmpty(t, x.follow(0), "what stood there before it had a number is told at once")
	return x
}

func (x *desk) write(kind incident.Kind, title string, content any) {
	raw, err := json.Marshal(content)
	require.NoError(x.t, err)
	if content == nil {
		raw = []byte("{}")
	}
	of := (&incident.Entry{Kind: kind, Content: raw}).Read()
	require.NoError(x.t, x.Store.Tx(context.Background(), func(tx *store.Tx) error {
		r := store.NewRecordWriter(tx)
		i, err := r.Incident(x.inc)
		if err != nil {
			return err
		}
		if err := r.Write(i, store.NewEntry{
			At: x.at, Kind: kind, Actor: "runbook:berths", Title: title, Content: of,
		}); err != nil {
			return err
		}
		return r.Flush()
	}))
}

// follow lets the ticket follow the record, so many seconds later, and gives what the desk is told.
func (x *desk) follow(seconds int) []DeskWord {
	db := testdb.SQL(x.Store)
	require.NoError(x.t, db.Exec("update ticket set told_at = told_at - ? * interval '1 second'", seconds).Error)
	require.NoError(x.t, x.desksOnce(context.Background()))
	var rows []store.Delivery
	require.NoError(x.t, db.Raw(`update delivery set state = 'sent' where kind = 'desk' and state = 'queued'
		returning *`).Scan(&rows).Error)
	out := make([]DeskWord, len(rows))
	for i, r := range rows {
		require.NoError(x.t, json.Unmarshal([]byte(r.Body), &out[i]))
	}
	return out
}

// A ticket is written to at once, and then at most every half a minute, with all that mattered since, its readings and
// what failed; what is only machinery is left out.
func TestATicketIsWrittenToInPieces(t *testing.T) {
	x := deskOf(t, bureau)
	for i := range 5 {
		x.write(incident.LookTaken, "How deep?", map[string]any{"target": "queue-1", "shown": "depth",
			"readings": map[string]any{"depth": map[string]any{"value": 800 + i, "unit": "messages"}}})
		x.write(incident.LockTaken, "Waits for no other run any more", nil)
		assert.Empty(t, x.follow(2))
	}
	x.write(incident.ChangeEnded, "Park the poison", map[string]any{"target": "queue-1", "shown": "park 7",
		"state": "failed", "exit": 4, "stderr": map[string]any{"head": "no such message"}})
	words := x.follow(30)
	require.Len(t, words, 1)
	assert.Contains(t, words[0].Text, "look  How deep? depth 800 → 804 messages, 5 rounds")
	assert.Contains(t, words[0].Text, "change  Park the poison: failed on queue-1")
	assert.Contains(t, words[0].Text, "    ended: exit 4, no such message")
	assert.NotContains(t, words[0].Text, "other run")

	x.write(incident.LockTaken, "Waits for no other run any more", nil)
	assert.Empty(t, x.follow(30), "nothing that matters")
	x.write(incident.Note, "Seen", map[string]any{"text": "It leaks."})
	require.NoError(t, testdb.SQL(x.Store).Exec("update incident set state = 'closed', outcome = 'repaired', "+
		"closed_at = now()").Error)
	words = x.follow(1)
	require.Len(t, words, 2, "what is over is told at once")
	assert.Contains(t, words[0].Text, "It leaks.")
	assert.Equal(t, DeskResolve, words[1].Do)
}

func TestADeskIsToldOfWhatItsDocumentChose(t *testing.T) {
	x := deskOf(t, bureau+"copies: [lock, note.outward]\n")
	x.write(incident.LockTaken, "Waits for no other run any more", nil)
	x.write(incident.Note, "Seen", map[string]any{"text": "It leaks."})
	x.write(incident.Outward, "For others", map[string]any{"text": "We work on it."})
	words := x.follow(30)
	require.Len(t, words, 2)
	assert.Contains(t, words[0].Text, "other run")
	assert.Contains(t, words[1].Text, "We work on it.")
	assert.NotContains(t, words[0].Text, "It leaks.")
}

// What was handed over leaves its ticket open, and marked so that the desk sees that it did not succeed.
func TestATicketOfWhatWasHandedOver(t *testing.T) {
	x := deskOf(t, bureau)
	require.NoError(t, testdb.SQL(x.Store).Exec(`insert into run 
		(id, incident, runbook, title, revision, state, started_by, begun_at)
		values ('r1', ?, 'berths', 'Berths', 'x', 'handed-over', 'mara', now())`, x.inc).Error)
	require.NoError(t, x.Store.In(context.Background()).AddHandOvers([]store.HandOver{{Run: "r1", Incident: &x.inc,
		State: "handed-over", Because: "the queue does not drain", At: x.at}}))
	x.write(incident.RunHandedOver, "Handed over", map[string]any{"because": "the queue does not drain"})
	words := x.follow(30)
	require.Len(t, words, 2)
	assert.Equal(t, []string{DeskComment, DeskUpdate}, []string{words[0].Do, words[1].Do})
	inc, err := x.Store.In(context.Background()).Incident(x.inc)
	require.NoError(t, err)
	names, err := x.DeskNames(x.Store.In(context.Background()), inc)
	require.NoError(t, err)
	about := names["incident"].(map[string]any)
	assert.Equal(t, true, about["handed_over"])
	assert.Equal(t, "berths: the queue does not drain", about["left"])
	tickets, err := x.Store.In(context.Background()).TicketsOf(x.inc)
	require.NoError(t, err)
	assert.Equal(t, store.TicketOpen, tickets[0].State)
}

// What a runbook tells the ticket is copied whatever was chosen; what is for others too stands in a note of its own,
// even where it comes between others.
func TestARunbookWritesToTheTicket(t *testing.T) {
	x := deskOf(t, bureau+"copies: [gate]\n")
	x.write(incident.GateRaised, "Asked for approval", nil)
	x.write(incident.Told, "Ships wait", map[string]any{"text": "For the desk.", "to": []string{"ticket", "room/quay"}})
	x.write(incident.Told, "In the room", map[string]any{"text": "Not for the desk.", "to": []string{"room/quay"}})
	x.write(incident.Outward, "For others: Ships wait", map[string]any{"text": "We work on it."})
	x.write(incident.GateApproved, "Approved", nil)
	words := x.follow(30)
	require.Len(t, words, 1, "copies leaves notes for others out")
	assert.True(t, words[0].Inner)
	assert.Contains(t, words[0].Text, "For the desk.")
	assert.NotContains(t, words[0].Text, "Not for")

	y := deskOf(t, bureau)
	y.write(incident.GateRaised, "Asked for approval", nil)
	y.write(incident.Outward, "For others: Ships wait", map[string]any{"text": "We work on it."})
	words = y.follow(30)
	require.Len(t, words, 2)
	assert.True(t, words[0].Inner)
	assert.NotContains(t, words[0].Text, "We work on it.")
	assert.False(t, words[1].Inner)
	assert.Contains(t, words[1].Text, "We work on it.")
}

package app_test

import (
	"encoding/base64"
	"fmt"
	"net/http"
	"strconv"
	"testing"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/access"
	"urgentis/core/alert"
	"urgentis/core/doc"
	"urgentis/internal/app"
	"urgentis/internal/connect"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

// told makes an incident, a message about it to mara, and a link of that message.
func told(t *testing.T, a *site, key string, ends time.Duration) int64 {
	got, err := a.Intake.Take(
		ctx,
		"mon",
		alert.Report{Key: key, Severity: alert.Major, Summary: "deep", At: alert.SaidAt(time.Now())},
	)
	require.NoError(t, err)
	require.NoError(t, a.Store.Tx(ctx, func(tx *store.Tx) error {
		list := []store.Delivery{
			{Key: key, Kind: "text", Connection: "texts", Body: "{}", Receiver: "mara", Address: "1",
				Incident: &got.Incident, State: "sent", QueuedAt: time.Now()},
		}
		if err := tx.AddDeliveries(list); err != nil {
			return err
		}
		_, err := tx.AddLink(&store.Link{Hash: connect.LinkHash(key), Person: "mara", Delivery: list[0].ID,
			Refers: fmt.Sprintf("incident/%d", got.Incident), EndsAt: time.Now().Add(ends)})
		return err
	}))
	return got.Incident
}

func withPeople(t *testing.T, a *site) {
	for name, roles := range map[string][]access.Role{"mara": {access.Approver}, "jonas": {access.Responder}} {
		_, err := a.SetPerson(ctx, iva, name, name+"-has-a-password", roles)
		require.NoError(t, err)
	}
}

func TestALinkIsForOnePerson(t *testing.T) {
	a := open(t)
	withPeople(t, a)
	number := told(t, a, "key-1", time.Hour)
	o, err := a.OpenLink(ctx, nil, "key-1")
	require.NoError(t, err)
	assert.Equal(t, "mara", o.Person)
	assert.Equal(t, number, o.Incident.Number)
	_, err = a.OpenLink(ctx, jonas, "key-1")
	assert.EqualError(t, err, "this link was sent to mara, and jonas is signed in here")
	assert.Error(t, a.ActByLink(ctx, jonas, "key-1", app.Act{Do: app.DoTake}))
	_, err = a.OpenLink(ctx, nil, "key-2")
	assert.ErrorContains(t, err, "there is no such link")

	require.NoError(t, a.ActByLink(ctx, nil, "key-1", app.Act{Do: app.DoTake}))
	i, err := a.Store.In(ctx).Incident(number)
	require.NoError(t, err)
	assert.Equal(t, "mara", i.Holder)

	err = a.ActByLink(ctx, nil, "key-1", app.Act{Do: app.DoApprove, Digest: "x"})
	assert.ErrorContains(t, err, "cannot be done with what the message is about")
	o, err = a.OpenLink(ctx, nil, "key-1")
	require.NoError(t, err)
	assert.Empty(t, o.Used, "what was refused used nothing up")
	used, err := a.Store.In(ctx).UseLink(connect.LinkHash("key-1"), "approve")
	require.NoError(t, err)
	assert.True(t, used)
	assert.EqualError(t, a.ActByLink(ctx, nil, "key-1", app.Act{Do: app.DoRefuse, Digest: "x"}),
		"this link was used already (approve), and decides once; sign in to say more")
	o, err = a.OpenLink(ctx, nil, "key-1")
	require.NoError(t, err)
	assert.Contains(t, o.Happened, "You approved it at ")
	l, err := a.Store.In(ctx).Link(connect.LinkHash("key-1"))
	require.NoError(t, err)
	assert.NoError(t, a.ActByLink(ctx, nil, "key-1", app.Act{Do: app.DoApprove, Digest: l.Digest}),
		"the same word again: its answer may have been lost")

	told(t, a, "key-3", -time.Second)
	_, err = a.OpenLink(ctx, nil, "key-3")
	assert.EqualError(t, err, "this link has ended; sign in instead")
	told(t, a, "key-4", time.Hour)
	require.NoError(t, a.RemovePerson(ctx, iva, "mara"))
	_, err = a.OpenLink(ctx, nil, "key-4")
	assert.ErrorContains(t, err, "there is no such link", "whoever is gone has no links")
}

const backRoom = `urgentis: connection/1
name: room
kind: room
url: http://127.0.0.1:1/
sign: "{{ secrets.room }}"
back: {person: body.who, do: body.press, refers: body.about, digest: body.shown}
`

func TestARoomCallsBack(t *testing.T) {
	a := open(t)
	withPeople(t, a)
	require.NoError(t, testdb.Push(a.Store, backRoom))
	secret := "whsec_" + base64.StdEncoding.EncodeToString([]byte("a key of thirty-two bytes and so"))
	_, err := a.SetSecret(ctx, iva, "room", "text", []byte(secret))
	require.NoError(t, err)
	hook, err := standardwebhooks.NewWebhook(secret)
	require.NoError(t, err)
	number := told(t, a, "key", time.Hour)
	body := fmt.Sprintf(`{"who": "@mara", "press": "take", "about": "incident/%d"}`, number)
	signed := func(id string, at time.Time, body string) http.Header {
		s, err := hook.Sign(id, at, []byte(body))
		require.NoError(t, err)
		h := http.Header{}
		h.Set(standardwebhooks.HeaderWebhookID, id)
		h.Set(standardwebhooks.HeaderWebhookTimestamp, strconv.FormatInt(at.Unix(), 10))
		h.Set(standardwebhooks.HeaderWebhookSignature, s)
		return h
	}
	const forged = "the call-back is not signed as this connection asks"
	_, err = a.HearBack(ctx, "room", http.Header{}, []byte(body))
	assert.EqualError(t, err, forged)
	_, err = a.HearBack(ctx, "room", signed("1", time.Now(), body), []byte(body+" "))
	assert.EqualError(t, err, forged)
	_, err = a.HearBack(ctx, "room", signed("1", time.Now().Add(-time.Hour), body), []byte(body))
	assert.EqualError(t, err, forged, "it is old")
	_, err = a.HearBack(ctx, "another", signed("1", time.Now(), body), []byte(body))
	assert.EqualError(t, err, forged)
	_, err = a.HearBack(ctx, "room", signed("1", time.Now(), body), []byte(body))
	assert.EqualError(t, err, "nobody has verified that @mara of room is theirs: urgentis contact add")

	// A way is proven by a code that was sent to it.
	w, err := a.AddContact(ctx, mara, "mara", "room", "@mara")
	require.NoError(t, err)
	_, err = a.HearBack(ctx, "room", signed("1", time.Now(), body), []byte(body))
	assert.ErrorContains(t, err, "nobody has verified")
	assert.ErrorContains(t, a.SendCode(ctx, mara, "mara", w.ID), "wait 20 seconds")
	assert.Error(t, a.VerifyContact(ctx, jonas, "mara", w.ID, "000000"), "it is not theirs")
	require.NoError(t, a.Store.In(ctx).Save(&store.Contact{ID: w.ID, Person: "mara", Place: 1, Connection: "room",
		Address: "@mara", VerifiedAt: &w.AddedAt, AddedAt: w.AddedAt}))

	said, err := a.HearBack(ctx, "room", signed("1", time.Now(), body), []byte(body))
	require.NoError(t, err)
	assert.Equal(t, fmt.Sprintf("mara: take incident/%d", number), said)
	i, err := a.Store.In(ctx).Incident(number)
	require.NoError(t, err)
	assert.Equal(t, "mara", i.Holder)
	again, err := a.HearBack(ctx, "room", signed("1", time.Now(), body), []byte(body))
	require.NoError(t, err)
	assert.Equal(t, said, again, "what is sent again has the same answer, and does nothing")
	press := `{"who": "@mara", "press": "approve", "about": "gate/g1"}`
	_, err = a.HearBack(ctx, "room", signed("1", time.Now(), press), []byte(press))
	assert.ErrorContains(t, err, "something else was sent under this identity")
	for range 2 { // what was refused may come again
		_, err = a.HearBack(ctx, "room", signed("2", time.Now(), press), []byte(press))
		assert.ErrorContains(t, err, "there is no gate g1")
	}
	// Whoever did it died: what nobody answered for a minute is done when it comes again.
	once := store.Once{Door: "back/room", ID: "3", Digest: doc.Sum([]byte(body))}
	_, err = a.Store.In(ctx).Hear(once)
	require.NoError(t, err)
	_, err = a.HearBack(ctx, "room", signed("3", time.Now(), body), []byte(body))
	assert.ErrorContains(t, err, "being done at the moment")
	require.NoError(t, testdb.SQL(a.Store).Exec("update heard_id set at = at - interval '2 minutes'").Error)
	said, err = a.HearBack(ctx, "room", signed("3", time.Now(), body), []byte(body))
	require.NoError(t, err)
	assert.Equal(t, fmt.Sprintf("mara: take incident/%d", number), said)
}

// Nobody has codes sent without end, to whatever numbers: adding and removing ways is no way round.
func TestCodesAreBounded(t *testing.T) {
	a := open(t)
	withPeople(t, a)
	require.NoError(t, testdb.Room(a.Store, "room", "http://127.0.0.1:1/"))
	sent := 0
	for i := range 20 {
		w, err := a.AddContact(ctx, mara, "mara", "room", fmt.Sprintf("@number-%d", i))
		if err == nil {
			sent++
		} else {
			assert.ErrorContains(t, err, "5 an hour go out")
		}
		require.NoError(t, a.RemoveContact(ctx, mara, "mara", w.ID))
	}
	assert.Equal(t, 5, sent)
	_, err := a.AddContact(ctx, jonas, "jonas", "room", "@jonas")
	assert.NoError(t, err, "another person is another matter")
}

func TestACodeIsTriedFiveTimes(t *testing.T) {
	a := open(t)
	withPeople(t, a)
	require.NoError(t, testdb.Room(a.Store, "room", "http://127.0.0.1:1/"))
	w, err := a.AddContact(ctx, mara, "mara", "room", "@mara")
	require.NoError(t, err)
	for left := 4; left >= 0; left-- {
		assert.EqualError(t, a.VerifyContact(ctx, mara, "mara", w.ID, "nonsense"),
			fmt.Sprintf("this is not the code that was sent; %d tries are left", left))
	}
	assert.ErrorContains(t, a.VerifyContact(ctx, mara, "mara", w.ID, "nonsense"), "there is no code that counts any more")
	for says, try := range map[string]func() error{
		"22:00-07:00 is not": func() error { return a.SetQuiet(ctx, mara, "mara", "late", "Europe/Lisbon") },
		"there is no zone":   func() error { return a.SetQuiet(ctx, mara, "mara", "22:00-07:00", "Lisbon") },
		"no way of mara":     func() error { return a.OrderContacts(ctx, mara, "mara", []int64{w.ID, w.ID}) },
		"ways":               func() error { return a.OrderContacts(ctx, mara, "mara", nil) },
	} {
		assert.Error(t, try(), says)
	}
	require.NoError(t, a.SetQuiet(ctx, mara, "mara", "22:00-07:00", "Europe/Lisbon"))
	reach, err := a.Reach(ctx, jonas, "mara")
	require.NoError(t, err)
	assert.Equal(t, "22:00-07:00", reach.Quiet)
	assert.Len(t, reach.Contacts, 1)
	assert.Error(t, a.RemoveContact(ctx, jonas, "mara", w.ID))
	require.NoError(t, a.RemoveContact(ctx, mara, "mara", w.ID))
}

package browser

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/api"
	"urgentis/internal/demo"
)

// onCall makes somebody on call for a team until the test is over.
func onCall(t *testing.T, w *demo.World, team, person string) {
	r, err := w.Admin.AddStandInWithResponse(context.Background(), team, api.NewStandIn{
		Person: person, From: time.Now().Add(-time.Minute), Until: time.Now().Add(time.Hour)})
	require.NoError(t, err)
	require.NotNil(t, r.JSON201, string(r.Body))
}

// called waits until somebody was sent a text message with a link of their own, and gives it.
func called(t *testing.T, w *demo.World, number string) string {
	var link string
	require.Eventually(t, func() bool {
		for _, m := range w.Texts.To(number) {
			for _, l := range m.Links() {
				if strings.Contains(l, "/a#") {
					link = l
				}
			}
		}
		return link != ""
	}, time.Minute, 100*time.Millisecond)
	return link
}

// Somebody is called by a text message, takes the incident and approves on a phone, without signing in. The link shows
// nothing to anybody else, decides nothing by being opened, and counts once.
func TestAChangeIsApprovedFromAMessage(t *testing.T) {
	w := world(t)
	ctx := context.Background()
	onCall(t, w, "signals", "mara")
	w.Fleet.Clocks.Break()
	link := called(t, w, "+351 900 000 001")

	p, err := Open(ctx, 390, 844)
	require.NoError(t, err)
	defer p.Close()
	require.NoError(t, p.SignIn(w.Link, "jonas", w.SignIn["jonas"]))
	require.NoError(t, p.Go(link))
	require.NoError(t, p.See("this link was sent to mara, and jonas is signed in here"))
	assert.Empty(t, axe(t, p))

	phone, err := Open(ctx, 390, 844)
	require.NoError(t, err)
	defer phone.Close()
	require.NoError(t, phone.Go(link))
	require.NoError(t, phone.See("Sent to mara about incident 1"))
	require.NoError(t, phone.Until("!!document.querySelector('section.wanted .answers')"))
	assert.Empty(t, axe(t, phone))
	require.NoError(t, phone.Go(link), "opened again, as whoever checks links would: nothing is decided")
	require.NoError(t, phone.Until("!!document.querySelector('#approve')"))
	shot(t, phone, "link-phone")
	require.NoError(t, phone.Click("#take"))
	require.NoError(t, phone.See("You have it. Nobody else is called."))
	require.NoError(t, phone.Click("#approve"))
	require.NoError(t, phone.Until("document.querySelector('#approve-sure')?.disabled === false"))
	require.NoError(t, phone.Click("#approve-sure"))
	require.NoError(t, phone.See("You approved it at "))
	d := incident(t, w, 1)
	assert.Equal(t, "mara", d.Incident.Holder)
	var kinds []string
	for _, e := range d.Entries {
		kinds = append(kinds, e.Kind+" "+e.Actor)
	}
	assert.Contains(t, kinds, "people.called urgentis")
	assert.Contains(t, kinds, "incident.held mara")
	assert.Contains(t, kinds, "gate.approved mara")
	require.NoError(t, phone.Go(link))
	require.NoError(t, phone.See("You approved it at "))

	require.NoError(t, phone.Go(w.Link+"/a#nonsense"))
	require.NoError(t, phone.See("it is worth nothing"))
}

func incident(t *testing.T, w *demo.World, number int64) *api.IncidentDetail {
	r, err := w.Admin.GetIncidentWithResponse(context.Background(), number, nil)
	require.NoError(t, err)
	require.NotNil(t, r.JSON200, string(r.Body))
	return r.JSON200
}

// Contact methods are added, verified by the code that was sent, put first and removed.
func TestHowOneIsReached(t *testing.T) {
	w := world(t)
	p := open(t, 1280)
	require.NoError(t, p.SignIn(w.Link, "jonas", w.SignIn["jonas"]))
	require.NoError(t, p.Go(w.Link+"/me"))
	require.NoError(t, p.See("+351 900 000 002"))
	require.NoError(t, p.Type("form.row input", "harbour-mail"))
	require.NoError(t, p.Type("form.row .v-input:nth-of-type(2) input", "jonas@merrow.example"))
	require.NoError(t, p.Click("form.row button"))
	require.NoError(t, p.See("A code was sent there"))
	require.NoError(t, p.See("not verified"))
	assert.Empty(t, axe(t, p))
	shot(t, p, "me")
	mails := w.Mail.To("jonas@merrow.example")
	require.NotEmpty(t, mails)
	var code string
	_, err := fmt.Sscanf(mails[0].Text, "Your code is %6s", &code)
	require.NoError(t, err, mails[0].Text)
	require.NoError(t, p.Type("form.code input", "nonsense"))
	require.NoError(t, p.Click("form.code button"))
	require.NoError(t, p.See("this is not the code that was sent; 4 tries are left"))
	require.NoError(t, p.Type("form.code input", code))
	require.NoError(t, p.Click("form.code button"))
	require.NoError(t, p.See("Verified: you are reached there from now on."))
	require.NoError(t, p.Click("tbody tr:nth-child(2) .acts button"))
	require.NoError(t, p.Until("document.querySelector('tbody tr td').innerText === 'harbour-mail'"))
}

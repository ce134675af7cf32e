package app_test

import (
	"errors"
	"fmt"
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/access"
	"urgentis/core/source"
	"urgentis/internal/app"
	"urgentis/internal/intake"
	"urgentis/internal/listen"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

const hosts = `urgentis: source/1
name: hosts
takes: syslog
from: [10.1.0.0/16]
map:
  key: "{{ syslog.app }}"
  summary: "{{ syslog.text }}"
  severity: {of: syslog.severity, as: {err: minor, crit: major, notice: cleared}}
`

func said(text string) listen.Message {
	return listen.Message{At: time.Now(), From: "10.1.0.7", Over: "udp", Type: source.SyslogType, Body: []byte(text)}
}

// spooled hands messages to the door as a spool does that holds them from a place on.
func spooled(h *app.Heard, from listen.Place, messages []listen.Message) error {
	b := listen.Batch{Spool: "one", From: from, To: from, Messages: messages}
	for range messages {
		b.To.Offset++
		b.Ends = append(b.Ends, b.To)
	}
	return h.TakeHeard(ctx, "hosts", b)
}

// What follows one another about one condition is one alert, counted; nothing that arrived is left out.
func TestWhatIsHeardIsFolded(t *testing.T) {
	a := open(t)
	_, err := a.Push(ctx, iva, pushing(hosts))
	require.NoError(t, err)
	h, err := a.Heard()
	require.NoError(t, err)
	var all []listen.Message
	for i := range 300 {
		all = append(all, said(fmt.Sprintf("<11>1 - quay-%d pump - - - turn %d", i%3, i)))
	}
	all = append(all, said("<10>1 - quay-1 pump - - - worse"), said("<10>1 - quay-1 pump - - - worse"),
		said("<13>1 - quay-1 pump - - - over"), said("<12>1 - quay-1 lamp - - - odd"), said("<11>1 - quay-1 pump - - - anew"))
	begin := listen.Place{File: 1}
	require.NoError(t, h.SetPlace(ctx, "hosts", "one", begin))
	require.NoError(t, spooled(h, begin, all))
	list, err := a.Store.In(ctx).Alerts(access.Scope{All: true}, store.WhichAlerts{}, store.Place{}, 10)
	require.NoError(t, err)
	require.Len(t, list, 2)
	counts := map[string]int64{}
	for _, x := range list {
		counts[x.State] = x.Count
	}
	assert.Equal(t, map[string]int64{"cleared": 303, "open": 1}, counts)
	unparsed, err := a.UnparsedPayloads(ctx, iva, "hosts")
	require.NoError(t, err)
	require.Len(t, unparsed, 1)
	assert.Equal(t, `severity: as has no word for "warning"`, unparsed[0].Finding)
	at, err := h.Place(ctx, "one")
	require.NoError(t, err)
	assert.EqualValues(t, len(all), at.Offset)
	// Handed on once more, as after a crash, nothing of it is taken.
	require.ErrorIs(t, spooled(h, begin, all), store.ErrElsewhere)
	require.NoError(t, a.RemoveSource(ctx, iva, "hosts"))
	assert.NoError(t, spooled(h, *at, all), "what nobody stands for is left out")
	list, err = a.Store.In(ctx).Alerts(access.Scope{All: true}, store.WhichAlerts{}, store.Place{}, 10)
	require.NoError(t, err)
	assert.Len(t, list, 2)
	a.Store.Close()
	assert.Error(t, spooled(h, *at, all), "with the database away it is to be handed on again")
}

// A network proves where the document says so, and only bounds who may report where it does not.
func TestNetworksProve(t *testing.T) {
	a := open(t)
	from := func(address string) app.Proof { return app.Proof{From: netip.MustParseAddr(address)} }
	_, err := a.Push(ctx, iva, pushing(panel+"from: [10.1.0.0/16, 192.0.2.7]\n"))
	require.NoError(t, err)
	token := key(t, a, app.NewKey{Source: "panel"})
	body := points(`{"id": "ramp-1", "text": "stuck", "state": "alarm"}`)
	for address, fine := range map[string]bool{"10.1.2.3": true, "192.0.2.7": true, "10.2.0.1": false, "192.0.2.8": false} {
		p := from(address)
		_, err := a.TakeAlerts(ctx, "panel", p, body)
		assert.EqualError(t, err, "the source or its token is unknown", "no token, from %s", address)
		p.Authorization = "Bearer " + token
		_, err = a.TakeAlerts(ctx, "panel", p, body)
		assert.Equal(t, fine, err == nil, address)
	}
	_, err = a.Push(ctx, iva, pushing(hosts))
	require.NoError(t, err)
	_, err = a.TakeAlerts(ctx, "hosts", from("10.1.2.3"), body)
	assert.EqualError(t, err, "the source or its token is unknown", "what takes syslog takes nothing by HTTP")
}

func TestRates(t *testing.T) {
	a := open(t)
	_, err := a.Push(ctx, iva, pushing(panel+"rate: 1\n"))
	require.NoError(t, err)
	token := key(t, a, app.NewKey{Source: "panel"})
	refused := 0
	for range 150 {
		_, err := a.TakeAlerts(ctx, "panel", bearer(token), points(`{"id": "ramp-1", "text": "stuck", "state": "alarm"}`))
		var full *app.Error
		if errors.As(err, &full) {
			assert.Equal(t, app.Full, full.Kind)
			assert.ErrorContains(t, err, "panel sends more than its rate of 1 a second")
			refused++
			continue
		}
		require.NoError(t, err)
	}
	assert.Positive(t, refused)
	_, err = a.Push(ctx, iva, pushing(panel+"rate: 500\n"))
	require.NoError(t, err)
	_, err = a.TakeAlerts(ctx, "panel", bearer(token), points(`{"id": "ramp-1", "text": "stuck", "state": "alarm"}`))
	assert.NoError(t, err, "a new rate is in force at once")
}

// A loss is an alert of ours, and ends when nothing more is lost.
func TestLossesAreTold(t *testing.T) {
	a := open(t)
	h, err := a.Heard()
	require.NoError(t, err)
	note := func(lost int64) []store.Alert {
		require.NoError(t, h.Note(ctx, []listen.Status{{Name: "syslog-udp", Address: "127.0.0.1:514", Lost: lost}}))
		list, err := a.Store.In(ctx).Alerts(access.Scope{All: true}, store.WhichAlerts{Source: "urgentis"}, store.Place{}, 10)
		require.NoError(t, err)
		return list
	}
	assert.Empty(t, note(0))
	list := note(3)
	require.Len(t, list, 1)
	assert.Contains(t, list[0].Summary, "lost 3 messages since it began")
	assert.Equal(t, "messages_lost", list[0].Labels["signal"])
	note(3)
	assert.EqualValues(t, 2, note(4)[0].Count, "the same count is no news")
	heard, err := a.Listeners(ctx, iva)
	require.NoError(t, err)
	require.Len(t, heard, 1)
	assert.EqualValues(t, 4, heard[0].Lost)
	_, err = a.Listeners(ctx, jonas)
	assert.Error(t, err)
}

// What the database refuses of one message harms no other.
func TestWhatIsRefusedOfWhatIsHeardIsUnparsed(t *testing.T) {
	a := open(t)
	_, err := a.Push(ctx, iva, pushing(hosts))
	require.NoError(t, err)
	h, err := a.Heard()
	require.NoError(t, err)
	require.NoError(t, testdb.SQL(a.Store).Exec("alter table alert add constraint t check (key <> 'lamp')").Error)
	require.NoError(t, h.SetPlace(ctx, "hosts", "one", listen.Place{File: 1}))
	require.NoError(t, spooled(h, listen.Place{File: 1}, []listen.Message{said("<11>1 - q pump - - - a"), said("<11>1 - q lamp - - - b"),
		said("<11>1 - q gate - - - c")}))
	list, err := a.Store.In(ctx).Alerts(access.Scope{All: true}, store.WhichAlerts{}, store.Place{}, 10)
	require.NoError(t, err)
	assert.Len(t, list, 2)
	unparsed, err := a.UnparsedPayloads(ctx, iva, "hosts")
	require.NoError(t, err)
	require.Len(t, unparsed, 1)
	assert.Contains(t, unparsed[0].Finding, intake.ErrRefused.Error())
}

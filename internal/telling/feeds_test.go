package telling

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/route"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

// TestARotaIsReadFromACalendar reads one, twice at once by two instances, keeps what it said while it is out of reach,
// tells its team what is wrong, once, and reads another address at once.
func TestARotaIsReadFromACalendar(t *testing.T) {
	const documents = `urgentis: connection/1
name: texts
kind: text
url: http://127.0.0.1:1/
---
urgentis: team/1
name: quayside
members: [mara, jonas]
rota:
  zone: Europe/Lisbon
  first: {feed: %s, people: {"Mara Lund": mara}}
`
	x := tellingTo(t, fmt.Sprintf(documents, "https://calendar.merrow.example/quay.ics"))
	ctx := context.Background()
	says, failed, asked := "", error(nil), []string{}
	x.FetchFeed = func(_ context.Context, f *route.Feed) (string, error) {
		asked = append(asked, f.Address())
		return says, failed
	}
	onCall := func() string {
		t.Helper()
		team, in, err := x.Team(x.Store.In(ctx), "quayside", x.Now())
		require.NoError(t, err)
		w, err := x.World(x.Store.In(ctx))
		require.NoError(t, err)
		d := team.OnCall(x.Now(), in)[0]
		assert.Equal(t, d.Person, w.Teams["quayside"].OnCall(x.Now(), in)[0].Person, "as messages are told")
		return d.Person
	}
	told := func(kind route.Kind) (out []store.Notice) {
		require.NoError(t, testdb.SQL(x.Store).Raw("select * from notice where kind = ? order by id", kind).
			Scan(&out).Error)
		return out
	}
	event := func(summary string, rest ...string) string {
		return strings.ReplaceAll(strings.Join(append([]string{"BEGIN:VEVENT\nUID:" + summary,
			"DTSTAMP:20260101T000000Z\nSUMMARY:" + summary}, rest...), "\n")+"\nEND:VEVENT\n", "\n", "\r\n")
	}
	whole := func(events ...string) string {
		return "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//x//y//EN\r\n" + strings.Join(events, "") + "END:VCALENDAR\r\n"
	}

	require.NoError(t, x.shiftsOnce(ctx))
	assert.Empty(t, told(route.RotaHole), "what is not known yet is no hole")
	failed = errors.New("it answered 502 Bad Gateway")
	require.NoError(t, x.feedsOnce(ctx))
	require.NoError(t, x.feedsOnce(ctx))
	assert.Len(t, asked, 1, "nobody asks again at once")
	require.Len(t, told(route.RotaUnparsed), 1)
	assert.Equal(t, "The calendar of quayside's first line cannot be read: it answered 502 Bad Gateway. Nothing was "+
		"read of it yet: nobody is on call in that line.", told(route.RotaUnparsed)[0].Text)
	assert.Empty(t, onCall())

	again := func() {
		t.Helper()
		require.NoError(t, testdb.SQL(x.Store).Exec("update rota_feed set tried_at = tried_at - interval '1 hour'").Error)
		require.NoError(t, x.feedsOnce(ctx))
	}
	failed = nil
	daily := "DTSTART;TZID=Europe/Lisbon:20260105T000000\nDURATION:P1D\nRRULE:FREQ=DAILY"
	says = whole(event("Mara Lund", daily), event("A stranger", daily))
	again()
	assert.Equal(t, "mara", onCall())
	says = strings.ReplaceAll(says, "PRODID:-//x//y//EN", "PRODID:-//J\xfcrgen//EN")
	again()
	kept := ""
	require.NoError(t, testdb.SQL(x.Store).Raw("select text from rota_feed").Scan(&kept).Error)
	assert.Contains(t, kept, "Jürgen", "an older character set")
	says = strings.ReplaceAll(says, "J\xfcrgen", "J\x00")
	again()
	require.NoError(t, testdb.SQL(x.Store).Raw("select text from rota_feed").Scan(&kept).Error)
	assert.Contains(t, kept, "J\ufffd", "whatever bytes it has, it can be kept")
	require.Len(t, told(route.RotaUnparsed), 2, "what counts for nobody is told once")
	assert.Contains(t, told(route.RotaUnparsed)[1].Text, `What counts for nobody: "A stranger" at 2026-01-05 00:00: it `+
		`names nobody who is known`)

	failed = errors.New("it answered 500")
	again()
	assert.Equal(t, "mara", onCall(), "what it said holds")
	assert.Len(t, told(route.RotaUnparsed), 2, "it was read just now")
	failed, says = nil, "<html>Sign in</html>"
	require.NoError(t, testdb.SQL(x.Store).Exec("update rota_feed set read_at = read_at - interval '2 hours'").Error)
	require.NoError(t, testdb.SQL(x.Store).Exec("delete from notice where kind = 'rota.unparsed'").Error)
	again()
	again()
	require.Len(t, told(route.RotaUnparsed), 1, "once a day")
	assert.Contains(t, told(route.RotaUnparsed)[0].Text, "it is no iCalendar")
	assert.Contains(t, told(route.RotaUnparsed)[0].Text, "holds meanwhile.")

	says = whole(event("jonas", daily))
	require.NoError(t, testdb.Push(x.Store, fmt.Sprintf(documents, "{secret: quay_calendar}")))
	assert.Equal(t, "mara", onCall(), "until the other one was read")
	require.NoError(t, x.feedsOnce(ctx))
	assert.Equal(t, "secret quay_calendar", asked[len(asked)-1])
	assert.Equal(t, "jonas", onCall())

	says = whole(event("mara", daily))
	team, _, err := x.Team(x.Store.In(ctx), "quayside", x.Now())
	require.NoError(t, err)
	n := len(asked)
	done := make(chan error)
	other := newTeller(t, x.Store)
	other.FetchFeed = x.FetchFeed
	since := time.Now().Add(-time.Nanosecond)
	for _, e := range []*Teller{x.Teller, other} {
		go func() { done <- e.ReadFeeds(ctx, team, since) }()
	}
	require.NoError(t, errors.Join(<-done, <-done))
	assert.Len(t, asked, n+1, "two instances read it once")
	assert.Equal(t, "mara", onCall())
}

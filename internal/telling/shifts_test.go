package telling

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

func TestHolesAreToldBeforehandAndShiftsWhatIsOpen(t *testing.T) {
	x := tellingTo(t, `urgentis: connection/1
name: texts
kind: text
url: http://127.0.0.1:1/
---
urgentis: team/1
name: quayside
members: [mara, jonas]
rota:
  zone: UTC
  first:
    - {from: 2026-01-05 08:00, every: FREQ=DAILY, lasts: 12h, people: [mara]}
    - {from: 2026-01-05 20:00, every: FREQ=DAILY, lasts: 10h, people: [jonas]}
`)
	require.NoError(t, testdb.SQL(x.Store).Exec("update incident set holder = 'mara' where number = ?", x.inc).Error)
	told := func(kind string) (out []store.Notice) {
		require.NoError(t, testdb.SQL(x.Store).Raw("select * from notice where kind = ? order by id", kind).
			Scan(&out).Error)
		return out
	}
	at := time.Date(2026, 11, 25, 20, 5, 0, 0, time.UTC)
	x.Clock = func() time.Time { return at }
	for range 3 {
		require.NoError(t, x.shiftsOnce(context.Background()))
		at = at.Add(time.Minute)
	}
	holes := told("rota.hole")
	require.Len(t, holes, 3, "one for each of three mornings, told once")
	assert.Contains(t, holes[0].Text, "from Thu 26 Nov 06:00 UTC until Thu 26 Nov 08:00 UTC")
	assert.Contains(t, holes[0].Text, "urgentis team stand-in quayside --person NAME --from 2026-11-26T06:00:00Z")
	shifts := told("shift.begins")
	require.Len(t, shifts, 1)
	assert.Equal(t, "person/jonas", shifts[0].Asked)
	assert.Contains(
		t,
		shifts[0].Text,
		"You are on call for quayside now. Open:\n1 (major) deep; held by mara; waits for somebody",
	)
	require.NoError(t, testdb.SQL(x.Store).Exec("update incident set state = 'closed'").Error)
	at = at.Add(12 * time.Hour)
	require.NoError(t, x.shiftsOnce(context.Background()))
	assert.Len(t, told("shift.begins"), 1, "where nothing is open, nobody is told")
}

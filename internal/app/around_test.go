package app_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/alert"
	"urgentis/core/incident"
	"urgentis/internal/app"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

// What stands around an incident: the services along dependencies with what went bad first, what happened before, the
// odd one among siblings, and when the same alert was there before.
func TestAround(t *testing.T) {
	a := open(t)
	for _, x := range [][2]string{{"db", `{"owner": "o"}`}, {"south", `{"owner": "o"}`},
		{"north", `{"owner": "o", "depends_on": ["db"]}`}} {
		_, err := a.SetService(ctx, iva, app.Change{Name: x[0], Patch: []byte(x[1])})
		require.NoError(t, err)
	}
	sql := testdb.SQL(a.Store)
	// It was there before, once mitigated and once long ago; another key is no return.
	for i, ago := range []string{"3 days", "90 days"} {
		_, n := raised(t, a, "north", "ramp", alert.Major)
		require.NoError(t, sql.Exec("update alert set state = 'cleared' where incident = ?", n).Error)
		require.NoError(t, sql.Exec(`update incident set state = 'closed', outcome = ?,
			closed_at = now() - cast(? as interval) where number = ?`, []string{"mitigated", "repaired"}[i], ago, n).Error)
	}
	_, other := raised(t, a, "north", "door", alert.Major)
	require.NoError(t, sql.Exec("update alert set state = 'cleared' where incident = ?", other).Error)
	require.NoError(t, sql.Exec(`update incident set state = 'closed', closed_at = now()
		where number = ?`, other).Error)

	_, db := raised(t, a, "db", "lag", alert.Minor)
	raised(t, a, "south", "wind", alert.Minor) // it has nothing to do with it
	require.NoError(
		t,
		sql.Exec(`insert into deployment (id, source, service, version, environment, summary, "by", link, at,
		received_at) values ('d1', 's', 'db', 'v7', '', '', 'mara', '', now() - interval '20 hours', now()),
		('d2', 's', 'south', 'v8', '', '', 'mara', '', now() - interval '1 hour', now())`).Error,
	)
	ids, err := a.Store.IdentifySeries(
		ctx,
		[]store.Series{{Service: "north", Target: "a", Name: "errors", Unit: "a minute"},
			{Service: "north", Target: "b", Name: "errors", Unit: "a minute"},
			{Service: "north", Target: "c", Name: "errors", Unit: "a minute"}},
	)
	require.NoError(t, err)
	for key, id := range ids {
		value := 0
		if key.Target == "b" {
			value = 44
		}
		require.NoError(t, sql.Exec("insert into reading (series, at, value) values (?, now(), ?)", id, value).Error)
	}
	_, n := raised(t, a, "north", "ramp", alert.Critical)

	x, err := a.Around(ctx, jonas, n)
	require.NoError(t, err)
	require.Len(t, x.Wide, 2)
	assert.Equal(
		t,
		incident.Relation{Service: "db", Along: incident.DependsOn},
		x.Wide[0].Relation,
		"it went bad first",
	)
	assert.Equal(t, db, x.Wide[0].Things[0].Incident)
	assert.Equal(t, incident.Relation{Service: "north"}, x.Wide[1].Relation)
	var before []string
	for _, m := range x.Before {
		before = append(before, m.What+" "+m.Service)
	}
	assert.Contains(t, before, "deployment db")
	assert.Contains(t, before, "incident db")
	assert.Contains(t, before, "setting north")
	assert.NotContains(t, fmt.Sprint(before), "south")
	require.Len(t, x.Odd, 1)
	assert.Equal(t, "errors: b has 44 a minute, all others 0", x.Odd[0].SaysOdd())
	require.Len(t, x.Returns, 2)
	assert.Equal(t, 1, x.Lately)
	assert.Equal(t, "repaired", x.Returns[0].Outcome)

	_, err = a.Around(ctx, jonas, 999)
	assert.True(t, app.IsMissing(err))
	assert.Contains(t, fmt.Sprint(x.Before), "north: depends_on")
	for range 3 { // the same in one moment is told once
		_, err := a.SetService(ctx, iva, app.Change{Name: "north", Patch: []byte(fmt.Sprintf(`{"title": "%d"}`, time.Now().
			UnixNano()))})
		require.NoError(t, err)
	}
	marks, err := a.Marks(ctx, jonas, "north", time.Now().Add(-24*time.Hour), time.Now().Add(time.Second))
	require.NoError(t, err)
	assert.Contains(t, fmt.Sprint(marks), "v7", "of what it needs")
	assert.Contains(t, fmt.Sprint(marks), "north and 3 more updated")
	_, err = a.Marks(ctx, jonas, "nowhere", time.Now().Add(-time.Hour), time.Now())
	assert.True(t, app.IsMissing(err))
	_, err = a.Marks(ctx, jonas, "north", time.Now(), time.Now().Add(-time.Hour))
	require.Error(t, err)
}

// The first look of a service is a runbook of it that only looks.
func TestAFirstLookOnlyLooks(t *testing.T) {
	a := open(t)
	_, err := a.SetService(ctx, iva, app.Change{Name: "north", Patch: []byte(`{"owner": "o"}`)})
	require.NoError(t, err)
	set := func(name string) error {
		_, err := a.SetService(ctx, iva, app.Change{Name: "north", Patch: []byte(`{"first_look": "` + name + `"}`)})
		return err
	}
	require.ErrorContains(t, set("photo"), "there is no runbook photo")
	looks := "urgentis: runbook/1\nname: photo\ntitle: P\nowner: o\nservice: north\nsteps:\n" +
		"  - {look: L, from: here, run: [uptime], read: {x: {exit: true, type: integer}}}\n"
	for why, text := range map[string]string{
		"only looks, and the runbook photo has the close": looks + "  - {close: false-alarm, because: so}\n",
		"for the service south":                           strings.Replace(looks, "north", "south", 1),
		"begun without inputs":                            strings.Replace(looks, "steps:", "inputs: {a: {type: text}}\nsteps:", 1),
		"":                                                looks,
	} {
		_, err := a.Push(ctx, iva, pushing(text))
		require.NoError(t, err)
		if why == "" {
			require.NoError(t, set("photo"))
			require.NoError(t, set(""))
		} else {
			require.ErrorContains(t, set("photo"), why)
		}
	}
}

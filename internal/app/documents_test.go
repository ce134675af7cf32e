package app_test

import (
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/access"
	"urgentis/core/alert"
	"urgentis/core/estate"
	"urgentis/core/source"
	"urgentis/core/trigger"
	"urgentis/internal/app"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

const panel = `urgentis: source/1
name: panel
each: body.points
map:
  key: "{{ item.id }}"
  summary: "{{ item.text }}"
  severity: {of: item.state, as: {alarm: major}}
cleared: item.state == "ok"
`

const note = `urgentis: runbook/1
name: note
title: A note
owner: quayside
service: berths
starts: {ramp: {alert: alert.key == "ramp-1"}}
steps:
  - note: It was seen
    text: It was seen.
  - close: repaired
    because: It was seen.
`

func pushing(texts ...string) app.Pushing {
	p := app.Pushing{Origin: "harbour"}
	for i, t := range texts {
		p.Files = append(p.Files, estate.File{Name: string(rune('a'+i)) + ".yaml", Text: t})
	}
	return p
}

func did(out *app.Pushed) string {
	var words []string
	for _, s := range out.Steps {
		words = append(words, s.What+" "+s.Name)
	}
	return strings.Join(words, ", ")
}

func TestPush(t *testing.T) {
	a := open(t)
	check := pushing(panel, note)
	check.Check = true
	out, err := a.Push(ctx, iva, check)
	require.NoError(t, err)
	assert.Equal(t, "added note, added panel", did(out))
	list, err := a.Documents(ctx, jonas, "")
	require.NoError(t, err)
	assert.Empty(t, list, "a check changes nothing")

	do := pushing(panel, note)
	do.Expect = out.Plan
	out, err = a.Push(ctx, iva, do)
	require.NoError(t, err)
	assert.NotZero(t, out.Push)
	_, err = a.Push(ctx, iva, do)
	assert.EqualError(t, err, "what is there changed since the plan was shown; look at it again")
	out, err = a.Push(ctx, iva, pushing(panel, note))
	require.NoError(t, err)
	assert.Equal(t, "same note, same panel", did(out), "the second time there is nothing to do")

	_, err = a.Push(ctx, jonas, pushing(panel+"# more\n"))
	assert.EqualError(t, err, "this needs the role admin")
	_, err = a.Push(ctx, jonas, pushing(note+"# more\n"))
	assert.EqualError(t, err, "this needs the role author")

	// What another place keeps is not this one's to remove.
	_, err = a.AddSource(ctx, iva, app.NewKey{Source: "by-hand"})
	require.NoError(t, err)
	prune := pushing(panel)
	prune.Prune = true
	out, err = a.Push(ctx, iva, prune)
	require.NoError(t, err)
	assert.Equal(t, "removed note, same panel", did(out))
	list, err = a.Documents(ctx, jonas, "source")
	require.NoError(t, err)
	require.Len(t, list, 2)
	assert.Equal(t, "by-hand", list[0].Name)
	require.NoError(t, a.RemoveSource(ctx, iva, "by-hand"))
	_, err = a.Document(ctx, jonas, "source", "by-hand", 0)
	assert.EqualError(t, err, "there is no source by-hand")
	revisions, err := a.DocumentRevisions(ctx, jonas, "source", "by-hand")
	require.NoError(t, err)
	assert.Len(t, revisions, 1, "its revisions stay")
	_, err = a.AddSource(ctx, iva, app.NewKey{Source: "by-hand"})
	require.NoError(t, err)
	d, err := a.Document(ctx, jonas, "source", "by-hand", 0)
	require.NoError(t, err)
	assert.Equal(t, 2, d.Number, "and a later one goes on from them")
}

// Where a document is kept decides what a prune removes: whoever may not write it may not move it, and a move is
// audited.
func TestWhoMovesADocumentMayWriteIt(t *testing.T) {
	a := open(t)
	_, err := a.Push(ctx, iva, pushing(panel, note))
	require.NoError(t, err)
	elsewhere := pushing(panel)
	elsewhere.Origin = "jonas-home"
	_, err = a.Push(ctx, jonas, elsewhere)
	assert.EqualError(t, err, "this needs the role admin")
	_, err = a.Push(ctx, jonas, pushing(panel))
	require.NoError(t, err, "what changes nothing needs no right")

	out, err := a.Push(ctx, iva, elsewhere)
	require.NoError(t, err)
	assert.Equal(t, "moved panel", did(out))
	assert.Equal(t, "harbour", out.Steps[0].KeptAt)
	acts, _, err := a.Acts(ctx, iva, "", 0, 50)
	require.NoError(t, err)
	assert.Equal(t, "source.moved", acts[0].Act)
}

// What was shown is what is done, also where only the end of a long value differs.
func TestAPlanIsOfTheWholeText(t *testing.T) {
	a := open(t)
	long := func(end string) app.Pushing {
		return pushing(strings.Replace(note, "title: ", "title: "+strings.Repeat("long ", 20)+end+" ", 1))
	}
	_, err := a.Push(ctx, iva, long("one"))
	require.NoError(t, err)
	check := long("two")
	check.Check = true
	shown, err := a.Push(ctx, iva, check)
	require.NoError(t, err)
	_, err = a.Push(ctx, iva, long("three"))
	require.NoError(t, err)
	do := long("two")
	do.Expect = shown.Plan
	_, err = a.Push(ctx, iva, do)
	assert.EqualError(t, err, "what is there changed since the plan was shown; look at it again")
}

func TestAPruneOfNothingIsRefused(t *testing.T) {
	a := open(t)
	_, err := a.Push(ctx, iva, pushing(panel, note))
	require.NoError(t, err)
	empty := pushing("# all of it is commented out\n")
	empty.Prune = true
	_, err = a.Push(ctx, iva, empty)
	assert.ErrorContains(t, err, "pruning would remove all that came from harbour; nothing was changed")
	list, err := a.Documents(ctx, jonas, "")
	require.NoError(t, err)
	assert.Len(t, list, 2)
}

// One document that is wrong lets none of the push happen, also where that is seen only with all of it in place.
func TestAPushIsAllOrNothing(t *testing.T) {
	a := open(t)
	wrong := strings.Replace(note, "  - note", "  - call: nowhere\n  - note", 1)
	for text, want := range map[string]string{
		strings.Replace(panel, "map:", "mop:", 1): "a source has no key mop",
		wrong: "there is no part and no runbook nowhere to call",
		"urgentis: source/1\nname: tide\n---\nx: 1": "a document begins with urgentis",
	} {
		_, err := a.Push(ctx, iva, pushing(panel, text))
		var e *app.Error
		require.ErrorAs(t, err, &e, text)
		var said []string
		for _, f := range e.Found {
			said = append(said, f.File+" "+f.Message)
		}
		assert.Contains(t, strings.Join(said, "\n"), "b.yaml "+want)
	}
	list, err := a.Documents(ctx, jonas, "")
	require.NoError(t, err)
	assert.Empty(t, list)
	// A runbook may call one that comes with it.
	_, err = a.Push(ctx, iva, pushing(strings.Replace(strings.Replace(note, "name: note", "name: caller", 1),
		"  - note", "  - call: note\n  - note", 1), note))
	require.NoError(t, err)
}

func TestPushesAtOnceFollowOneAnother(t *testing.T) {
	a := open(t)
	var wg sync.WaitGroup
	for i := range 8 {
		wg.Go(func() {
			p := pushing(strings.Replace(panel, "alarm: major", "alarm: "+alert.Severities()[i%4+1], 1))
			_, err := a.Push(ctx, iva, p)
			assert.NoError(t, err)
		})
	}
	wg.Wait()
	revisions, err := a.DocumentRevisions(ctx, jonas, "source", "panel")
	require.NoError(t, err)
	for i, r := range revisions {
		assert.Equal(t, len(revisions)-i, r.Number)
	}
	now, err := a.Document(ctx, jonas, "source", "panel", 0)
	require.NoError(t, err)
	assert.Equal(t, revisions[0].Text, now.Text)
}

func points(list string) source.Payload {
	return source.Payload{ContentType: "application/json", Body: []byte(`{"points": [` + list + `]}`),
		Headers: map[string]string{"x": "y"}, Query: map[string]string{}}
}

func TestWhatCannotBeMappedIsKeptAndReadAgain(t *testing.T) {
	a := open(t)
	_, err := a.Push(ctx, iva, pushing(panel, note))
	require.NoError(t, err)
	_, err = a.TakeAlerts(ctx, "panel", bearer("no"), points(""))
	assert.EqualError(t, err, "the source or its token is unknown", "a source that was pushed has no token yet")
	token := key(t, a, app.NewKey{Source: "panel"})

	tried, err := a.TrySource(ctx, iva, "panel", app.SourceTry{
		Payload: points(`{"id": "ramp-1", "text": "stuck", "state": "alarm"}`)})
	require.NoError(t, err)
	require.Len(t, tried.Items, 1)
	assert.True(t, tried.Items[0].Verdicts[0].Started)
	tried, err = a.TrySource(ctx, iva, "panel", app.SourceTry{Text: strings.Replace(panel, "item.text", "item.id", 1),
		Payload: points(`{"id": "lamp-4", "state": "alarm"}`)})
	require.NoError(t, err)
	assert.Equal(t, "lamp-4", tried.Items[0].Event.(*source.Alert).Summary, "another map was tried")
	list, _, err := a.Alerts(ctx, jonas, store.WhichAlerts{}, app.Page{Limit: 10})
	require.NoError(t, err)
	assert.Empty(t, list, "a try has no effect")

	got, err := a.TakeAlerts(ctx, "panel", bearer(token), points(`{"id": "ramp-1", "text": "stuck", "state": "alarm"},
		{"id": "lamp-4", "text": "dark", "state": "odd"}, {"id": "gate-1", "text": "well", "state": "ok"}`))
	require.NoError(t, err)
	assert.Len(t, got.Taken, 2, "what can be mapped is taken")
	assert.Equal(t, `item 2 of 3: severity: as has no word for "odd"`, got.Finding)
	require.NoError(t, testdb.SQL(a.Store).Exec("update source set last_alert_at = null").Error)
	all, err := a.TakeAlerts(
		ctx,
		"panel",
		bearer(token),
		source.Payload{ContentType: "application/json", Body: []byte("{")},
	)
	require.NoError(t, err)
	assert.NotEmpty(t, all.Unparsed)
	sources, err := a.Sources(ctx, jonas)
	require.NoError(t, err)
	assert.NotNil(t, sources[0].LastAlertAt, "what cannot be read is heard")
	unparsed, err := a.UnparsedPayloads(ctx, iva, "panel")
	require.NoError(t, err)
	assert.Len(t, unparsed, 2)
	_, err = a.UnparsedPayloads(ctx, jonas, "panel")
	assert.EqualError(t, err, "this needs the role admin")

	_, err = a.ReadAgain(ctx, iva, got.Unparsed)
	assert.EqualError(t, err, `item 2 still cannot be read: severity: as has no word for "odd"`)
	_, err = a.Push(ctx, iva, pushing(strings.Replace(panel, "each: body.points", "each: body.points[0]", 1)))
	require.NoError(t, err)
	_, err = a.ReadAgain(ctx, iva, got.Unparsed)
	assert.EqualError(
		t,
		err,
		"item 2 was not read, and the map finds 1 items now; mend its each",
		"nothing is lost by it",
	)
	_, err = a.Push(ctx, iva, pushing(strings.Replace(panel, "{alarm: major}", "{alarm: major, odd: minor}", 1)))
	require.NoError(t, err)
	read, err := a.ReadAgain(ctx, iva, got.Unparsed)
	require.NoError(t, err)
	require.Len(t, read.Taken, 1, "what was taken before is not taken again")
	assert.Equal(t, alert.New, read.Taken[0].Change)
	_, err = a.ReadAgain(ctx, iva, got.Unparsed)
	assert.EqualError(t, err, "iva read it already")
	_, err = a.ReadAgain(ctx, iva, all.Unparsed)
	assert.EqualError(t, err, "it still cannot be read: the body is not JSON: unexpected EOF")
	// There is a bound, beyond which the source is told so.
	require.NoError(t, testdb.SQL(a.Store).Exec(`insert into unparsed (id, source, finding, items, content_type, headers,
		query, body) select 'x' || i, 'panel', '', '[]', '', '{}', '{}', '' from generate_series(2, ?) i`,
		store.MostUnparsed).Error)
	_, err = a.TakeAlerts(
		ctx,
		"panel",
		bearer(token),
		source.Payload{ContentType: "application/json", Body: []byte("{")},
	)
	assert.EqualError(t, err, "the body is not JSON: unexpected EOF; as much of panel waits to be read already as is "+
		"kept: mend its map first")
	require.Eventually(t, func() bool {
		keys, err := a.Store.In(ctx).OpenKeys(store.OurSource, "unparsed/")
		return err == nil && slices.Equal(keys, []string{"unparsed/panel"})
	}, 30*time.Second, 100*time.Millisecond, "somebody is told")
	require.NoError(t, testdb.SQL(a.Store).Exec("delete from unparsed where id like 'x%'").Error)
	require.NoError(t, a.RemoveSource(ctx, iva, "panel"))
	_, err = a.ReadAgain(ctx, iva, all.Unparsed)
	assert.EqualError(t, err, "there is no source panel any more")
	var n int64
	require.NoError(t, testdb.SQL(a.Store).Raw("select count(*) from unparsed where read_at is null").Scan(&n).Error)
	assert.EqualValues(t, 1, n)
}

// What a payload would become can be tried of every source, whatever its form, at any time.
func TestEverySourceCanBeTried(t *testing.T) {
	a := open(t)
	_, err := a.Push(ctx, iva, pushing(desk, `urgentis: source/1
name: plain
`, `urgentis: calendar/1
name: nights
zone: UTC
weekly: [mon-sun 22:00-06:00]
`, `urgentis: trigger/1
name: at-night
runbook: after-deployment
alert: alert.labels.signal == "dark"
hours: {inside: nights}
inputs: {version: "-"}
`))
	require.NoError(t, err)
	try := func(name, body, at string) app.TriedItem {
		moment, err := time.Parse(time.RFC3339, at)
		require.NoError(t, err)
		tried, err := a.TrySource(ctx, iva, name, app.SourceTry{
			Payload: source.Payload{ContentType: "application/json", Body: []byte(body)}, At: moment})
		require.NoError(t, err)
		require.Len(t, tried.Items, 1, tried.Finding)
		return tried.Items[0]
	}
	started := func(x app.TriedItem) []string {
		var out []string
		for _, v := range x.Verdicts {
			if v.Started {
				out = append(out, v.Name)
			}
		}
		return out
	}
	const dark = `{"severity": "minor", "summary": "dark", "labels": {"signal": "dark"}}`
	night := try("plain", dark, "2031-03-01T23:00:00Z")
	assert.Equal(t, []string{"trigger/at-night"}, started(night))
	assert.Contains(t, night.Made(), source.Made{Field: "at", Value: "2031-03-01T23:00:00Z", From: "our own JSON"})
	assert.Empty(t, started(try("plain", dark, "2031-03-01T12:00:00Z")))
	assert.Equal(t, []string{"trigger/watch-north"}, started(try("desk", `{"service": "north"}`, "2031-03-01T12:00:00Z")))
	assert.Empty(t, started(try("desk", `{"service": "south"}`, "2031-03-01T12:00:00Z")))
	assert.Equal(t, `severity is "odd"; it must be critical, major, minor, warning or cleared`,
		try("plain", `{"severity": "odd"}`, "2031-03-01T12:00:00Z").Unparsed)
}

// An alert's page tells of a run that a later report began, and how often is counted so far.
func TestAnAlertTellsWhatLaterReportsStarted(t *testing.T) {
	a := open(t)
	_, err := a.Push(ctx, iva, pushing(desk, `urgentis: trigger/1
name: third
runbook: after-deployment
alert: alert.severity == "minor"
on: [new, repeat]
count: 3 in 1d
inputs: {version: "-"}
`))
	require.NoError(t, err)
	verdict := func() trigger.Verdict {
		id, _ := raised(t, a, "north", "ramp", alert.Minor)
		x, err := a.Alert(ctx, jonas, id)
		require.NoError(t, err)
		i := slices.IndexFunc(x.Verdicts, func(v trigger.Verdict) bool { return v.Name == "trigger/third" })
		require.GreaterOrEqual(t, i, 0)
		return x.Verdicts[i]
	}
	assert.Contains(t, verdict().Error, "this was number 1")
	assert.Contains(t, verdict().Error, "this was number 2")
	v := verdict()
	assert.True(t, v.Started)
	assert.Empty(t, v.Error)
	_, err = a.Run(ctx, jonas, v.Run)
	require.NoError(t, err)
}

// One document is taken out of use by its name, with what is done for it; whoever may not push it may not remove it.
func TestADocumentIsRemoved(t *testing.T) {
	a := open(t)
	const calendar = "urgentis: calendar/1\nname: staffed\nzone: UTC\nweekly: [mon-fri 06:00-22:00]\n"
	anna := &access.Principal{Name: "anna", Roles: []access.Role{access.Author}, Person: true}
	_, err := a.Push(ctx, iva, pushing(calendar))
	require.NoError(t, err)
	_, err = a.Push(ctx, iva, pushing(desk))
	require.NoError(t, err)
	assert.ErrorContains(t, a.RemoveDocument(ctx, anna, estate.Calendar, "staffed"), "needs")
	require.NoError(t, a.RemoveDocument(ctx, iva, estate.Calendar, "staffed"))
	assert.ErrorContains(t, a.RemoveDocument(ctx, iva, estate.Calendar, "staffed"), "there is no calendar staffed")
	require.NoError(t, a.RemoveDocument(ctx, anna, estate.Runbook, "after-deployment"))
	require.NoError(t, a.RemoveDocument(ctx, iva, estate.Source, "desk"))
	list, err := a.Documents(ctx, iva, "")
	require.NoError(t, err)
	for _, d := range list {
		assert.NotContains(t, []string{"staffed", "after-deployment", "desk"}, d.Name)
	}
	acts, _, err := a.Acts(ctx, iva, "", 0, 100)
	require.NoError(t, err)
	assert.Equal(t, "source.removed", acts[0].Act)
}

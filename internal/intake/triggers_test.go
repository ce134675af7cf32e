package intake

import (
	"context"
	"fmt"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/alert"
	"urgentis/core/calendar"
	"urgentis/core/estate"
	"urgentis/core/incident"
	"urgentis/core/trigger"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

const simple = `urgentis: runbook/1
name: plain
title: Plain
owner: o
service: s
inputs: {what: {type: text, default: none}}
steps: [{wait: A while, for: 5m}]
`

// push keeps documents as they are; runbooks among them are kept too.
func push(t *testing.T, s *store.Store, texts ...string) {
	ctx := context.Background()
	for _, text := range texts {
		docs, found := estate.Parse([]estate.File{{Name: "a", Text: text}})
		require.False(t, estate.Failed(found), text)
		for _, d := range docs {
			if d.Kind == estate.Runbook {
				_, _, err := s.PushRunbook(ctx, d.Text, "iva")
				require.NoError(t, err)
				continue
			}
			require.NoError(t, s.Tx(ctx, func(tx *store.Tx) error {
				p := &store.Push{By: "iva"}
				if err := tx.AddPush(p); err != nil {
					return err
				}
				return tx.PushDocument(p, d)
			}))
		}
	}
}

func besides(fields string) string {
	return "urgentis: trigger/1\nname: t\nrunbook: plain\n" + fields
}

func firings(t *testing.T, s *store.Store) (out []string) {
	list, err := s.In(context.Background()).Firings("plain", "trigger/t", 0, 100)
	require.NoError(t, err)
	for i := len(list) - 1; i >= 0; i-- {
		out = append(out, list[i].Result)
	}
	return out
}

func TestTriggersBesideARunbook(t *testing.T) {
	all := `alert: 'alert.severity != ""'` + "\n"
	for name, c := range map[string]struct {
		fields string
		sent   []alert.Severity
		want   []string
	}{
		"new and worse":    {all, []alert.Severity{"minor", "minor", "major", "minor", "cleared"}, []string{"started"}},
		"only what is new": {all + "on: [new]\n", []alert.Severity{"minor", "major", "cleared", "minor"}, []string{"started", "already"}},
		"what clears":      {all + "on: [cleared]\n", []alert.Severity{"minor", "cleared", "minor", "cleared"}, []string{"started", "already"}},
		"what is better":   {all + "on: [better]\n", []alert.Severity{"major", "minor", "warning"}, []string{"started", "started"}},
		"each report": {all + "on: [new, repeat]\n", []alert.Severity{"minor", "minor", "minor"},
			[]string{"started", "started", "started"}},
		"each third": {all + "on: [new, repeat]\ncount: 3 in 1h\n", []alert.Severity{"minor", "minor", "minor", "minor", "minor",
			"minor", "minor"}, []string{"back", "back", "started", "back", "back", "started", "back"}},
		"at most": {all + "on: [new, repeat]\nat_most: 2 per 1h\n", []alert.Severity{"minor", "minor", "minor", "minor"},
			[]string{"started", "started", "refused", "refused"}},
		"outside of its hours": {all + "hours: {inside: never}\n", []alert.Severity{"minor"}, []string{"back"}},
		"inside of its hours":  {all + "hours: {outside: never}\n", []alert.Severity{"minor"}, []string{"started"}},
		"no such calendar":     {all + "hours: {inside: gone}\n", []alert.Severity{"minor"}, []string{"back"}},
		"an incident is opened": {"incident: incident.severity == \"minor\"\ninputs: {what: \"{{ incident.title }}\"}\n",
			[]alert.Severity{"minor", "cleared", "major"}, []string{"started"}},
	} {
		t.Run(name, func(t *testing.T) {
			in, s := open(t)
			push(t, s, simple, "urgentis: calendar/1\nname: never\nzone: UTC\nweekly: []\n", besides(c.fields))
			for i, sev := range c.sent {
				r := report("k", sev)
				if sev == alert.Cleared {
					r.Severity = alert.Cleared
				}
				_, err := in.Take(context.Background(), "mon", r)
				require.NoError(t, err, i)
			}
			assert.Equal(t, c.want, firings(t, s))
		})
	}
}

func TestWhatIsSwitchedOffSaysWhoAndWhy(t *testing.T) {
	in, s := open(t)
	ctx := context.Background()
	push(t, s, simple, besides("alert: alert.severity == \"minor\"\n"))
	off := store.SwitchedOff{Runbook: "plain", Start: "trigger/t", By: "mara", Because: "the queue is moved"}
	require.NoError(t, s.In(ctx).SwitchOff(off))
	taken, err := in.Take(ctx, "mon", report("k", alert.Minor))
	require.NoError(t, err)
	a, err := s.In(ctx).Alert(taken.Alert)
	require.NoError(t, err)
	assert.Contains(t, string(a.Verdicts), "it is switched off by mara: the queue is moved")
	assert.Equal(t, []string{"back"}, firings(t, s))
	on, err := s.In(ctx).SwitchOn("plain", "trigger/t")
	require.NoError(t, err)
	assert.True(t, on)
	_, err = in.Take(ctx, "mon", report("l", alert.Minor))
	require.NoError(t, err)
	assert.Equal(t, []string{"back", "started"}, firings(t, s))
}

// An alert that was kept back by one who was late, when all others were let go already, is let go too.
func TestNoAlertIsLeftBehindByPlannedWork(t *testing.T) {
	in, s := open(t)
	ctx := context.Background()
	push(t, s, simple, besides("alert: alert.severity == \"minor\"\n"))
	taken, err := in.Take(ctx, "mon", report("k", alert.Minor))
	require.NoError(t, err)
	require.NoError(t, testdb.SQL(s).Exec(
		"update alert set muted_by = 'works', muted_until = now() - interval '1 second'").Error)
	require.Eventually(t, func() bool {
		a, err := s.In(ctx).Alert(taken.Alert)
		require.NoError(t, err)
		return a.MutedBy == ""
	}, time.Minute, 20*time.Millisecond)
	assert.Contains(t, told(t, s, taken.Incident), string(incident.AlertMuted))
}

// Planned work holds back what would start and who would be told; what is still there at its end is as if it were new.
func TestMutes(t *testing.T) {
	in, s := open(t)
	ctx := context.Background()
	until := time.Now().UTC().Add(3 * time.Second).Truncate(time.Second)
	push(
		t,
		s,
		simple,
		besides("alert: alert.severity == \"minor\"\n"),
		"urgentis: mute/1\nname: works\nwhen: alert.source == "+
			"\"mon\"\nfrom: 2020-01-01T00:00:00Z\nuntil: "+until.Format(time.RFC3339)+"\nbecause: new cables\n",
	)
	taken, err := in.Take(ctx, "mon", report("k", alert.Minor))
	require.NoError(t, err)
	gone, err := in.Take(ctx, "mon", report("gone", alert.Minor))
	require.NoError(t, err)
	_, err = in.Take(ctx, "mon", report("gone", alert.Cleared))
	require.NoError(t, err)
	assert.Equal(t, []string{"back", "back"}, firings(t, s))
	i, err := s.In(ctx).Incident(taken.Incident)
	require.NoError(t, err)
	assert.Equal(t, "nobody", i.WaitingOn, "nobody is asked to look at planned work")
	require.Eventually(t, func() bool { return len(firings(t, s)) == 3 }, time.Minute, 50*time.Millisecond)
	assert.Equal(t, "started", firings(t, s)[2])
	runs, err := s.In(ctx).RunsOf(gone.Incident)
	require.NoError(t, err)
	assert.Empty(t, runs, "what is over by then starts nothing")
}

// Two instances keep the same schedule: each time is begun once, whoever is first.
func TestAScheduleFiresOnce(t *testing.T) {
	in, s := open(t)
	ctx := context.Background()
	push(t, s, simple, besides("schedule: '* * * * *'\ninputs: {what: \"{{ at }}\"}\n"))
	version, err := in.plan(ctx, -1)
	require.NoError(t, err)
	again, err := in.plan(ctx, version)
	require.NoError(t, err)
	assert.Equal(t, version, again)
	due := func(at time.Time) {
		require.NoError(t, testdb.SQL(s).Exec("update due set next_at = ?", at).Error)
	}
	past := time.Now().UTC().Truncate(time.Minute)
	due(past)
	var both sync.WaitGroup
	for range 8 {
		both.Go(func() { assert.NoError(t, in.beginDue(ctx)) })
	}
	both.Wait()
	assert.Equal(t, []string{"started"}, firings(t, s))
	var inputs string
	require.NoError(t, testdb.SQL(s).Raw("select body from event where seq = 1").Scan(&inputs).Error)
	assert.Contains(t, inputs, past.Format("2006-01-02T15:04"))
	dues, err := s.In(ctx).Dues()
	require.NoError(t, err)
	assert.True(t, dues[0].NextAt.After(past))
	// Another text of it is planned anew; one that is gone is forgotten.
	push(t, s, besides("schedule: '0 3 * * *'\nzone: Europe/Lisbon\n"))
	version, err = in.plan(ctx, version)
	require.NoError(t, err)
	dues, err = s.In(ctx).Dues()
	require.NoError(t, err)
	assert.Equal(t, "0 3 * * * Europe/Lisbon", dues[0].Spec)
	require.NoError(t, s.In(ctx).RemoveDocument(estate.Trigger, "t"))
	_, err = in.plan(ctx, version)
	require.NoError(t, err)
	dues, err = s.In(ctx).Dues()
	require.NoError(t, err)
	assert.Empty(t, dues)
}

func TestTimesThatWereMissed(t *testing.T) {
	s, err := calendar.ParseSchedule("0 * * * *", time.UTC)
	require.NoError(t, err)
	first := time.Date(2031, 3, 1, 1, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		missed      string
		now         time.Time
		times, more int
	}{
		{"", first.Add(time.Second), 1, 0}, {"", first.Add(5 * time.Hour), 1, 5}, {"once", first.Add(30 * time.Minute), 1, 0},
		{"skip", first.Add(time.Second), 1, 0}, {"skip", first.Add(30 * time.Minute), 0, 1}, {"skip", first.Add(5 * time.Hour), 1, 5},
		{"each", first.Add(5 * time.Hour), 6, 0}, {"each", first.Add(100 * time.Hour), 24, 77},
		{"each", first.Add(10 * 365 * 24 * time.Hour), 24, 2377},
	} {
		times, more := missed(&trigger.Start{Schedule: s, Missed: c.missed}, first, c.now)
		assert.Len(t, times, c.times, "%+v", c)
		assert.Equal(t, c.more, more, "%+v", c)
	}
}

// A schedule whose runbook cannot begin harms no other, and does not come again and again.
func TestOneScheduleThatCannotBeginHarmsNoOther(t *testing.T) {
	in, s := open(t)
	ctx := context.Background()
	push(t, s, simple, besides("schedule: '* * * * *'\n"),
		"urgentis: trigger/1\nname: bad\nrunbook: gone\nschedule: '* * * * *'\n")
	_, err := in.plan(ctx, -1)
	require.NoError(t, err)
	require.NoError(t, testdb.SQL(s).Exec("update due set next_at = now()").Error)
	require.NoError(t, in.beginDue(ctx))
	assert.Equal(t, []string{"started"}, firings(t, s))
	bad, err := s.In(ctx).Firings("gone", "trigger/bad", 0, 10)
	require.NoError(t, err)
	require.Len(t, bad, 1)
	assert.Equal(t, "there is no runbook gone", bad[0].Why)
}

func TestValuesThatWereSeen(t *testing.T) {
	in, s := open(t)
	ctx := context.Background()
	for i := range 300 {
		r := report(fmt.Sprint("k", i), alert.Minor)
		r.Labels = map[string]string{"n": fmt.Sprint(i % 250), "signal": "queue_depth"}
		_, err := in.Take(ctx, "mon", r)
		require.NoError(t, err)
	}
	require.NoError(t, in.noteSeen(ctx))
	list, err := s.In(ctx).SeenValues("labels.signal")
	require.NoError(t, err)
	require.Len(t, list, 1)
	assert.Equal(t, "queue_depth", list[0].Value)
	list, err = s.In(ctx).SeenValues("labels.n")
	require.NoError(t, err)
	assert.Len(t, list, 200, "they are bounded")
}

// Whoever owns a start address is told before its last key ends, once.
func TestKeysThatEndSoonAreTold(t *testing.T) {
	in, s := open(t)
	ctx := context.Background()
	push(t, s, simple, besides("address: true\n"))
	require.NoError(t, testdb.Room(s, "room", "http://r"))
	add := func(id string, ends time.Duration) {
		require.NoError(t, s.In(ctx).AddStartKey(&store.StartKey{ID: id, Runbook: "plain", Start: "trigger/t",
			Hash: []byte(id), AddedBy: "iva", AddedAt: time.Now(), EndsAt: time.Now().Add(ends)}, 365*24*time.Hour))
	}
	told := func() (n int) {
		require.NoError(t, in.tellExpiring(ctx))
		require.NoError(
			t,
			testdb.SQL(s).Raw("select count(*) from notice where text like '%trigger address t%'").Scan(&n).Error,
		)
		return n
	}
	add("old", 24*time.Hour)
	add("new", 100*24*time.Hour)
	assert.Zero(t, told(), "another one goes on beside it")
	require.NoError(t, s.In(ctx).EndStartKey("plain", "trigger/t", "new"))
	assert.Equal(t, 1, told())
	assert.Equal(t, 1, told())
}

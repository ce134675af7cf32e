package engine_test

import (
	"context"
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/alert"
	"urgentis/internal/engine"
	"urgentis/internal/intake"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

// closer is a runbook that waits for a word about a signal, and ends as that says.
func closer(signal, end string) string {
	return fmt.Sprintf(`urgentis: runbook/1
name: %[1]s
title: Looks after the %[1]s
owner: quayside
service: berth-queue
starts: {it: {alert: 'alert.labels.signal == "%[1]s"'}}
steps:
  - ask: Is it done?
    to: team/quayside
    choices:
      done: {label: Done, steps: [%[2]s]}
`, signal, end)
}

func (b *bench) raise(signal, severity string) intake.Taken {
	taken, err := b.in.Take(context.Background(), "mon", alert.Report{
		Key: signal, Severity: alert.Severity(severity), Summary: "Trouble with the " + signal, Service: "berth-queue",
		Labels: map[string]string{"signal": signal}, At: alert.SaidAt(time.Now()),
	})
	require.NoError(b.t, err)
	return taken
}

// done gives the word to the runbook of a signal, and waits until it has ended.
func (b *bench) done(signal string) {
	q := eventually[store.Question](b, `select q.* from question q join run r on r.id = q.run
		where q.state = 'open' and r.runbook = ?`, signal)
	require.NoError(b.t, b.answer(q.ID, engine.Reply{Choice: "done", By: "mara"}))
	eventually[store.Run](b, "select * from run where id = ? and ended_at is not null", q.Run)
}

func (b *bench) incident(number int64) *store.Incident {
	i, err := b.store.In(context.Background()).Incident(number)
	require.NoError(b.t, err)
	_, err = b.store.Verify(context.Background(), number)
	require.NoError(b.t, err)
	return i
}

// titles are what the record says with entries of a kind.
func (b *bench) titles(number int64, kind string) (out []string) {
	require.NoError(b.t, testdb.SQL(b.store).Raw("select title from entry where incident = ? and kind = ? order by seq",
		number, kind).Scan(&out).Error)
	return out
}

// told are what sources are told of an incident, in their order.
func (b *bench) told(number int64) (out []string) {
	var rows []store.Delivery
	require.NoError(b.t, testdb.SQL(b.store).Where("incident = ? and kind = ?", number, store.DeliverySource).
		Order("id").Find(&rows).Error)
	for _, d := range rows {
		var body struct{ Key, Do string }
		require.NoError(b.t, json.Unmarshal([]byte(d.Body), &body))
		out = append(out, body.Do+" "+body.Key)
	}
	return out
}

func ends(t *testing.T, books ...string) *bench {
	b := set(t, books[0])
	for _, x := range books[1:] {
		_, _, err := b.store.PushRunbook(context.Background(), x, "iva")
		require.NoError(t, err)
	}
	require.NoError(t, testdb.SQL(b.store).Exec("update source set call_back = 'http://mon.example/back'").Error)
	return b
}

// A minor alert's runbook does not end an incident in which a critical alert is open that none worked on. Its own
// source is told, and no other.
func TestARunEndsWhatItWasBegunFor(t *testing.T) {
	b := ends(t, closer("lamp", "{close: false-alarm, because: The lamp burns.}"))
	one := b.raise("lamp", "minor")
	require.Equal(t, one.Incident, b.raise("disk", "critical").Incident)
	b.done("lamp")
	i := b.incident(one.Incident)
	assert.Equal(t, "open", i.State)
	assert.Equal(t, "critical", i.Severity)
	assert.Equal(t, []string{"Stays open: Trouble with the disk is open (critical): no runbook worked on it"},
		b.titles(one.Incident, "incident.kept-open"))
	assert.Equal(t, []string{"acknowledge lamp", "close lamp"}, b.told(one.Incident))

	b.raise("disk", "cleared")
	i = b.incident(one.Incident)
	assert.Equal(t, "closed cleared-itself", i.State+" "+i.Outcome, "whatever comes last closes it")
}

// Two troubles, two runbooks: the later end closes, and what counts most is how it ended.
func TestTheLastOfTwoRunsCloses(t *testing.T) {
	b := ends(t, closer("lamp", "{close: repaired, because: A new lamp.}"),
		closer("disk", "{close: mitigated, because: Half of it is free.}"))
	one := b.raise("lamp", "minor")
	b.raise("disk", "critical")
	b.done("disk")
	assert.Equal(t, []string{"Stays open: lamp still works; Trouble with the lamp is open (minor): no runbook worked on it"},
		b.titles(one.Incident, "incident.kept-open"))
	assert.Equal(t, "minor", b.incident(one.Incident).Severity, "the worst for which nothing was enough")
	b.done("lamp")
	i := b.incident(one.Incident)
	assert.Equal(t, "closed mitigated: Half of it is free.", i.State+" "+i.Outcome+": "+i.Because)
	assert.Equal(t, []string{"acknowledge disk", "close disk", "acknowledge lamp", "close lamp"}, b.told(one.Incident))
}

// What was handed to a person stays theirs whatever else is repaired, until somebody says that it is done with.
func TestAHandOverKeepsTheIncidentOpen(t *testing.T) {
	b := ends(t, closer("certificate", "{hand_over: team/quayside, because: It must be bought.}"),
		closer("disk", "{close: repaired, because: It is empty.}"))
	one := b.raise("certificate", "major")
	b.raise("disk", "critical")
	b.done("certificate")
	b.raise("certificate", "cleared")
	b.done("disk")
	kept := b.titles(one.Incident, "incident.kept-open")
	require.Len(t, kept, 1)
	assert.Regexp(t, `^Stays open: handed over to team/quayside at \d\d:\d\d UTC$`, kept[0])
	assert.Equal(t, "open", b.incident(one.Incident).State)
	var run string
	require.NoError(t, testdb.SQL(b.store).Raw("select run from hand_over").Scan(&run).Error)
	require.NoError(t, b.e.Write(context.Background(), func(s *engine.Sheet) error {
		done, err := s.Tx().SettleHandOver(run, "mara")
		require.True(t, done)
		require.NoError(t, err)
		r, err := s.Tx().Run(run)
		require.NoError(t, err)
		return s.Settled(r, "mara", "bought")
	}))
	i := b.incident(one.Incident)
	assert.Equal(t, "closed repaired", i.State+" "+i.Outcome)
}

// Who has it closes it, and is told.
func TestAHolderKeepsTheIncidentOpen(t *testing.T) {
	b := ends(t, closer("disk", "{close: repaired, because: It is empty.}"))
	one := b.raise("disk", "critical")
	require.NoError(t, testdb.SQL(b.store).Exec("update incident set holder = 'mara', held_at = now()").Error)
	b.done("disk")
	assert.Equal(t, []string{"Stays open: mara has it and closes it"}, b.titles(one.Incident, "incident.kept-open"))
	assert.Equal(t, []string{"acknowledge disk", "close disk"}, b.told(one.Incident))
	require.NoError(t, b.e.Write(context.Background(), func(s *engine.Sheet) error {
		i, err := s.Incident(one.Incident)
		i.Holder = ""
		s.MayEnd(i)
		return err
	}))
	i := b.incident(one.Incident)
	assert.Equal(t, "closed repaired", i.State+" "+i.Outcome)
}

// An alert that became worse while its runbook was at work: the proof may be older.
func TestWhatIsWorseSinceIsNotSettled(t *testing.T) {
	b := ends(t, closer("disk", "{close: repaired, because: It is empty.}"))
	one := b.raise("disk", "minor")
	eventually[store.Question](b, "select * from question where state = 'open'")
	b.raise("disk", "critical")
	b.done("disk")
	assert.Equal(t, []string{"Stays open: Trouble with the disk is open (critical): worse since"},
		b.titles(one.Incident, "incident.kept-open"))
	assert.Empty(t, b.told(one.Incident))
	b.raise("disk", "minor")
	i := b.incident(one.Incident)
	assert.Equal(t, "closed repaired", i.State+" "+i.Outcome, "it is as bad as it was")
}

// One alert finds a run for the same under way: what that says of the end is said of both. What was not repaired is
// only acknowledged.
func TestARunTreatsAllThatAreTheSame(t *testing.T) {
	b := ends(t, closer("disk", "{close: not-repaired, because: It is too old.}"))
	one := b.raise("disk", "minor")
	taken, err := b.in.Take(context.Background(), "mon", alert.Report{Key: "disk 2", Severity: "major", Summary: "Full",
		Service: "berth-queue", Labels: map[string]string{"signal": "disk"}, At: alert.SaidAt(time.Now())})
	require.NoError(t, err)
	require.Equal(t, one.Incident, taken.Incident)
	b.done("disk")
	i := b.incident(one.Incident)
	assert.Equal(t, "closed not-repaired", i.State+" "+i.Outcome)
	assert.Equal(t, []string{"acknowledge disk", "acknowledge disk 2"}, b.told(one.Incident))
}

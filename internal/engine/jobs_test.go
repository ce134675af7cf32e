package engine_test

import (
	"context"
	"fmt"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"urgentis/core/flow"
	"urgentis/internal/act"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

const presses = `urgentis: runbook/1
name: presses
title: Presses
owner: quayside
service: berth-queue
inputs:
  queue: {type: text, pattern: '^[a-z]+$'}
steps:
  - each: All of them
    where: {role: press}
    at_once: 200
    gate: {ask: team/quayside}
    steps:
      - change: Press
        job:
          start: {url: "http://press.example/jobs"}
          id: .id
          follow: {url: "http://press.example/jobs/{{ job.id }}"}
          state: .state
          good: [done]
        timeout: 10m
  - close: repaired
    because: pressed
`

// presses adds so many targets.
func (b *bench) presses(n int) {
	rows := make([]store.Target, n)
	for i := range rows {
		rows[i] = store.Target{Name: fmt.Sprintf("press-%03d", i), Service: "berth-queue", HostKey: "k",
			Address: fmt.Sprintf("10.4.0.%d", i), Labels: store.Labels{"role": "press"}}
	}
	require.NoError(b.t, testdb.SQL(b.store).Create(&rows).Error)
}

// press is another system that takes jobs, and ends them once it is told to.
type press struct {
	begun, followed atomic.Int32
	over            chan struct{}
}

func (p *press) Do(ctx context.Context, job act.Job) act.Result {
	if err := job.MaySend(ctx); err != nil {
		return act.NotSent(err)
	}
	if p.begun.Add(1)%2 == 0 {
		<-job.Leave // its answer is on the way while the instance stops
	}
	job.Known("j-" + job.Request.Target.Name)
	select {
	case <-p.over:
		return act.Ended(0, true).Result()
	case <-job.Leave:
		return act.StillRunning("nobody here looks after it any more").Result()
	}
}

func (p *press) Follow(_ context.Context, job act.Job, known string, _ time.Duration) act.Sent {
	if known != "j-"+job.Request.Target.Name {
		return act.Unseen("it is known by another name: " + known)
	}
	p.followed.Add(1)
	<-p.over
	return act.Ended(0, true)
}

// Two hundred jobs are started at once, and their instance stops: what each is known by was kept, also where it is
// heard only then; another instance follows each on, and none is started twice.
func TestTwoHundredJobsAreFollowedOn(t *testing.T) {
	const all = 200
	p := &press{over: make(chan struct{})}
	b := set(t, presses)
	db := testdb.SQL(b.store)
	b.presses(all)
	b.e.Hands["job"] = p
	b.jobs = p
	b.begin("night-job", "iva")
	b.decide(true)
	if !assert.Eventually(t, func() bool { return p.begun.Load() == all }, 2*time.Minute, 10*time.Millisecond) {
		var rows []map[string]any
		db.Raw("select kind, count(*) from event group by 1 order by 1").Scan(&rows)
		t.Fatal(p.begun.Load(), rows)
	}
	b.stop()
	b.start()
	require.Eventually(t, func() bool { return p.followed.Load() == all }, time.Minute, 10*time.Millisecond)
	close(p.over)
	run := b.ended()
	assert.Equal(t, flow.Done, run.State, run.Because)
	assert.EqualValues(t, all, p.begun.Load(), "none is started twice")
	var kept int
	require.NoError(t, db.Raw(`select count(distinct body::jsonb ->> 'job') from event where kind = 'attempt.followed'`).
		Scan(&kept).Error)
	assert.Equal(t, all, kept)
}

const pressed = `urgentis: runbook/1
name: pressed
title: Pressed
owner: quayside
service: berth-queue
inputs:
  queue: {type: text, pattern: '^[a-z]+$'}
steps:
  - look: How full they are
    id: full
    where: {role: press}
    at_once: 200
    run: [press, depth]
    read:
      full: {json: .depth, type: integer}
  - each: All of them
    where: {role: press}
    at_once: 200
    gate: {ask: team/quayside}
    steps:
      - change: Press
        run: [press, go]
        still: own(readings.full) > 0
  - close: repaired
    because: pressed
`

// Two hundred changes at once, each with its reason looked at once more, are a handful of write transactions: what
// comes in together is written together.
func TestTwoHundredAtOnceAreFewWrites(t *testing.T) {
	const all = 200
	b := set(t, pressed)
	b.presses(all)
	b.begin("night-job", "iva")
	b.decide(true)
	run := b.ended()
	require.Equal(t, flow.Done, run.State, run.Because)
	var n struct{ Writes, Changes int }
	require.NoError(t, testdb.SQL(b.store).Raw(`select count(distinct xmin::text) as writes,
		count(*) filter (where kind = 'attempt.intended' and body like '%"for":"change"%') as changes
		from event where run = ?`, run.ID).Scan(&n).Error)
	assert.Equal(t, all, n.Changes)
	t.Log(n.Writes, "write transactions")
	assert.Less(t, n.Writes, 60, "they do not come one by one")
}

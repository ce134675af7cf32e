package main

import (
	"context"
	"fmt"
	"slices"
	"time"

	"urgentis/core/estate"
	"urgentis/internal/act"
	"urgentis/internal/engine"
	"urgentis/internal/store"
	"urgentis/internal/testdb"
)

// So many watches whose evaluation never ends, beside runs of which each evaluates one that does.
const (
	heavyWatches = 26
	besideRuns   = 15
)

const besideBook = `urgentis: runbook/1
name: beside
title: Beside
owner: bench
service: beside
steps:
  - look: One of them
    where: {role: beside}
    run: [report]
    read:
      n: {json: "[range(1000)] | map(. * 2) | add", type: integer}
  - close: false-alarm
    because: seen
`

// says answers JSON.
type says struct{}

func (says) Do(_ context.Context, job act.Job) act.Result {
	stdout, _ := act.Streams(job)
	stdout.Write([]byte(`{"depth": 12}`)) //nolint:errcheck // it takes everything
	return act.Ended(0, true).Printed(stdout.Taken(), act.Captured{}).Result()
}

// beside measures a run that evaluates jq, quiet and beside heavy watches.
func (b *bench) beside() error {
	sql := testdb.SQL(b.store)
	if err := sql.Create(&store.Service{Name: "beside", Owner: "bench", Stance: "ask"}).Error; err != nil {
		return err
	}
	if err := sql.Create(&store.Target{Name: "b-1", Service: "beside", Address: "10.2.0.1",
		Labels: store.Labels{"role": "beside"}}).Error; err != nil {
		return err
	}
	if err := b.push(besideBook); err != nil {
		return err
	}
	e, err := b.engineOf(engine.Hands{"ssh": says{}})
	if err != nil {
		return err
	}
	defer e.Stop()
	if err := startLooking(b.ctx, e); err != nil {
		return err
	}
	quiet, err := b.middleRun(e)
	if err != nil {
		return err
	}
	if err := b.heavy(); err != nil {
		return err
	}
	time.Sleep(5 * time.Second)
	beside, err := b.middleRun(e)
	if err != nil {
		return err
	}
	b.rows = append(b.rows, figure{
		fmt.Sprintf("a run that evaluates jq, beside %d watches of which none ends", heavyWatches), ms(beside),
		fmt.Sprintf("%s (twice its quiet time)", ms(2*quiet)), verdict(beside < 2*quiet),
	})
	return b.dropWatches()
}

// middleRun is the median of several runs.
func (b *bench) middleRun(e *engine.Engine) (time.Duration, error) {
	var all []time.Duration
	for range besideRuns {
		took, err := b.runOnce(e, "beside", 1)
		if err != nil {
			return 0, err
		}
		all = append(all, took)
	}
	slices.Sort(all)
	return all[len(all)/2], nil
}

// heavy has the watches taken.
func (b *bench) heavy() error {
	return b.store.Tx(b.ctx, func(tx *store.Tx) error {
		push := &store.Push{By: "bench"}
		if err := tx.AddPush(push); err != nil {
			return err
		}
		for i := range heavyWatches {
			docs, found := estate.Parse([]estate.File{{Name: "w", Text: fmt.Sprintf("urgentis: watch/1\nname: h-%d\n"+
				"service: beside\nevery: 5s\nlooks:\n  - look: Heavy\n    where: {role: beside}\n    run: [report]\n"+
				"    read: {n%d: {json: \".depth | until(false; . + 1)\", type: integer}}\n", i, i)}})
			if len(docs) != 1 {
				return fmt.Errorf("a watch is not sound: %v", found)
			}
			if err := tx.PushDocument(push, docs[0]); err != nil {
				return err
			}
			if err := tx.SetScheduled(docs[0].Watch); err != nil {
				return err
			}
		}
		return nil
	})
}

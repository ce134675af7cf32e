package flow_test

import (
	"fmt"
	"time"

	"urgentis/core/expr"
	"urgentis/core/flow"
	"urgentis/core/runbook"
)

const queueBook = `urgentis: runbook/1
name: berth-queue
title: Berth assignments are piling up
owner: quayside
service: berth-queue
steps:
  - look: How deep is the queue?
    where: {role: consumer}
    run: [berthq, depth]
    read:
      depth: {whole: true, type: integer, unit: messages}
  - check: Is it empty?
    that: max(readings.depth) == 0
    fails: hand_over
  - close: false-alarm
    because: The queue is empty.
`

// A run is played by hand: what Next wants written is written, and what it begins is answered.
func ExampleNext() {
	book, findings := runbook.Parse([]byte(queueBook))
	if findings.Failed() {
		fmt.Println(findings)
		return
	}
	now := time.Date(2031, 3, 1, 2, 0, 0, 0, time.UTC)
	log := []flow.Event{{Seq: 1, At: now, Body: flow.Begun{
		Rules: flow.Rules, Run: "r1", Runbook: book.Name, StartedBy: "mara",
		Estate: []flow.Target{{Name: "berth-consumer-1", Labels: map[string]string{"role": "consumer"}}},
	}}}
	write := func(body flow.Body) {
		log = append(log, flow.Event{Seq: int64(len(log) + 1), At: now, Body: body})
	}
	for range 9 {
		plan, err := flow.Next(book, log, now)
		if err != nil {
			fmt.Println(err)
			return
		}
		for _, e := range plan.Events {
			write(e.Body)
			log[len(log)-1].Place = e.Place
			fmt.Println(e.Place, e.Body.Kind())
		}
		for _, intent := range plan.Begin {
			fmt.Println("  the hand does", intent.Request.Words, "on", intent.Target)
			write(flow.Outcome{Attempt: intent.Attempt, State: flow.OK, Readings: map[string]expr.Sample{
				"depth": {Target: intent.Target, Value: int64(0)},
			}})
		}
		if plan.Ended {
			break
		}
	}
	// Output:
	// 1 step.begun
	// 1 attempt.intended
	//   the hand does [berthq depth] on berth-consumer-1
	// 2 step.begun
	// 2 check.judged
	// 3 run.ended
}

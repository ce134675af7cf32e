package scheduled

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"

	"urgentis/core/estate"
	"urgentis/core/flow"
	"urgentis/core/reading"
	"urgentis/core/watch"
	"urgentis/internal/engine"
	"urgentis/internal/store"
)

// Scheduled looks are bounded: so many watches in the hands of an instance, of all of them so many looks at once, and
// one taking for so long.
const (
	maxInHand  = 64
	maxLooks   = 64
	takingTime = 2 * time.Minute
)

const (
	// dueEvery is how often it is asked which watches are due.
	dueEvery = 200 * time.Millisecond
	// gatherTime is for how long samples are gathered that share a commit.
	gatherTime = 200 * time.Millisecond
	// maxWatches bounds how many watches are kept parsed.
	maxWatches = 20_000
)

// hands are what an instance has in hand of watches.
type hands struct {
	slots   chan struct{} // a place for each look under way
	inHand  chan struct{} // one for each watch
	done    chan result
	watches *lru.Cache[string, *watch.Watch] // by name and revision
	taking  sync.WaitGroup
	ended   chan struct{} // nothing more is taken in hand
}

// result is a watch that was taken.
type result struct {
	row  store.Scheduled
	read engine.Readings
	cut  bool // the service ended meanwhile
}

func newHands() (*hands, error) {
	watches, err := lru.New[string, *watch.Watch](maxWatches)
	if err != nil {
		return nil, fmt.Errorf("make room for watches: %w", err)
	}
	return &hands{
		slots:   make(chan struct{}, maxLooks),
		inHand:  make(chan struct{}, maxInHand),
		done:    make(chan result, maxInHand),
		watches: watches,
		ended:   make(chan struct{}),
	}, nil
}

// takeDue takes the watches that are due.
func (e *Looker) takeDue(ctx context.Context) error {
	free := maxInHand - len(e.hands.inHand)
	if free == 0 {
		return nil
	}
	var due []store.Scheduled
	err := e.Store.Tx(ctx, func(tx *store.Tx) (err error) {
		due, err = tx.TakeScheduled(free, takingTime+10*time.Second)
		return err
	})
	if err != nil || len(due) == 0 {
		return err
	}
	estates, err := e.estatesOf(ctx, due)
	if err != nil {
		names := make([]string, len(due))
		for i, row := range due {
			names[i] = row.Watch
		}
		return errors.Join(err, e.Store.In(ctx).ScheduledBack(names))
	}
	for _, row := range due {
		e.hands.inHand <- struct{}{}
		e.hands.taking.Go(func() {
			defer func() { <-e.hands.inHand }()
			e.hands.done <- e.stand(ctx, row, estates[row.Service])
		})
	}
	return nil
}

// estatesOf reads the services of watches, and their targets.
func (e *Looker) estatesOf(ctx context.Context, due []store.Scheduled) (map[string]engine.Estate, error) {
	out := map[string]engine.Estate{}
	err := e.Write(ctx, func(s *engine.Sheet) error {
		for _, row := range due {
			if _, known := out[row.Service]; known {
				continue
			}
			w, err := e.WatchOf(s.Tx(), row)
			if err != nil {
				continue // its own taking says so
			}
			est, err := s.Estate(w.Looks)
			if err != nil {
				return err
			}
			out[row.Service] = est
		}
		return nil
	})
	return out, err
}

// WatchOf is the watch that a row stands for, as its revision says it.
func (e *Looker) WatchOf(tx *store.Tx, row store.Scheduled) (*watch.Watch, error) {
	key := fmt.Sprint(row.Watch, " ", row.Number)
	if w, ok := e.hands.watches.Get(key); ok {
		return w, nil
	}
	d, err := tx.DocumentRevision(estate.Watch, row.Watch, row.Number)
	if err != nil {
		return nil, fmt.Errorf("read watch %s: %w", row.Watch, err)
	}
	docs, found := estate.Parse([]estate.File{{Name: row.Watch, Text: d.Text}})
	if len(docs) != 1 || docs[0].Watch == nil {
		return nil, fmt.Errorf("watch %s: %w: %v", row.Watch, engine.ErrUnsound, found)
	}
	e.hands.watches.Add(key, docs[0].Watch)
	return docs[0].Watch, nil
}

// stand takes one watch. A program error in it ends there.
func (e *Looker) stand(ctx context.Context, row store.Scheduled, est engine.Estate) (out result) {
	began := e.Now()
	defer func() {
		if r := recover(); r != nil {
			out = result{row: row}
			out.row.Trouble = engine.FailedOn(r)
		}
		out.row.TakenAt, out.row.Took = &began, e.Now().Sub(began).Seconds()
		out.cut = e.Context().Err() != nil
	}()
	out.row = row
	out.row.Asked, out.row.Answered, out.row.Trouble = 0, 0, ""
	w, err := e.WatchOf(e.Store.In(ctx), row)
	if err != nil {
		out.row.Trouble = reading.Why(err.Error())
		return out
	}
	ctx, cancel := context.WithTimeout(ctx, takingTime)
	defer cancel()
	if err := e.takeAll(ctx, w, est, &out); err != nil {
		out.row.Trouble = reading.Why(err.Error())
	}
	return out
}

// looked is what one look of a taking came to.
type looked struct {
	in  flow.Intent
	out flow.Outcome
}

// takeAll takes the looks of a watch one after another, each on as many targets at once as it says.
func (e *Looker) takeAll(ctx context.Context, w *watch.Watch, est engine.Estate, out *result) error {
	answered := map[string]bool{} // by target: whether all that was asked of it was to be had
	defer func() {
		out.row.Asked = len(answered)
		for _, whole := range answered {
			if whole {
				out.row.Answered++
			}
		}
	}()
	watching := &engine.Watching{}
	trouble, err := e.playLooks(ctx, w, engine.Start{Book: w.Looks}, est, watching, func(x looked) {
		whole := x.out.State == flow.OK && len(x.out.Missing) == 0
		if was, asked := answered[x.in.Target]; !asked || was {
			answered[x.in.Target] = whole
		}
		if !whole && out.row.Trouble == "" {
			out.row.Trouble = troubleOf(x.in.Target, x.out)
		}
		out.read.Look(w.Looks, x.in.Look, x.out.Readings, "")
	})
	if out.row.Trouble == "" {
		out.row.Trouble = trouble
	}
	if out.row.RanOut++; !watching.RanOut.Load() {
		out.row.RanOut = 0
	}
	if rarer := out.row.Rarer(); rarer > 0 {
		out.row.Trouble += fmt.Sprintf("; it is taken again in %s only, and rarer each time", rarer)
	}
	return err
}

// playLooks takes the looks of a watch one after another, each on as many targets at once as it says, and tells what
// each came to; at its end why it did not go on.
func (e *Looker) playLooks(
	ctx context.Context, w *watch.Watch, st engine.Start, est engine.Estate, watching *engine.Watching,
	told func(looked),
) (trouble string, err error) {
	// A name of its own: by it what is under way on a target is ended, and nothing else.
	taking, err := w.Begin(st.Begun(store.NewID("w"), est), e.Now())
	if err != nil {
		return "", err
	}
	results := make(chan looked)
	flying := 0
	defer func() {
		for ; flying > 0; flying-- {
			<-results // whatever went wrong, nothing is left under way
		}
	}()
	for {
		next, err := taking.Next(e.Now())
		if err != nil {
			return "", err
		}
		for _, in := range next {
			flying++
			go func() { results <- looked{in, e.standingLook(ctx, w, in, watching)} }()
		}
		if flying == 0 {
			break
		}
		x := <-results
		flying--
		told(x)
		if err := taking.Took(x.out, e.Now()); err != nil {
			return "", err
		}
	}
	return taking.Trouble(), nil
}

// standingLook takes one look once there is a place for it; a program error in it is its failure.
func (e *Looker) standingLook(
	ctx context.Context, w *watch.Watch, in flow.Intent, watching *engine.Watching,
) (out flow.Outcome) {
	select {
	case e.hands.slots <- struct{}{}:
		defer func() { <-e.hands.slots }()
	case <-ctx.Done():
		return flow.Outcome{Attempt: in.Attempt, State: flow.Failed, Error: "there was no time for it"}
	}
	defer func() {
		if r := recover(); r != nil {
			out = flow.Outcome{Attempt: in.Attempt, State: flow.Failed,
				Error: engine.FailedOn(r)}
		}
	}()
	return e.LookFor(ctx, w.Looks, in, watching)
}

// leastStatus is the least status that HTTP ends with; exits of commands are seldom as large.
const leastStatus = 200

// troubleOf says why a look did not give all that was to be read.
func troubleOf(target string, o flow.Outcome) string {
	says := o.Error
	notHad := o.NotHad()
	switch {
	case says != "":
	case len(notHad) > 0:
		says = notHad[0]
	case o.Exit != nil && *o.Exit >= leastStatus:
		says = fmt.Sprintf("it answered %d", *o.Exit)
	case o.Exit != nil:
		says = fmt.Sprintf("it ended with exit %d", *o.Exit)
	default:
		says = "it " + o.State
	}
	if target != "" {
		says = target + ": " + says
	}
	if len(says) > store.MaxSaid {
		says = strings.ToValidUTF8(says[:store.MaxSaid], "") + "…"
	}
	return says
}

// keepStanding writes what watches read, many in one commit. It ends after the last of them.
func (e *Looker) keepStanding() {
	over := make(chan struct{})
	go func() {
		<-e.hands.ended
		e.hands.taking.Wait()
		close(over)
	}()
	for {
		var batch []result
		select {
		case s := <-e.hands.done:
			batch = append(batch, s)
		case <-over:
			for len(e.hands.done) > 0 {
				batch = append(batch, <-e.hands.done)
			}
			if len(batch) == 0 {
				return
			}
		}
		for t := time.After(gatherTime); t != nil; {
			select {
			case s := <-e.hands.done:
				batch = append(batch, s)
			case <-t:
				t = nil
			}
		}
		e.Survive("keep what watches read", func() {
			// What the service's end cut off is written too, as far as it was read.
			if err := e.keepStood(context.WithoutCancel(e.Context()), batch); err != nil {
				e.Log.Warn("keep what watches read", "error", err)
			}
		})
	}
}

// keepTime bounds one commit of what watches read.
const keepTime = 20 * time.Second

func (e *Looker) keepStood(ctx context.Context, batch []result) error {
	ctx, cancel := context.WithTimeout(ctx, keepTime)
	defer cancel()
	var read engine.Readings
	var rows []store.Scheduled
	var cut []string
	for _, s := range batch {
		if read.Join(s.read); s.cut {
			cut = append(cut, s.row.Watch)
		} else {
			rows = append(rows, s.row)
		}
	}
	if err := read.Identify(ctx, e.Store); err != nil {
		return err
	}
	return e.Write(ctx, func(s *engine.Sheet) error {
		if err := store.Add(s.Bulk, read.Rows); err != nil {
			return err
		}
		if len(cut) > 0 {
			if err := s.Tx().ScheduledBack(cut); err != nil {
				return err
			}
		}
		return s.Tx().ScheduledTaken(rows)
	})
}

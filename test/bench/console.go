package main

import (
	"context"
	"fmt"
	"log/slog"
	"path/filepath"
	"slices"
	"strconv"
	"time"

	"urgentis/core/access"
	"urgentis/internal/app"
	"urgentis/internal/service"
	"urgentis/test/browser"
)

// What the console is measured with.
const (
	consoleChanges   = 200
	consoleEntries   = 5000
	consoleIncidents = 300
	consoleGates     = 500
	consolePassword  = "a password of the bench"
	slowed           = 4 // times
)

// console measures the pages in Chromium: how long after a commit a change is seen, how soon a page can be used on a
// slow processor, and how many frames a second long pages scroll with.
func (b *bench) console() error {
	if err := b.clear(); err != nil {
		return err
	}
	i, err := service.Start(b.ctx, service.Config{Database: b.db.URL, DataDir: filepath.Join(b.dir, "console"),
		KeyFile: filepath.Join(b.dir, "seal.key"), // the database may know it already
		Listen:  "127.0.0.1:0", Version: "bench", Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return err
	}
	go i.Serve(b.ctx) //nolint:errcheck // it ends with the bench
	defer i.Stop()    //nolint:errcheck // the data go away
	c := &consoleBench{bench: b, i: i, who: access.OnTheMachine("bench")}
	if _, err := i.App.SetPerson(b.ctx, c.who, "bench", consolePassword, []access.Role{access.Approver}); err != nil {
		return err
	}
	if c.page, err = browser.Open(b.ctx, 1280, 800); err != nil {
		return err
	}
	defer c.page.Close()
	if err := c.page.Before(seesScript); err != nil {
		return err
	}
	if err := c.page.SignIn(i.Link, "bench", consolePassword); err != nil {
		return err
	}
	for _, f := range []func() error{c.live, c.long, c.lists} {
		if err := f(); err != nil {
			return err
		}
	}
	return nil
}

type consoleBench struct {
	*bench
	i    *service.Instance
	who  *access.Principal
	page *browser.Page
}

// seesScript notes when each of the texts "change-N." was first on the page as it was drawn, when a story was, and each
// task that kept the page busy. It runs before the page's own scripts.
const seesScript = `window.seen = {}; window.usable = 0; window.busyUntil = 0;
new PerformanceObserver(l => l.getEntries().forEach(e => {
	window.busyUntil = Math.max(window.busyUntil, e.startTime + e.duration)
})).observe({type: 'longtask', buffered: true});
const leads = 'table.story tbody tr, #approve, table.plain tbody tr, article.card';
addEventListener('DOMContentLoaded', () => new MutationObserver(list => {
	if (!window.usable && document.querySelector(leads)) window.usable = performance.now()
	const text = list.flatMap(m => [...m.addedNodes]).map(n => n.textContent ?? '').join(' ')
	for (const [name] of text.matchAll(/change-\d+\./g)) if (!(name in window.seen)) {
		window.seen[name] = 0
		requestAnimationFrame(() => { window.seen[name] = performance.timeOrigin + performance.now() })
	}
}).observe(document.body, {childList: true, subtree: true, characterData: true}))`

// incident opens an incident by hand.
func (c *consoleBench) incident(title string) (int64, error) {
	n, err := c.i.App.OpenIncident(c.ctx, c.who, app.NewIncident{Title: title, Service: "bench", Severity: "minor"})
	if err != nil {
		return 0, err
	}
	return n.Number, nil
}

func (c *consoleBench) open(path string) error { return c.page.Go(c.i.Link + path) }

// live measures from the commit of a note until it is drawn, quiet, and while another is written each 100 ms.
func (c *consoleBench) live() error {
	n, err := c.incident("a quiet one")
	if err != nil {
		return err
	}
	if err := c.open(fmt.Sprintf("/incidents/%d", n)); err != nil {
		return err
	}
	if err := c.page.Until("window.usable > 0"); err != nil {
		return err
	}
	for _, beside := range []bool{false, true} {
		what := "a change until it is drawn, median, quiet"
		ctx, stop := context.WithCancel(c.ctx)
		if beside {
			what = "the same, with another event each 100 ms"
			go c.chatter(ctx, n)
		}
		took, err := c.changes(n, map[bool]int{true: consoleChanges}[beside])
		stop()
		if err != nil {
			return err
		}
		slices.Sort(took)
		p50, p95 := took[len(took)/2], took[len(took)*95/100]
		c.rows = append(c.rows, figure{what, ms(p50), "200.0 ms", verdict(p50 <= 200*time.Millisecond)},
			figure{"its 95th of 100", ms(p95), "200.0 ms", verdict(p95 <= 200*time.Millisecond)})
	}
	return nil
}

// chatter writes a note each 100 ms.
func (c *consoleBench) chatter(ctx context.Context, n int64) {
	tick := time.NewTicker(100 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			c.i.App.AddNote(ctx, c.who, n, "beside", false) //nolint:errcheck // one more or less
		}
	}
}

// changes writes notes and gives how long after its commit each was drawn.
func (c *consoleBench) changes(incident int64, from int) ([]time.Duration, error) {
	at := map[string]time.Time{}
	for k := from; k < from+consoleChanges; k++ {
		name := fmt.Sprintf("change-%d.", k)
		if _, err := c.i.App.AddNote(c.ctx, c.who, incident, name, false); err != nil {
			return nil, err
		}
		at[name] = time.Now() // it is in the database by now
		time.Sleep(300 * time.Millisecond)
	}
	time.Sleep(3 * time.Second)
	var out []time.Duration
	for name, t := range at {
		text, err := c.page.Text(fmt.Sprintf("String(window.seen[%q] ?? 0)", name))
		if err != nil {
			return nil, err
		}
		seen, err := strconv.ParseFloat(text, 64)
		if err != nil || seen == 0 {
			return nil, fmt.Errorf("%s was never seen", name)
		}
		out = append(out, time.UnixMicro(int64(seen*1000)).Sub(t))
	}
	return out, nil
}

// long measures the page of an incident of 5,000 entries: how soon it can be used, and how its record scrolls.
func (c *consoleBench) long() error {
	n, err := c.incident("a long one")
	if err != nil {
		return err
	}
	if _, err := c.store.Pool.Exec(c.ctx, `insert into entry (incident, seq, at, kind, actor, run, step, title, content,
			digest, prev, hash)
		select $1, s, now() - ($2::bigint - s) * interval '1 second', 'look.taken', 'runbook:pumps', 'r1',
			'1.' || (s % 40), 'Look ' || s, jsonb_build_object('attempt', 'a' || s, 'target', 'pump-' || (s % 12),
				'shown', 'pumpctl read', 'state', 'ok', 'took_ms', 12, 'purpose', 'look', 'readings',
				jsonb_build_object('pressure', jsonb_build_object('value', s % 97, 'unit', 'bar')),
				'output', jsonb_build_object('size', 400, 'head', repeat('x', 400)),
				'stderr', jsonb_build_object('size', 0)),
			md5(s::text), md5(s::text), md5(s::text)
		from generate_series(2, $2::bigint) s`, n, consoleEntries); err != nil {
		return err
	}
	if _, err := c.store.Pool.Exec(c.ctx, `update incident set entries = $2::bigint,
		opened_at = now() - $2::bigint * interval '1 second' where number = $1`, n, consoleEntries); err != nil {
		return err
	}
	path := fmt.Sprintf("/incidents/%d", n)
	if err := c.usable("an incident page of 5,000 entries", path); err != nil {
		return err
	}
	if err := c.page.Click("button.v-tab:nth-of-type(2)"); err != nil {
		return err
	}
	if err := c.page.Until(fmt.Sprintf("document.querySelectorAll('ol.record li.entry').length >= %d",
		consoleEntries-1)); err != nil {
		return err
	}
	return c.scrolls("a record of 5,000 entries")
}

// usable measures how soon a page can be used on a processor that is slowed: what leads is there, and then nothing
// keeps it busy for half a second.
func (c *consoleBench) usable(what, path string) error {
	var took []time.Duration
	for range 5 {
		if err := c.page.Throttle(slowed); err != nil {
			return err
		}
		if err := c.open(path); err != nil {
			return err
		}
		if err := c.page.Until("window.usable > 0 && " +
			"performance.now() > Math.max(window.usable, window.busyUntil) + 500"); err != nil {
			return err
		}
		text, err := c.page.Text("String(Math.max(window.usable, window.busyUntil))")
		if err != nil {
			return err
		}
		at, err := strconv.ParseFloat(text, 64)
		if err != nil {
			return err
		}
		took = append(took, time.Duration(at*float64(time.Millisecond)))
		if err := c.page.Throttle(1); err != nil {
			return err
		}
	}
	slices.Sort(took)
	c.rows = append(c.rows, figure{fmt.Sprintf("%s can be used, processor slowed %d times", what, slowed), ms(took[2]),
		"1000.0 ms", verdict(took[2] <= time.Second)})
	return nil
}

// scrollScript scrolls down and up again for some seconds, by what a wheel turns in a frame.
const scrollScript = `new Promise(done => {
	const end = performance.now() + 6000
	let by = 60
	const step = () => {
		const before = scrollY
		scrollBy(0, by)
		if (scrollY === before) by = -by
		if (performance.now() < end) requestAnimationFrame(step); else done('done')
	}
	step()
})`

func (c *consoleBench) scrolls(what string) error {
	worst, err := c.page.Frames(func() error {
		_, err := c.page.Text(scrollScript)
		return err
	})
	if err != nil {
		return err
	}
	c.rows = append(c.rows, figure{what + " scrolls, frames in its worst second", fmt.Sprint(worst), "50",
		verdict(worst >= 50)})
	return nil
}

const gateBook = `urgentis: runbook/1
name: gated
title: A change that waits
owner: bench
service: bench
steps:
  - change: Turn
    from: here
    run: ["true"]
    undo: none
    loses: nothing
    gate: {ask: team/bench, within: 20h, unanswered: hand_over}
  - close: repaired
    because: turned
`

// lists measures the pages of many open incidents, and of many gates.
func (c *consoleBench) lists() error {
	for k := range consoleIncidents {
		if _, err := c.incident(fmt.Sprintf("Pump %d has no pressure", k)); err != nil {
			return err
		}
	}
	if err := c.usable(fmt.Sprintf("Now with %d open incidents", consoleIncidents), "/"); err != nil {
		return err
	}
	if err := c.scrolls(fmt.Sprintf("Now with %d open incidents", consoleIncidents)); err != nil {
		return err
	}
	if err := c.push(gateBook); err != nil {
		return err
	}
	for range consoleGates {
		if _, err := c.i.App.StartRun(c.ctx, c.who, "gated", map[string]any{}, app.On{}); err != nil {
			return err
		}
	}
	if err := c.open("/"); err != nil {
		return err
	}
	if err := c.page.Until(fmt.Sprintf("document.body.innerText.includes('%d wait')", consoleGates)); err != nil {
		return err
	}
	return c.scrolls(fmt.Sprintf("Now with %d gates", consoleGates))
}

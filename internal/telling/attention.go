package telling

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"urgentis/core/alert"
	"urgentis/core/plain"
	"urgentis/core/route"
	"urgentis/internal/store"
)

const (
	// maxAttended bounds how many incidents are judged in one transaction.
	maxAttended = 100
	// patience is after how many seconds whoever holds an incident is waited for.
	patience = 1.0
)

// attend has core/route judge again, for what is due, whether somebody must be called, and lets calls begin, begin anew
// and end by that. It is the only one who makes calls of incidents.
func (e *Teller) attend(ctx context.Context) error {
	for {
		n, done := 0, 0
		err := e.write(ctx, func(s *sheet) error {
			s.Quietly()
			config, err := s.Config()
			if err != nil {
				return err
			}
			due, err := s.Tx().DueAttention(config, maxAttended)
			if n = len(due); err != nil || n == 0 {
				return err
			}
			done, err = s.judge(due, config)
			return err
		})
		if err != nil && !store.Transient(err) && n > 0 {
			return e.attendEach(ctx)
		}
		if err != nil || n < maxAttended || done == 0 {
			return err
		}
	}
}

// attendEach judges what is due one by one, so that one on which the program fails holds up no other.
func (e *Teller) attendEach(ctx context.Context) error {
	for range maxAttended {
		var at *store.Attention
		var config int64
		err := e.write(ctx, func(s *sheet) (err error) {
			s.Quietly()
			if config, err = s.Config(); err != nil {
				return err
			}
			due, err := s.Tx().DueAttention(config, 1)
			if err != nil || len(due) == 0 {
				return err
			}
			at = &due[0]
			_, err = s.judge(due, config)
			return err
		})
		if at == nil || err != nil && store.Transient(err) {
			return err
		}
		if err == nil {
			continue
		}
		e.Log.Error("judge who must be called", "of", at.Subject, "error", err)
		if err := e.Store.In(ctx).Judged(at.Subject, config, again, false); err != nil {
			return err
		}
	}
	return nil
}

// judge judges what is due, and counts that; what somebody else has in hand comes with the next look.
func (s *sheet) judge(due []store.Attention, config int64) (done int, err error) {
	was := map[string]store.Attention{}
	var free, overdue []int64
	for _, d := range due {
		was[d.Subject] = d
		switch n := store.NumberOf(d.Subject); {
		case n == 0:
		case d.Overdue > patience:
			overdue = append(overdue, n)
		default:
			free = append(free, n)
		}
	}
	incidents, err := s.Tx().LockOpen(free, overdue)
	if err != nil {
		return 0, fmt.Errorf("lock what somebody may be called for: %w", err)
	}
	for i := range incidents {
		inc := &incidents[i]
		judged, err := s.judgeOne(store.OfIncident(inc.Number), inc, was[store.OfIncident(inc.Number)], config)
		if err != nil {
			return 0, err
		}
		done += judged
	}
	for _, d := range due {
		if store.NumberOf(d.Subject) == 0 {
			judged, err := s.judgeOne(d.Subject, nil, d, config)
			if err != nil {
				return 0, err
			}
			done += judged
		}
	}
	return done, nil
}

// judgeOne judges one subject, unless somebody has a call of it in hand, and counts it; inc is nil for a run that
// belongs to no incident.
func (s *sheet) judgeOne(subject string, inc *store.Incident, was store.Attention, config int64) (int, error) {
	w, err := s.World()
	if err != nil {
		return 0, err
	}
	calls, all, err := s.Tx().CallsOf(subject)
	if err != nil || !all {
		return 0, err
	}
	m, worst, err := s.matter(inc, calls)
	if err != nil {
		return 0, err
	}
	now := s.e.Now()
	a := route.Attention(m, w.World, now)
	j := &judging{sheet: s, subject: subject, inc: inc, now: now, holder: m.Holder, answer: a, worst: worst,
		again: was.Config != config}
	left := 0
	for i := range calls {
		if err := j.settle(&calls[i]); err != nil {
			return 0, err
		}
		if calls[i].State != store.NoticeOver {
			left++
		}
	}
	if err := j.own(calls); err != nil {
		return 0, err
	}
	wait := time.Duration(0)
	if !a.LookAt.IsZero() {
		wait = max(time.Millisecond, a.LookAt.Sub(now))
	}
	return 1, s.Tx().Judged(subject, config, wait, !m.Open && left == 0)
}

// matter is what core/route judges, and the worst alert that is open in it.
func (s *sheet) matter(inc *store.Incident, calls []store.Called) (*route.Matter, *store.Alert, error) {
	m := &route.Matter{Open: true}
	for _, c := range calls {
		if own(&c) || !c.Wanted {
			continue
		}
		m.Wants = append(m.Wants, route.Want{Thing: thingOf(&c), Kind: c.Kind, Since: *c.Since})
	}
	if inc == nil {
		m.Open = len(m.Wants) > 0
		return m, nil, nil
	}
	m.Open, m.Holder = inc.State == "open", inc.Holder
	if inc.HeldAt != nil {
		m.TakenAt = *inc.HeldAt
	}
	if inc.SeverityBy != "" && inc.SeverityAt != nil {
		m.SetSeverity, m.SetAt = inc.Severity, *inc.SeverityAt
	}
	if !m.Open {
		return m, nil, nil
	}
	if err := s.About(&m.About, inc); err != nil {
		return nil, nil, err
	}
	worst, err := s.Tx().WorstAlert(inc.Number)
	if err != nil {
		return nil, nil, err
	}
	if worst != nil {
		m.About.Labels = worst.Labels
	}
	if m.Items, err = s.Tx().Items(inc.Number); err != nil {
		return nil, nil, err
	}
	if inc.WantedAt != nil && worst == nil {
		works, err := s.Tx().WorksOn(inc.Number)
		if err != nil {
			return nil, nil, err
		}
		m.Items = append(m.Items, route.Item{Severity: inc.Severity, Since: *inc.WantedAt, Works: works})
	}
	return m, worst, nil
}

// own reports whether a call is for an incident as a whole.
func own(c *store.Called) bool { return store.NumberOf(c.Thing) != 0 }

// thingOf is what a call is about: what it names, or itself.
func thingOf(c *store.Called) string { return cmp.Or(c.Thing, fmt.Sprintf("notice/%d", c.ID)) }

// judging is one judgement, as it is carried out.
type judging struct {
	*sheet
	subject string
	inc     *store.Incident // nil for none
	now     time.Time
	holder  string
	answer  route.Answer
	worst   *store.Alert
	again   bool // the configuration is another one than it was
}

// settle lets a call that is there go on, begin anew or end.
func (j *judging) settle(c *store.Called) error {
	if own(c) {
		return nil
	}
	wanted := slices.ContainsFunc(j.answer.Calls, func(x route.Call) bool { return x.Thing == thingOf(c) })
	switch {
	case !c.Wanted:
		return j.end(c, store.NoticeOver)
	case !wanted:
		return j.end(c, store.NoticeTaken)
	case c.State == store.NoticeTaken:
		return j.anew(c)
	}
	return j.retry(c)
}

// own lets the call for the incident as a whole begin, go on, begin anew or end.
func (j *judging) own(calls []store.Called) error {
	var row *store.Called
	for i := range calls {
		if own(&calls[i]) && calls[i].State != store.NoticeOver {
			row = &calls[i]
		}
	}
	at := slices.IndexFunc(j.answer.Calls, func(x route.Call) bool { return x.Thing == "" })
	switch {
	case at < 0 && row == nil:
		return nil
	case at < 0 && j.holder != "" && j.inc.State == "open" && j.answer.Nobody == j.holder+" has it":
		return j.end(row, store.NoticeTaken)
	case at < 0:
		return j.end(row, store.NoticeOver)
	}
	call := j.answer.Calls[at]
	text := j.text(call)
	switch {
	case row == nil:
		return j.Tx().AddCall(&store.Notice{
			Key: fmt.Sprintf("call:%d:%s", j.inc.Number, store.NewID("c")), Kind: call.Kind, Urgent: true, Text: text,
			Thing: j.subject, Subject: j.subject, Incident: &j.inc.Number, At: j.now, Since: &j.now,
			Worth: alert.Worth(call.Severity), State: store.NoticeOpen, LookAt: &j.now,
			Link: fmt.Sprintf("%s/incidents/%d", j.e.Link, j.inc.Number),
		})
	case row.State == store.NoticeTaken, alert.Worth(call.Severity) > row.Worth:
		row.Kind, row.Text, row.Worth = call.Kind, text, alert.Worth(call.Severity)
		return j.anew(row)
	}
	return j.retry(row)
}

// text says what somebody is called for.
func (j *judging) text(c route.Call) string {
	title := j.inc.Title
	if j.worst != nil && j.inc.TitleBy == "" {
		title = j.worst.Summary
	}
	if c.Kind == route.NobodyStarted {
		return fmt.Sprintf("No runbook works on incident %d (%s); a person is needed: %s", j.inc.Number, c.Severity,
			title)
	}
	return fmt.Sprintf("Incident %d (%s) is still open after %s: %s", j.inc.Number, c.Severity,
		plain.Span(j.now.Sub(c.Since).Round(time.Second)), title)
}

// end lets a call end: it is over, or who holds the incident has it.
func (j *judging) end(c *store.Called, state string) error {
	if c.State == state {
		return nil
	}
	if c.State = state; state == store.NoticeTaken {
		c.TakenBy, c.TakenAt = j.holder, &j.now
	}
	return j.Tx().SetNotice(&c.Notice, -1)
}

// anew lets a call begin at its first rung, for all.
func (j *judging) anew(c *store.Called) error {
	c.State, c.Rung, c.RungSince, c.Missed, c.TakenBy, c.TakenAt = store.NoticeOpen, 0, nil, "", "", nil
	c.Since = &j.now
	return j.Tx().SetCall(&c.Notice, 0)
}

// retry looks again at a call that reached nobody, where others can be reached by now.
func (j *judging) retry(c *store.Called) error {
	if !j.again || c.State != store.NoticeDone || c.Missed == "" {
		return nil
	}
	c.State = store.NoticeOpen
	return j.Tx().SetNotice(&c.Notice, 0)
}

package engine

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"urgentis/core/flow"
	"urgentis/core/incident"
	"urgentis/core/route"
	"urgentis/core/runbook"
	"urgentis/core/tell"
	"urgentis/internal/meter"
	"urgentis/internal/store"
)

// project writes what follows from events in the transaction that appends them: the record, gates and
// questions as they are listed, messages, the run's head, the feed. s is the log with events at its end.
func (sheet *Sheet) project(run *store.Run, book *runbook.Book, s *flow.State, events []flow.Event) error {
	p := &projection{
		story: &story{run: run, book: book, s: s, named: sheet.e.namer(sheet.tx)},
		e:     sheet.e,
		tx:    sheet.tx,
		sheet: sheet,
	}
	if run.Incident == nil && strings.HasPrefix(run.StartedBy, "trigger:") && slices.ContainsFunc(events, wantsPeople) {
		if err := p.open(); err != nil {
			return fmt.Errorf("open an incident for what the run found: %w", err)
		}
	}
	for _, ev := range events {
		if t, ok := ev.Body.(flow.Told); ok && t.Source != "" {
			var err error
			if p.deaf, err = deaf(sheet.tx, s); err != nil {
				return err
			}
		}
		p.event(ev)
		if err := p.rows(ev); err != nil {
			return err
		}
	}
	if s.Ended != nil && slices.ContainsFunc(events, ends) {
		sheet.ended = append(sheet.ended, run.ID)
		if err := p.went(s); err != nil {
			return err
		}
	}
	return p.finish(s)
}

// ends reports whether a run ends with an event.
func ends(e flow.Event) bool {
	_, over := e.Body.(flow.Ended)
	return over
}

// wantsPeople reports whether people must look at a run from this event on.
func wantsPeople(ev flow.Event) bool {
	switch b := ev.Body.(type) {
	case flow.GateRaised, flow.QuestionRaised:
		return true
	case flow.Ended:
		return b.Outcome == "" && b.State != flow.Done && b.State != flow.Cancelled
	}
	return false
}

// decides reports whether with an event people are asked for something no more.
func decides(ev flow.Event) bool {
	switch b := ev.Body.(type) {
	case flow.GateDecided, flow.GateExpired, flow.QuestionAnswered, flow.QuestionExpired:
		return true
	case flow.Ended:
		return b.State != flow.Done
	}
	return false
}

// real reports whether an event shows that the trouble is no false alarm, or that people must look at it: from then on
// they are told that it began.
func real(ev flow.Event) bool {
	if b, ok := ev.Body.(flow.Judged); ok {
		return b.Final && b.Result == flow.Passes
	}
	return wantsPeople(ev)
}

// open opens an incident for a run that began by itself without one, such as by a schedule, once it needs people. What
// it did until then is its first part.
func (p *projection) open() error {
	log, err := p.tx.Log(p.run.ID, 0)
	if err != nil {
		return err
	}
	var past []store.NewEntry
	if len(log) > 0 {
		if past, err = p.e.Story(p.tx.Context(), p.run, log); err != nil {
			return err
		}
	}
	now := p.e.Now()
	i := &store.Incident{
		Title: p.book.Title, State: "open", WaitingOn: "nobody", Severity: "warning", Service: p.book.Service,
		OpenedAt: now,
	}
	if err := p.sheet.Open(i); err != nil {
		return err
	}
	p.run.Incident = &i.Number
	p.tx.After(func(committed bool) {
		if !committed {
			p.run.Incident = nil
		}
	})
	if err := p.tx.SetIncident(p.run.ID, i.Number); err != nil {
		return err
	}
	p.changed("incident", fmt.Sprint(i.Number))
	return p.sheet.Write(i, append([]store.NewEntry{{At: now, Kind: incident.Opened, Actor: p.run.StartedBy,
		Title: "A run that began by itself needs people", Content: incident.HeadContent{Run: p.run.ID}}}, past...)...)
}

// projection is a story that is written down, with the rows that follow from it.
type projection struct {
	*story
	e       *Engine
	tx      *store.Tx
	sheet   *Sheet
	words   []word // for the alert's source
	closing *Closing
	over    bool // the run ends here
	settles bool // what people were asked for is decided
	release bool // what is held back about the incident may be told now
	at      time.Time
}

// word is what an alert's source is told, once per key.
type word struct{ once, do string }

// rows writes what one event alters besides the record: gates and questions as they are listed, and the audit log.
func (p *projection) rows(ev flow.Event) error {
	p.at = ev.At
	if id, is := p.s.SettledQuestion(attemptOf(ev.Body)); is {
		if err := p.tx.CloseQuestion(id, "settled"); err != nil {
			return err
		}
	}
	p.settles = p.settles || decides(ev)
	p.release = p.release || p.run.Incident != nil && real(ev)
	switch b := ev.Body.(type) {
	case flow.CancelAsked:
		return p.tx.Audit(b.By, "run.cancel", p.run.ID, b.Because)
	case flow.GateRaised:
		return p.gateRow(ev, b)
	case flow.GateDecided:
		return p.decision(b)
	case flow.GateExpired:
		if b.Because != "" {
			return p.tx.CloseGate(b.Gate, "withdrawn", "", "")
		}
		p.waited(b.Gate, "unanswered")
		return p.tx.CloseGate(b.Gate, "expired", "", "")
	case flow.QuestionRaised:
		return p.questionRow(ev, b)
	case flow.QuestionAnswered:
		if b.By != flow.Itself {
			if err := p.tx.Audit(b.By, "question.answer", b.Question, b.Choice); err != nil {
				return err
			}
		}
		return p.tx.CloseQuestion(b.Question, "answered")
	case flow.QuestionExpired:
		if b.Because != "" {
			return p.tx.CloseQuestion(b.Question, "withdrawn")
		}
		return p.tx.CloseQuestion(b.Question, "expired")
	case flow.Told:
		if b.Source != "" {
			p.words = append(p.words, word{fmt.Sprintf("%s:%d:source", p.run.ID, ev.Seq), b.Source})
		}
	case flow.Ended:
		p.counted(func() { meter.Runs.WithLabelValues(b.State).Inc() })
		if p.over = true; b.Outcome != "" {
			p.closing = &Closing{Outcome: b.Outcome, Because: b.Because, By: p.actor(), Run: p.run.ID, At: p.at}
		}
		p.leave(b)
		if p.s.Raised() {
			return p.tx.Withdraw(p.run.ID)
		}
	}
	return nil
}

// counted counts something once it is on disk.
func (p *projection) counted(count func()) {
	p.tx.After(func(committed bool) {
		if committed {
			count()
		}
	})
}

func (p *projection) gateRow(ev flow.Event, b flow.GateRaised) error {
	raised, err := json.Marshal(b)
	if err != nil {
		return err
	}
	p.changed("gate", b.Gate)
	lookAt := ev.At.Add(GateLookEvery(0))
	return p.tx.AddGate(&store.Gate{
		ID: b.Gate, Run: p.run.ID, Incident: p.run.Incident, Path: ev.Place.String(), Title: p.gateTitle(ev.Place, b),
		State:    "open",
		RaisedAt: ev.At, Until: b.Until, Raised: raised, LookAt: &lookAt,
	})
}

// waited counts how long a gate waited for what became of it.
func (p *projection) waited(gate, became string) {
	if row, err := p.tx.Gate(gate); err == nil {
		waited := p.at.Sub(row.RaisedAt)
		p.counted(func() { meter.GateSeconds.WithLabelValues(became).Observe(waited.Seconds()) })
	}
}

func (p *projection) decision(b flow.GateDecided) error {
	state, act := "refused", "gate.refuse"
	if b.Approved {
		state, act = "approved", "gate.approve"
	}
	if err := p.tx.Audit(b.By, act, b.Gate, b.Comment); err != nil {
		return err
	}
	p.changed("gate", b.Gate)
	if g, _, _ := p.s.OpenGate(b.Gate); g != nil {
		return nil // it wants another person as well
	}
	p.waited(b.Gate, state)
	return p.tx.CloseGate(b.Gate, state, b.By, b.Comment)
}

func (p *projection) questionRow(ev flow.Event, b flow.QuestionRaised) error {
	if b.Text == "" {
		b.Text = p.title(ev.Place)
	}
	raised, err := json.Marshal(b)
	if err != nil {
		return err
	}
	p.changed("question", b.Question)
	return p.tx.AddQuestion(&store.Question{
		ID: b.Question, Run: p.run.ID, Incident: p.run.Incident, Path: ev.Place.String(),
		Title: p.title(ev.Place), State: "open",
		RaisedAt: ev.At, Until: b.Until, Raised: raised,
	})
}

// changed enters into the feed that something of this run is new.
func (p *projection) changed(topic, ref string) {
	p.sheet.Changed(store.Feed{Topic: topic, Ref: ref, Incident: p.run.Incident, Service: p.book.Service})
}

// headOf is what the run's own row tells of a log, whose last event is at a time.
func headOf(s *flow.State, at time.Time) store.Head {
	h := store.Head{State: flow.Running, WaitsOn: s.WaitsOn(), Awaits: s.Awaited().Holder}
	if h.WaitsOn != "" {
		h.State = flow.Waiting
	}
	if s.Ended != nil {
		h.State, h.Because, h.EndedAt = s.Ended.State, s.Ended.Because, &at
	}
	return h
}

// finish writes entries into the incident, closes it where the run says so, and sends messages off.
func (p *projection) finish(s *flow.State) error {
	p.changed("run", p.run.ID)
	if p.run.Incident == nil && p.settles {
		p.sheet.Due(store.OfRun(p.run.ID))
	}
	link := p.e.Link + "/runs/" + p.run.ID
	// Alerts are locked before their incident, and their sources hear what the run said itself before anything else.
	if err := p.tellSource(s); err != nil {
		return err
	}
	if err := p.treated(); err != nil {
		return err
	}
	if p.run.Incident != nil {
		link = fmt.Sprintf("%s/incidents/%d", p.e.Link, *p.run.Incident)
		if err := p.writeRecord(s); err != nil {
			return err
		}
	}
	for _, n := range p.notices {
		n.Incident, n.Run, n.Link = p.run.Incident, p.run.ID, link
		if err := p.sheet.Notify(n); err != nil {
			return err
		}
	}
	if p.release {
		if err := p.sheet.TellNow(*p.run.Incident); err != nil {
			return fmt.Errorf("let people be told: %w", err)
		}
	}
	return nil
}

// treated notes how what the run was begun for ended, where it says so, and tells the sources of those alerts for which
// it was enough.
func (p *projection) treated() error {
	if p.closing == nil {
		return nil
	}
	alerts, err := p.tx.Treated(p.run.ID, p.closing.Outcome, p.closing.Because)
	if err != nil {
		return err
	}
	t := &tellingBack{s: p.sheet}
	if p.run.Incident != nil {
		t.incident = *p.run.Incident
	}
	worth, err := p.worths()
	if err != nil {
		return err
	}
	for n := range alerts {
		a := &alerts[n]
		if !enough(a, worth[a.ID]) {
			continue
		}
		if n >= mostToldBack {
			t.more++
			continue
		}
		if err := t.over(a, p.closing.Outcome); err != nil {
			return err
		}
	}
	t.into(&p.closing.Content)
	return nil
}

// worths are how bad the alerts were that the run was begun for.
func (p *projection) worths() (map[string]int, error) {
	rows, err := p.tx.TreatedBy(p.run.ID)
	out := make(map[string]int, len(rows))
	for _, r := range rows {
		out[r.Alert] = r.Worth
	}
	return out, err
}

// went keeps how the changes of a run that is over went.
func (p *projection) went(s *flow.State) error {
	var rows []store.Went
	for _, w := range tell.Went(s) {
		rows = append(rows, store.Went{
			Run: p.run.ID, Step: w.Step, Title: w.Title, Runbook: w.Runbook, Service: p.book.Service,
			Incident: p.run.Incident, At: p.at, Fate: string(w.Fate), Targets: w.Targets,
		})
	}
	if err := store.Add(p.sheet.Bulk, rows); err != nil {
		return fmt.Errorf("keep how changes went: %w", err)
	}
	return nil
}

func (p *projection) writeRecord(s *flow.State) error {
	i, err := p.sheet.Incident(*p.run.Incident)
	if err != nil {
		return fmt.Errorf("read the incident: %w", err)
	}
	if p.over {
		p.sheet.mayEnd(i, p.closing)
	}
	if i.State == "open" {
		switch {
		case p.run.StartedBy == FirstLook && i.WaitingOn == "person":
			// It was begun beside a person who is needed, and helps nobody by itself.
		case s.Ended != nil:
			// It ended without closing: a person looks at it, who first answers what is open.
			if i.WaitingOn, err = p.othersWait(i); i.WaitingOn == "nobody" {
				i.WaitingOn = "person"
			}
			if err != nil {
				return err
			}
		case s.WaitsOn() == "approval" || s.WaitsOn() == "answer":
			i.WaitingOn = s.WaitsOn()
		default:
			if i.WaitingOn, err = p.othersWait(i); err != nil {
				return err
			}
		}
	}
	if _, err := p.sheet.Entitle(i, p.run.ID, flow.TitleOf(s, p.e.Now(), nil)); err != nil {
		return fmt.Errorf("name the incident: %w", err)
	}
	p.changed("incident", fmt.Sprint(i.Number))
	return p.sheet.Write(i, p.entries...)
}

// othersWait is who the incident waits on where this run waits on nobody: what waits for a person in another run still
// does.
func (p *projection) othersWait(i *store.Incident) (string, error) {
	if i.WaitingOn == "nobody" || i.WaitingOn == "" {
		return "nobody", nil
	}
	open, err := p.tx.OthersWaiting(p.run)
	switch {
	case err != nil:
		return "", fmt.Errorf("read who is waited for: %w", err)
	case open.Gates > 0:
		return "approval", nil
	case open.Questions > 0:
		return "answer", nil
	case open.Over > 0 && i.WaitingOn == "person":
		return "person", nil
	}
	return "nobody", nil
}

func (p *projection) tellSource(s *flow.State) error {
	if len(p.words) == 0 || s.Begun.Alert == nil {
		return nil
	}
	src, err := calledBack(p.tx, s)
	if err != nil || src == nil {
		return err
	}
	id, _ := s.Begun.Alert["id"].(string)
	key, _ := s.Begun.Alert["key"].(string)
	number := int64(0)
	if p.run.Incident != nil {
		number = *p.run.Incident
	}
	for _, w := range p.words {
		if err := p.sheet.tellBack(src.Name, id, key, w.do, number, w.once); err != nil {
			return err
		}
	}
	return nil
}

// tellStopped writes down and tells that a run stands still or is over, and a person is needed.
func (s *Sheet) tellStopped(run *store.Run, kind incident.Kind, title, because string) error {
	link := s.e.Link + "/runs/" + run.ID
	if run.Incident != nil {
		link = fmt.Sprintf("%s/incidents/%d", s.e.Link, *run.Incident)
	}
	err := s.enter(run, func(i *store.Incident) { i.WaitingOn = "person" }, store.NewEntry{
		Kind: kind, Actor: "urgentis", Title: title, Content: incident.RunContent{Because: because},
	})
	if err != nil {
		return err
	}
	return s.Notify(Notice{
		Kind: route.RunStopped, Key: store.NewID(run.ID + ":"), Text: "Runbook " + run.Runbook + ": " + because,
		Thing: "stopped/" + run.ID, Incident: run.Incident, Run: run.ID, Link: link,
	})
}

// tellDecided writes down what a person decided about a run that nobody drives.
func (s *Sheet) tellDecided(run *store.Run, kind incident.Kind, by, title, because string) error {
	return s.enter(run, func(*store.Incident) {}, store.NewEntry{
		Kind: kind, Actor: by, Title: title, Content: incident.RunContent{Because: because},
	})
}

// enter writes an entry about a run into the record of its incident, if it has one.
func (s *Sheet) enter(run *store.Run, alter func(*store.Incident), entry store.NewEntry) error {
	s.Changed(store.Feed{Topic: "run", Ref: run.ID, Incident: run.Incident, Service: run.Service})
	if run.Incident == nil {
		return nil
	}
	i, err := s.Incident(*run.Incident)
	if err != nil {
		return err
	}
	if i.State == "open" {
		alter(i)
	}
	entry.At, entry.Run = s.e.Now(), run.ID
	if err := s.RecordWriter.Write(i, entry); err != nil {
		return err
	}
	s.Changed(store.Feed{Topic: "incident", Ref: fmt.Sprint(i.Number), Incident: run.Incident, Service: i.Service})
	return nil
}

// closeOpen takes back what a run that is over still has open, and, once nothing of it is under way, its locks.
func (s *Sheet) closeOpen(run string) error {
	if err := s.tx.Withdraw(run); err != nil {
		return err
	}
	if err := s.tx.SetTimer(run, nil); err != nil {
		return err
	}
	return s.tx.ReleaseWhenLanded(run)
}

// GateLookEvery is how long it is until the readings of a gate are taken anew, after so many times: often at first,
// then rarer. 0: no more.
func GateLookEvery(looks int) time.Duration {
	switch {
	case looks < 10:
		return 3 * time.Second
	case looks < 25:
		return 10 * time.Second
	case looks < 60:
		return 30 * time.Second
	case looks < 180:
		return time.Minute
	}
	return 0
}

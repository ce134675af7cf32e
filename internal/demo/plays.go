package demo

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"urgentis/api"
	"urgentis/core/access"
	"urgentis/core/incident"
	"urgentis/core/source"
)

// Play is a scene at the Merrow Line, played from its beginning to its end without people. It fails where it does not
// show what it is there to show.
type Play struct {
	Name, Says string
	// Run plays it, and gives the number of its incident.
	Run func(ctx context.Context, w *World, say func(string)) (int64, error)
}

// Plays lists the scenes.
var Plays = []Play{
	{"repaired", "the berth queue breaks, a change is approved and proves itself", played((*playing).repaired)},
	{"false-alarm", "an alert turns out to be false: nobody is disturbed", played((*playing).falseAlarm)},
	{"by-day", "trouble by day: the room, a ticket, and its echo", played((*playing).byDay)},
	{"by-night", "the same by night: it escalates to the second on call, who approves from a message",
		played((*playing).byNight)},
	{"storm", "5,000 reports of one outage: one incident, three messages", played((*playing).storm)},
	{"two-troubles", "two troubles of one service: the runbook of one does not close the other",
		played((*playing).twoTroubles)},
	{"worse-at-night", "a warning becomes critical at night: it calls, and escalates", played((*playing).worseAtNight)},
	{"held", "a call is delayed while a runbook works, and made when that takes too long", played((*playing).held)},
}

// PlayNames lists the names of the scenes.
func PlayNames() []string {
	out := make([]string, len(Plays))
	for i, p := range Plays {
		out[i] = p.Name
	}
	return out
}

// playing is a scene under way.
type playing struct {
	*World
	ctx  context.Context
	tell func(string)
}

func played(scene func(*playing) (int64, error)) func(context.Context, *World, func(string)) (int64, error) {
	return func(ctx context.Context, w *World, say func(string)) (int64, error) {
		return scene(&playing{World: w, ctx: ctx, tell: say})
	}
}

func (p *playing) say(format string, args ...any) { p.tell(fmt.Sprintf(format, args...)) }

// until waits for something.
func (p *playing) until(what string, is func() (bool, error)) error {
	for {
		ok, err := is()
		if ok && err == nil {
			return nil
		}
		select {
		case <-p.ctx.Done():
			return errors.Join(fmt.Errorf("wait until %s: %w", what, p.ctx.Err()), err)
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// incident waits until an incident is as it should be.
func (p *playing) incident(n int64, what string, is func(*api.IncidentDetail) bool) (*api.IncidentDetail, error) {
	var d *api.IncidentDetail
	err := p.until(what, func() (bool, error) {
		r, err := p.Admin.GetIncidentWithResponse(p.ctx, n, nil)
		if err != nil {
			return false, err
		}
		d = r.JSON200
		return d != nil && is(d), nil
	})
	return d, err
}

func closed(d *api.IncidentDetail) bool { return d.Incident.State == "closed" }

// closed waits until an incident is closed, as it should be.
func (p *playing) closed(n int64, outcome string) error {
	d, err := p.incident(n, "it is closed", closed)
	if err == nil && d.Incident.Outcome != outcome {
		err = fmt.Errorf("incident %d was closed as %s, not as %s", n, d.Incident.Outcome, outcome)
	}
	return err
}

// push writes documents of this scene.
func (p *playing) push(text string) error {
	status, body, err := said(p.Admin.PushWithResponse(p.ctx, api.NewPush{Origin: "this play",
		Files: []api.PushFile{{Name: "play.yaml", Text: strings.ReplaceAll(text, writtenNet+".", p.Fleet.Net+".")}}}))
	if err == nil && status >= 300 {
		err = fmt.Errorf("write the documents of this play: %s", body)
	}
	return err
}

// clock makes it day or night at the quay, whatever the time is.
func (p *playing) clock(day bool) error {
	hours, says := "closed", "night"
	if day {
		hours, says = `"00:00-24:00"`, "day"
	}
	var days []string
	for i := -1; i <= 1; i++ {
		days = append(days, time.Now().AddDate(0, 0, i).Format(time.DateOnly)+": "+hours)
	}
	p.say("for this play it is %s at the quay", says)
	return p.push("urgentis: calendar/1\nname: quayside-staffed\nzone: Europe/Lisbon\nweekly: [mon-fri 06:00-22:00]\n" +
		"days: {" + strings.Join(days, ", ") + "}\n")
}

// breakQueue breaks the berth queue, and gives the number of the incident that follows.
func (p *playing) breakQueue() (int64, error) {
	p.say("the berth queue breaks at message %s; the monitor will notice", p.Fleet.Queue.Break())
	var n int64
	return n, p.until("there is an incident", func() (bool, error) {
		r, err := p.Admin.ListIncidentsWithResponse(p.ctx, &api.ListIncidentsParams{Service: "berth-queue"})
		if err != nil || r.JSON200 == nil || len(r.JSON200.Items) == 0 {
			return false, err
		}
		n = r.JSON200.Items[0].Number
		return true, nil
	})
}

func (p *playing) repaired() (int64, error) {
	mara, err := p.As(p.ctx, "mara-by-script", access.Approver)
	if err != nil {
		return 0, err
	}
	n, err := p.breakQueue()
	if err != nil {
		return 0, err
	}
	g, err := p.Approve(p.ctx, mara, "Both consumers stand at the same message.")
	if err != nil {
		return n, fmt.Errorf("wait for the gate: %w", err)
	}
	p.say("approved: %s on %s; waiting for the proof", g.Requests[0].Shown, g.Requests[0].Target)
	if err := p.closed(n, "repaired"); err != nil {
		return n, err
	}
	if changes := len(p.Fleet.Queue.Changes()); changes != 1 {
		return n, fmt.Errorf("the hosts carried %d changes out, not one", changes)
	}
	return n, nil
}

// report lets the monitor say something that may not be so.
func (p *playing) report(key, signal, severity, summary string) error {
	_, err := p.App.TakeSample(p.ctx, access.OnTheMachine("play"), "harbour-watch", source.Payload{
		ContentType: "application/json", Body: fmt.Appendf(nil, `{"key": %q, "severity": %q, "service": "berth-queue",
			"summary": %q, "labels": {"signal": %q, "queue": "quay-north"}}`, key, severity, summary, signal)})
	return err
}

func (p *playing) falseAlarm() (int64, error) {
	before := p.heard()
	p.say("the monitor reports a deep queue, which is not deep")
	if err := p.report("quay-north/elsewhere", "queue_depth", "major", "deep, they say"); err != nil {
		return 0, err
	}
	if err := p.closed(1, "false-alarm"); err != nil {
		return 1, err
	}
	if n := p.heard() - before; n != 0 || len(p.Desk.Tickets()) != 0 {
		return 1, fmt.Errorf("%d messages were sent, and %d tickets opened, about a false alarm", n,
			len(p.Desk.Tickets()))
	}
	p.say("closed as a false alarm: no message was sent, and no ticket opened")
	return 1, nil
}

// heard is how many messages rooms and people got.
func (p *playing) heard() int {
	return len(p.Room.Messages()) + len(p.Mail.Caught()) + len(p.Texts.Caught())
}

// kindsOf are the kinds of an incident's entries.
func kindsOf(d *api.IncidentDetail) []string {
	out := make([]string, len(d.Entries))
	for i, e := range d.Entries {
		out[i] = e.Kind
	}
	return out
}

func (p *playing) byDay() (int64, error) {
	if err := p.clock(true); err != nil {
		return 0, err
	}
	n, err := p.breakQueue()
	if err != nil {
		return n, err
	}
	var asked RoomMessage
	if err := p.until("the room is asked", func() (bool, error) {
		for _, m := range p.Room.Messages() {
			if m.Digest != "" {
				asked = m
			}
		}
		return asked.Digest != "" && len(p.Desk.Tickets()) == 1, nil
	}); err != nil {
		return n, err
	}
	ticket := p.Desk.Tickets()[0].Number
	p.say("the room is asked, and the harbour's desk has ticket %s", ticket)
	p.Desk.Note(ticket, "otto", "The pilot asks how long.", false, "")
	d, err := p.incident(n, "what was written at the desk is in the record", func(d *api.IncidentDetail) bool {
		return slices.Contains(kindsOf(d), "ticket.news")
	})
	if err != nil {
		return n, err
	}
	p.say("otto writes at the desk, and it stands in the record of incident %d", d.Incident.Number)
	answer, err := p.Room.Press("@mara", "approve", asked.Refers, asked.Digest)
	if err != nil {
		return n, err
	}
	p.say("mara presses Approve in the room: %s", strings.TrimSpace(answer))
	if err := p.closed(n, "repaired"); err != nil {
		return n, err
	}
	return n, p.ticketClosed(ticket)
}

// ticketClosed waits for a ticket's end, and that nothing of what came back of it went round.
func (p *playing) ticketClosed(number string) error {
	if err := p.until("the ticket is closed", func() (bool, error) {
		return p.Desk.Tickets()[0].State == "closed", nil
	}); err != nil {
		return err
	}
	t := p.Desk.Tickets()[0]
	said := 0
	for _, x := range t.Notes {
		if strings.Contains(x.Text, "The pilot asks") {
			said++
		}
	}
	r, err := p.Admin.ListIncidentsWithResponse(p.ctx, &api.ListIncidentsParams{})
	if err != nil {
		return err
	}
	if said != 1 || len(r.JSON200.Items) != 1 || len(p.Desk.Tickets()) != 1 {
		return fmt.Errorf("the desk's echo went round: said %d times, %d incidents, %d tickets", said,
			len(r.JSON200.Items), len(p.Desk.Tickets()))
	}
	p.say("ticket %s is closed with %d notes; its echo made no second incident, and nothing was said twice", number,
		len(t.Notes))
	return nil
}

func (p *playing) byNight() (int64, error) {
	if err := p.clock(false); err != nil {
		return 0, err
	}
	if err := p.push(`urgentis: route/1
name: quayside-at-night
when: notice.owner == "quayside"
hours: {outside: quayside-staffed}
tell: [on-call/quayside]
escalate_after: 10s
`); err != nil {
		return 0, err
	}
	if err := p.onCall(); err != nil {
		return 0, err
	}
	n, err := p.breakQueue()
	if err != nil {
		return n, err
	}
	key, err := p.escalates(len(p.Texts.To(marasPhone)))
	if err != nil {
		return n, err
	}
	p.say("iva is called by mail, and opens the link of it")
	if err := p.byLink(key); err != nil {
		return n, err
	}
	if _, err := p.incident(n, "it stays open, as iva has it", keptOpen); err != nil {
		return n, err
	}
	if err := p.close(n, "repaired", "The queue drains; I looked at it until it was empty."); err != nil {
		return n, err
	}
	if err := p.closed(n, "repaired"); err != nil {
		return n, err
	}
	d, err := p.incident(n, "", closed)
	if err == nil && (d.Incident.Holder != "iva" || len(p.Room.Messages()) > 1) {
		err = fmt.Errorf("it is held by %q, and the room got %d messages by night", d.Incident.Holder,
			len(p.Room.Messages()))
	}
	return n, err
}

const marasPhone = "+351 900 000 001"

// onCall has mara on call, and iva as the second.
func (p *playing) onCall() error {
	now := time.Now()
	for line, who := range map[int]string{1: "mara", 2: "iva"} {
		status, body, err := said(p.Admin.AddStandInWithResponse(p.ctx, "quayside", api.NewStandIn{Line: line,
			Person: who, From: now.Add(-time.Minute), Until: now.Add(time.Hour), Why: "for this play"}))
		if err != nil || status >= 300 {
			return fmt.Errorf("enter who is on call: %s %w", body, err)
		}
	}
	p.say("mara is on call, iva is the second; each has ten seconds before the next is called")
	return nil
}

// escalates waits until mara is called, who had so many texts before, and after her iva, and gives the key of her link.
func (p *playing) escalates(texts int) (key string, err error) {
	if err := p.until("mara is called", func() (bool, error) {
		return len(p.Texts.To(marasPhone)) > texts, nil
	}); err != nil {
		return "", err
	}
	p.say("mara's phone rings, and she does not hear it")
	return key, p.until("iva is called", func() (bool, error) {
		for _, m := range p.Mail.To("iva@merrow.example") {
			for _, l := range m.Links() {
				if _, k, ok := strings.Cut(l, "/a#"); ok {
					key = k
				}
			}
		}
		return key != "", nil
	})
}

// close closes an incident by hand.
func (p *playing) close(n int64, outcome, because string) error {
	status, body, err := said(p.Admin.CloseIncidentWithResponse(p.ctx, n, api.Closing{
		Outcome: api.ClosingOutcome(outcome), Because: because,
	}))
	if err == nil && status >= 300 {
		err = fmt.Errorf("close it: %s", body)
	}
	return err
}

func keptOpen(d *api.IncidentDetail) bool {
	return slices.Contains(kindsOf(d), string(incident.KeptOpen))
}

func (p *playing) twoTroubles() (int64, error) {
	mara, err := p.As(p.ctx, "mara-by-script", access.Approver)
	if err != nil {
		return 0, err
	}
	n, err := p.breakQueue()
	if err != nil {
		return n, err
	}
	before := p.heard()
	p.say("while its runbook asks, another trouble of the same service is reported, for which there is no runbook")
	if err := p.report("quay-north/certificate", "certificate", "critical",
		"the berth queue's certificate ends tonight"); err != nil {
		return n, err
	}
	if err := p.until("somebody is called", func() (bool, error) { return p.heard() > before, nil }); err != nil {
		return n, err
	}
	p.say("somebody is called for it at once, though a runbook works on the other one")
	if _, err := p.Approve(p.ctx, mara, "Both consumers stand at the same message."); err != nil {
		return n, fmt.Errorf("wait for the gate: %w", err)
	}
	d, err := p.incident(n, "the queue is repaired, and the incident open", keptOpen)
	if err != nil {
		return n, err
	}
	last := d.Entries[slices.Index(kindsOf(d), string(incident.KeptOpen))]
	p.say("the queue is repaired; the record says: %s", last.Title)
	if d.Incident.State != "open" || d.Incident.Severity != "critical" {
		return n, fmt.Errorf("the incident is %s and %s", d.Incident.State, d.Incident.Severity)
	}
	p.say("the certificate is renewed, and the monitor says so: now nothing is open in it")
	if err := p.report("quay-north/certificate", "certificate", "cleared", "renewed"); err != nil {
		return n, err
	}
	return n, p.closed(n, "repaired")
}

func (p *playing) worseAtNight() (int64, error) {
	if err := p.clock(false); err != nil {
		return 0, err
	}
	if err := p.push(`urgentis: route/1
name: quayside-at-night
when: notice.owner == "quayside" && notice.urgent
hours: {outside: quayside-staffed}
tell: [on-call/quayside]
escalate_after: 10s
`); err != nil {
		return 0, err
	}
	if err := p.onCall(); err != nil {
		return 0, err
	}
	texts := len(p.Texts.To(marasPhone))
	p.say("a warning comes, for which there is no runbook")
	if err := p.report("quay-north/leak", "leak", "warning", "water in the cable duct of quay north"); err != nil {
		return 0, err
	}
	if _, err := p.incident(1, "there is an incident", func(*api.IncidentDetail) bool { return true }); err != nil {
		return 0, err
	}
	time.Sleep(2 * time.Second)
	if n := len(p.Texts.To(marasPhone)); n != texts {
		return 1, errors.New("somebody was woken for a warning")
	}
	p.say("nobody is woken for that; then it is critical")
	if err := p.report("quay-north/leak", "leak", "critical",
		"the cable duct of quay north is full of water"); err != nil {
		return 1, err
	}
	key, err := p.escalates(texts)
	if err != nil {
		return 1, err
	}
	anybody, err := api.NewClientWithResponses(p.Link)
	if err != nil {
		return 1, err
	}
	status, body, err := said(anybody.ActByLinkWithResponse(p.ctx, api.LinkAct{Key: key, Do: "take"}))
	if err != nil || status >= 300 {
		return 1, fmt.Errorf("take it by a link: %s %w", body, err)
	}
	p.say("iva is called by mail, and takes it")
	if err := p.close(1, "repaired-by-hand", "The pump runs; the duct is dry."); err != nil {
		return 1, err
	}
	return 1, p.closed(1, "repaired-by-hand")
}

// byLink takes an incident and approves its change by a link that somebody was sent.
func (p *playing) byLink(key string) error {
	anybody, err := api.NewClientWithResponses(p.Link)
	if err != nil {
		return err
	}
	opened, err := anybody.OpenLinkWithResponse(p.ctx, api.LinkKey{Key: key})
	if err != nil {
		return err
	}
	if opened.JSON200 == nil || opened.JSON200.Gate.Digest == "" {
		return fmt.Errorf("the link shows no change: %s", opened.Body)
	}
	g := opened.JSON200.Gate
	p.say("it shows: %s on %s", g.Requests[0].Shown, g.Requests[0].Target)
	for _, act := range []api.LinkAct{
		{Key: key, Do: "take"},
		{Key: key, Do: "approve", Digest: g.Digest, Comment: "I am on it."},
	} {
		status, body, err := said(anybody.ActByLinkWithResponse(p.ctx, act))
		if err != nil || status >= 300 {
			return fmt.Errorf("%s by a link: %s %w", act.Do, body, err)
		}
	}
	p.say("%s took it and approved", opened.JSON200.Person)
	return nil
}

func (p *playing) storm() (int64, error) {
	if err := p.clock(true); err != nil {
		return 0, err
	}
	// Who listens hears of sources that are new within two seconds.
	time.Sleep(2500 * time.Millisecond)
	before := p.heard()
	p.say("the pier's power goes: %d lines of log within a second", stormHosts*stormThings)
	if err := p.Senders.Storm(); err != nil {
		return 0, err
	}
	var found api.Incident
	if err := p.until("all of it is one incident", func() (bool, error) {
		r, err := p.Admin.ListIncidentsWithResponse(p.ctx, &api.ListIncidentsParams{Service: "pier"})
		if err != nil || r.JSON200 == nil || len(r.JSON200.Items) != 1 {
			return false, err
		}
		found = r.JSON200.Items[0]
		return found.Alerts == stormHosts*stormThings, nil
	}); err != nil {
		return 0, err
	}
	p.say("%d alerts are one incident", found.Alerts)
	for _, step := range []struct {
		says string
		do   func() error
	}{
		{"the room is told of it, once", nil},
		{"the battery of one host is empty: it is worse", func() error {
			return p.Senders.Log(0, "pier-1", "upsd", "OUT1", "the battery of host 1 is empty")
		}},
		{"the power is back, and it is closed", func() error {
			status, body, err := said(p.Admin.CloseIncidentWithResponse(p.ctx, found.Number,
				api.Closing{Outcome: "repaired", Because: "The pier has power again."}))
			if err == nil && status >= 300 {
				err = fmt.Errorf("close it: %s", body)
			}
			return err
		}},
	} {
		p.say("%s", step.says)
		told := p.heard()
		if step.do != nil {
			if err := step.do(); err != nil {
				return found.Number, err
			}
		} else {
			told = before
		}
		if err := p.until("that is told", func() (bool, error) { return p.heard() > told, nil }); err != nil {
			return found.Number, err
		}
	}
	time.Sleep(2 * time.Second)
	if n := p.heard() - before; n != 3 {
		return found.Number, fmt.Errorf("%d messages were sent about it, not three", n)
	}
	p.say("three messages were sent about it")
	return found.Number, nil
}

func (p *playing) held() (int64, error) {
	if err := p.push(`urgentis: runbook/1
name: berth-queue-settles
title: Wait whether the berth queue settles
owner: quayside
service: berth-queue
starts:
  restless: {alert: alert.labels.signal == "queue_restless"}
steps:
  - wait: Give it a while
    for: 20s
  - close: false-alarm
    because: It settled.
---
urgentis: route/1
name: quayside-calls
when: notice.owner == "quayside"
tell: [on-call/quayside]
page_after: 10s
`); err != nil {
		return 0, err
	}
	before := p.heard()
	p.say("a major alert comes; a runbook waits whether it settles, for which it has 10 s before somebody is called")
	began := time.Now()
	if err := p.report("quay-north/restless", "queue_restless", "major", "the berth queue is restless"); err != nil {
		return 0, err
	}
	if err := p.until("somebody is called", func() (bool, error) { return p.heard() > before, nil }); err != nil {
		return 1, err
	}
	after := time.Since(began)
	if after < 9*time.Second {
		return 1, fmt.Errorf("somebody was called after %s already", after)
	}
	p.say("somebody is called after %.0f s", after.Seconds())
	return 1, p.closed(1, "false-alarm")
}

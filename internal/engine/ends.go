package engine

import (
	"fmt"
	"maps"
	"slices"

	"urgentis/core/alert"
	"urgentis/core/flow"
	"urgentis/core/incident"
	"urgentis/core/route"
	"urgentis/internal/store"
)

// mayEnd is what may have ended an incident.
type mayEnd struct {
	incident *store.Incident
	by       *Closing // how a run said that what it was begun for ended; nil where no run did
	quiet    bool     // all its alerts have been over for a while
}

// MayEnd has it judged, once all that the transaction does is known, whether an incident ends: of what was open in it
// something is over, or somebody has it no more.
func (s *Sheet) MayEnd(i *store.Incident) { s.mayEnd(i, nil) }

// Quiet is MayEnd where all alerts of an incident have been over for a while: it ends also where no run treated any.
func (s *Sheet) Quiet(i *store.Incident) {
	s.mayEnd(i, nil)
	m := s.ending[i.Number]
	m.quiet = true
	s.ending[i.Number] = m
}

func (s *Sheet) mayEnd(i *store.Incident, by *Closing) {
	if s.ending == nil {
		s.ending = map[int64]mayEnd{}
	}
	m := s.ending[i.Number]
	if m.incident = i; by != nil {
		m.by = by
	}
	s.ending[i.Number] = m
}

// Grows says that an alert is raised in an incident by this transaction: it does not end here.
func (s *Sheet) Grows(i *store.Incident) {
	if s.growing == nil {
		s.growing = map[int64]bool{}
	}
	s.growing[i.Number] = true
}

// ends closes the incidents that are over, and writes down of those that a run would have closed why they stay open.
func (s *Sheet) ends() error {
	for _, number := range slices.Sorted(maps.Keys(s.ending)) {
		m := s.ending[number]
		if m.incident.State != "open" || s.growing[number] {
			continue
		}
		now, err := s.tx.EndOf(m.incident, s.ended)
		if err != nil {
			return err
		}
		now.Quiet = m.quiet
		for _, r := range s.runs {
			if r.Incident != nil && *r.Incident == number && r.EndedAt == nil {
				now.Working = append(now.Working, r.Runbook)
			}
		}
		now.HandOvers = append(now.HandOvers, s.handedOver(number)...)
		e := incident.Ends(now)
		switch {
		case e.Outcome != "":
			err = s.closeAs(m, e)
		case m.by != nil:
			err = s.keepOpen(m, e)
		}
		if err != nil {
			return err
		}
	}
	s.ending = nil
	return nil
}

// handedOver are what runs of an incident leave to people by this transaction.
func (s *Sheet) handedOver(number int64) []incident.HandOver {
	var out []incident.HandOver
	for _, h := range s.handOvers {
		if h.Incident != nil && *h.Incident == number {
			out = append(out, incident.HandOver{Run: h.Run, Runbook: h.runbook, To: h.ToWhom, State: h.State, At: h.At})
		}
	}
	return out
}

// closeAs closes an incident that is over. Where a run ended it last, and as all of it ended, the record has its words.
func (s *Sheet) closeAs(m mayEnd, e incident.End) error {
	c := Closing{Outcome: e.Outcome, Because: e.Because, By: "urgentis", At: s.e.Now()}
	if m.by != nil {
		c.By, c.Run, c.At, c.Content = m.by.By, m.by.Run, m.by.At, m.by.Content
	}
	return s.Close(m.incident, c)
}

// keepOpen writes down why an incident stays open of which a run said how it ended, and tells whoever is to close it.
func (s *Sheet) keepOpen(m mayEnd, e incident.End) error {
	i, by := m.incident, m.by
	if err := s.FollowWorst(i); err != nil {
		return err
	}
	content := by.Content
	content.Outcome, content.Because, content.Open = by.Outcome, by.Because, e.Open
	if err := s.RecordWriter.Write(i, store.NewEntry{
		At: by.At, Kind: incident.KeptOpen, Actor: by.By, Run: by.Run, Title: "Stays open: " + e.Says(),
		Content: content,
	}); err != nil {
		return err
	}
	if e.Muted {
		i.WaitingOn = "nobody"
	}
	if e.Works || e.Muted {
		return nil
	}
	n := Notice{
		Kind: route.RunOver, Key: fmt.Sprintf("i%d:kept:%d", i.Number, i.Entries), Incident: &i.Number,
		Link: fmt.Sprintf("%s/incidents/%d", s.e.Link, i.Number),
		Text: fmt.Sprintf("Incident %d: %s (%s). It stays open: %s", i.Number, by.Outcome, by.Because, e.Says()),
	}
	if e.Kept != "" {
		n.To = "person/" + e.Kept
	}
	return s.Notify(n)
}

// handOver is what a run leaves to people.
type handOver struct {
	store.HandOver
	runbook string
}

func mapHandOvers(list []handOver) []store.HandOver {
	out := make([]store.HandOver, len(list))
	for i, h := range list {
		out[i] = h.HandOver
	}
	return out
}

// leave notes what a run that ended leaves to people, unless it said how its matter ended, or a person ended it.
func (p *projection) leave(b flow.Ended) {
	if b.Outcome == "" && b.State == flow.HandedOver {
		p.sheet.leave(p.run, b.To, b)
	}
}

func (s *Sheet) leave(run *store.Run, to string, b flow.Ended) {
	s.handOvers = append(s.handOvers, handOver{store.HandOver{
		Run: run.ID, Incident: run.Incident, ToWhom: to, State: b.State, Because: b.Because, At: s.e.Now(),
	}, run.Runbook})
}

// Settled writes down that somebody says that what a run left to people is done with.
func (s *Sheet) Settled(run *store.Run, by, because string) error {
	err := s.enter(run, func(*store.Incident) {}, store.NewEntry{Kind: incident.RunSettled, Actor: by,
		Title: "Done with, what was handed over: " + because, Content: incident.RunContent{Because: because}})
	if err != nil {
		return err
	}
	if run.Incident == nil {
		s.Due(store.OfRun(run.ID))
		return nil
	}
	i, err := s.Incident(*run.Incident)
	if err != nil {
		return err
	}
	s.MayEnd(i)
	return nil
}

// Reassigned calls whoever was given an incident, however bad it is, until they take it: somebody counts on them.
func (s *Sheet) Reassigned(i *store.Incident, by, because string) error {
	text := fmt.Sprintf("Incident %d (%s) was reassigned to you by %s: %s", i.Number, i.Severity, by, i.Title)
	if because != "" {
		text += " (" + because + ")"
	}
	return s.askHolder(i, text)
}

// askHolder asks whoever was given an incident to take it, once.
func (s *Sheet) askHolder(i *store.Incident, text string) error {
	thing := "holder/" + i.Holder
	if asked, err := s.tx.IsAsked(store.OfIncident(i.Number), thing); err != nil || asked {
		return err
	}
	return s.Notify(Notice{
		Kind: route.Reassigned, Key: fmt.Sprintf("i%d:on:%d", i.Number, i.Entries), To: "person/" + i.Holder,
		Thing: thing, Incident: &i.Number, Link: fmt.Sprintf("%s/incidents/%d", s.e.Link, i.Number),
		Text: text,
	})
}

// OpenAgain opens a closed incident again, which then waits on somebody; whoever writes its entry says why. What is
// open in it is there since now, and whoever it was reassigned to and did not take it is asked again.
func (s *Sheet) OpenAgain(i *store.Incident, waitsOn string) error {
	if err := s.tx.KeepKeys(i.Number); err != nil {
		return err
	}
	if err := s.tx.SinceNow(i.Number); err != nil {
		return err
	}
	i.State, i.WaitingOn, i.Outcome, i.Because, i.ClosedAt = "open", waitsOn, "", "", nil
	i.TitleRun, i.WorstTitle, i.WorstValue = "", "", nil
	if i.Holder == "" || i.HeldAt != nil {
		return nil
	}
	return s.askHolder(i, fmt.Sprintf("Incident %d (%s), which was reassigned to you, is open again: %s", i.Number,
		i.Severity, i.Title))
}

// FollowWorst lets an incident's severity and title be those of its worst open alert for which nothing was enough yet,
// where nobody set them by hand. That an objective suffers says nothing of what is wrong: it gives a title only to an
// incident that nothing else is about.
func (s *Sheet) FollowWorst(i *store.Incident) error {
	if i.State != "open" || i.SeverityBy != "" && i.TitleBy != "" {
		return nil
	}
	worst, err := s.tx.WorstAlert(i.Number)
	if err == nil && worst != nil {
		Follow(i, worst, false)
	}
	return err
}

// Follow lets an incident's severity and title be those of an alert; alone says that nothing else is open in it.
func Follow(i *store.Incident, worst *store.Alert, alone bool) {
	if i.SeverityBy == "" {
		i.Severity = worst.Severity
	}
	ofObjective := worst.Source == store.OurSource && worst.Labels["signal"] == SignalObjective
	if i.TitleBy == "" && (alone || !ofObjective) {
		i.Title, i.TitleRun = TitleOf(worst), ""
	}
}

// SignalObjective is the signal of our alerts about objectives.
const SignalObjective = "objective"

// TitleOf is the title that an alert gives its incident.
func TitleOf(a *store.Alert) string { return clipped(a.Summary) }

func clipped(title string) string {
	if r := []rune(title); len(r) > 200 {
		return string(r[:199]) + "…"
	}
	return title
}

// Entitle lets a run name its incident by what it read, as long as nobody named it by hand and its own alert is the
// worst in it: the title never hides another trouble that is worse. It tells whether it did.
func (s *Sheet) Entitle(i *store.Incident, run string, t flow.Title) (bool, error) {
	if t.Text == "" || i.TitleBy != "" || i.State != "open" {
		return false, nil
	}
	worst, err := s.tx.WorstAlert(i.Number)
	if err != nil {
		return false, err
	}
	if worst != nil {
		own, err := s.tx.TreatedBy(run)
		if err != nil || !slices.ContainsFunc(own, func(x store.Treats) bool { return x.Alert == worst.ID }) {
			return false, err
		}
	}
	was := i.Title
	if i.TitleRun != run {
		i.WorstTitle, i.WorstValue = "", nil
	}
	i.Title, i.TitleRun = clipped(t.Text), run
	if t.Worse(i.WorstValue) {
		i.WorstTitle, i.WorstValue = i.Title, t.Value
	}
	return i.Title != was, nil
}

// enough reports whether an alert that a run treated is settled by that, as bad as it is now.
func enough(a *store.Alert, worth int) bool {
	return a.State == "open" && worth >= alert.Worth(a.Severity)
}

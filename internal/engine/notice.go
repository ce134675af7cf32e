package engine

import (
	"time"

	"urgentis/core/route"
	"urgentis/internal/store"
)

// Notice is something that people are to be told. Who that is, and when, core/route says; see notices.go.
type Notice struct {
	Kind route.Kind
	Key  string // it is told once per key
	To   string // team/NAME, on-call/NAME or person/NAME where somebody is asked; "" for whoever the routes name
	Text string
	// Thing is what it is about, such as gate/ID; "" for its incident, or for none.
	Thing string
	// Incident is what it belongs to; nil for none. Run is the run that asks, where it belongs to no incident; "" else.
	Incident *int64
	Run      string
	Link     string
	// Delay is how long it waits before anybody is told.
	Delay time.Duration
}

// Notify notes that people are to be told of something: once, and what asks for something until it is decided. Where
// there is nobody who could be told, only what asks is noted, so that it is said that nobody was.
func (s *Sheet) Notify(n Notice) error {
	w, err := s.World()
	if err != nil || w.Empty() && !n.Kind.Asks() {
		return err
	}
	now := s.e.Now()
	at := now.Add(n.Delay)
	s.notices = append(s.notices, store.Notice{
		Key: n.Key, Kind: n.Kind, Asked: n.To, Urgent: n.Kind.Asks(), Text: n.Text, Thing: n.Thing,
		Link: n.Link, Incident: n.Incident, At: now, State: store.NoticeOpen, LookAt: &at,
	})
	if row := &s.notices[len(s.notices)-1]; row.Urgent {
		row.Since = &now
		switch {
		case n.Incident != nil:
			row.Subject = store.OfIncident(*n.Incident)
		case n.Run != "":
			row.Subject = store.OfRun(n.Run)
		}
		if row.Subject != "" {
			s.Due(row.Subject)
		}
	}
	return nil
}

// About puts what an incident is about into a notice, but for the labels of its alert.
func (s *Sheet) About(n *route.Notice, inc *store.Incident) error {
	n.Incident, n.Title, n.Severity = inc.Number, inc.Title, inc.Severity
	n.Service, n.Holder = inc.Service, inc.Holder
	if inc.HeldAt == nil {
		n.Former = inc.Former
	}
	service, err := s.tx.Service(inc.Service)
	if err == nil && service != nil {
		n.Owner = service.Owner
	}
	return err
}

// TellNow lets what is held back about an incident be told now: nobody is there who would find out whether it is true,
// or somebody did.
func (s *Sheet) TellNow(incident int64) error {
	now := s.e.Now()
	for i := range s.notices {
		n := &s.notices[i]
		if n.Kind == route.IncidentOpened && n.Incident != nil && *n.Incident == incident {
			n.LookAt = &now
			return nil
		}
	}
	return s.tx.ReleaseNotices(incident)
}

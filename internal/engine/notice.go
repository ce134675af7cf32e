package engine

import (
	"slices"
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
	// Urgent ones climb until somebody takes them; what asks for something always is.
	Urgent bool
	// Incident is what it belongs to; nil for none.
	Incident *int64
	Link     string
	// Hold is how long it waits before anybody is told.
	Hold time.Duration
}

// Notify notes that people are to be told of something. Where there is nobody who could be, nothing is noted.
func (s *Sheet) Notify(n Notice) error {
	w, err := s.World()
	if err != nil || w.Empty() {
		return err
	}
	now := s.e.Now()
	at := now.Add(n.Hold)
	s.notices = append(s.notices, store.Notice{
		Key: n.Key, Kind: n.Kind, Asked: n.To, Urgent: n.Urgent || n.Kind.Asks(), Text: n.Text, Thing: n.Thing,
		Link: n.Link, Incident: n.Incident, At: now, State: store.NoticeOpen, LookAt: &at,
	})
	return nil
}

// About puts what an incident is about into a notice, but for the labels of its alert.
func (s *Sheet) About(n *route.Notice, inc *store.Incident) error {
	n.Incident, n.Title, n.Severity = inc.Number, inc.Title, inc.Severity
	n.Service, n.Holder = inc.Service, inc.Holder
	service, err := s.tx.Service(inc.Service)
	if err == nil && service != nil {
		n.Owner = service.Owner
	}
	return err
}

// PageAfter is how long a runbook may work on an incident, opened by an alert with these labels, before somebody is
// called.
func (s *Sheet) PageAfter(inc *store.Incident, labels map[string]string) (time.Duration, error) {
	w, err := s.World()
	if err != nil || !slices.ContainsFunc(w.Routes, func(r *route.Route) bool { return r.Page != 0 }) {
		return route.DefaultPage, err
	}
	n := &route.Notice{Kind: route.IncidentPage, Urgent: true, Labels: labels, At: s.e.Now()}
	if err := s.About(n, inc); err != nil {
		return 0, err
	}
	return w.PageAfter(n, s.e.Now()), nil
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

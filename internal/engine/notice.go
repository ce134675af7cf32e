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
	w, err := s.world()
	if err != nil || w.Empty() {
		return err
	}
	now := s.e.now()
	at := now.Add(n.Hold)
	s.notices = append(s.notices, store.Notice{
		Key: n.Key, Kind: n.Kind, Asked: n.To, Urgent: n.Urgent || n.Kind.Asks(), Text: n.Text, Thing: n.Thing,
		Link: n.Link, Incident: n.Incident, At: now, State: store.NoticeOpen, LookAt: &at,
	})
	return nil
}

// TellNow lets what is held back about an incident be told now: nobody is there who would find out whether it is true,
// or somebody did.
func (s *Sheet) TellNow(incident int64) error {
	now := s.e.now()
	for i := range s.notices {
		n := &s.notices[i]
		if n.Kind == route.IncidentOpened && n.Incident != nil && *n.Incident == incident {
			n.LookAt = &now
			return nil
		}
	}
	return s.tx.ReleaseNotices(incident)
}

package engine

import (
	"encoding/json"
	"fmt"

	"urgentis/internal/store"
)

// NoticeKind is what a notice is about: who is told of it, and how, depends on it.
type NoticeKind string

// The kinds of notices.
const (
	ApprovalWanted   NoticeKind = "approval.wanted"
	AnswerWanted     NoticeKind = "answer.wanted"
	HandOver         NoticeKind = "handed.over"
	RunOver          NoticeKind = "run.over"    // without closing its incident
	RunStopped       NoticeKind = "run.stopped" // it cannot go on, or is set aside
	RunRefused       NoticeKind = "run.refused" // it did not start
	LateNews         NoticeKind = "late.news"   // what became of a change that was unknown
	Said             NoticeKind = "said"        // a tell of a runbook
	IncidentOpened   NoticeKind = "incident.opened"
	IncidentWorse    NoticeKind = "incident.worse"
	IncidentReopened NoticeKind = "incident.reopened"
	IncidentClosed   NoticeKind = "incident.closed"
	NobodyStarted    NoticeKind = "nobody.started" // no runbook starts by itself
	AlertSetAside    NoticeKind = "alert.set-aside"
	HaltChanged      NoticeKind = "halt"
	KeyExpiring      NoticeKind = "key.expiring" // of a start address
)

// Notice is something that people are told.
type Notice struct {
	Kind NoticeKind
	Key  string // it is told once per key
	To   string // team/NAME or on-call/NAME where somebody is asked; "" for whoever reads
	Text string
	// Incident is what it belongs to; nil for none.
	Incident *int64
	Link     string
}

// Notify sends a notice to every room.
func (s *Sheet) Notify(n Notice) error {
	rooms, err := s.rooms()
	if err != nil {
		return err
	}
	body, err := json.Marshal(map[string]any{
		"kind": n.Kind, "to": n.To, "text": n.Text, "link": n.Link, "incident": n.Incident,
	})
	if err != nil {
		return fmt.Errorf("write a notice: %w", err)
	}
	for _, r := range rooms {
		s.out = append(s.out, store.Delivery{
			Key: n.Key + ":" + r.Name, Kind: "room", Address: r.Name, Body: string(body), Incident: n.Incident,
			State: "queued", QueuedAt: s.e.now(),
		})
	}
	return nil
}

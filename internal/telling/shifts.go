package telling

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"urgentis/core/calendar"
	"urgentis/core/route"
	"urgentis/internal/engine"
	"urgentis/internal/store"
)

const (
	// shiftsEvery is how often it is looked whether somebody else is on call now, and whether nobody will be.
	shiftsEvery = time.Minute
	// lookForHoles is how long before it a team is told that nobody will be on call.
	lookForHoles = 72 * time.Hour
	// justBegun is how long after its beginning a turn counts as new, where no instance was there to see it begin.
	justBegun = time.Hour
	// mostHandedOn bounds how many open incidents the next on call is told of one by one.
	mostHandedOn = 10
)

// shiftsOnce tells teams of holes in their rotas beforehand, and whoever comes on call what is open.
func (e *Teller) shiftsOnce(ctx context.Context) error {
	return e.write(ctx, func(s *sheet) error {
		w, err := s.World()
		if err != nil {
			return err
		}
		for name, t := range w.Teams {
			if t.Rota == nil {
				continue
			}
			if err := s.tellHoles(t, w.StandIns[name]); err != nil {
				return err
			}
			if err := s.tellShift(t, w.StandIns[name]); err != nil {
				return err
			}
		}
		return nil
	})
}

// tellHoles tells a team, once, when nobody will be on call in its first line.
func (s *sheet) tellHoles(t *route.Team, in []calendar.StandIn) error {
	if f := t.Feeds[0]; f != nil && f.ReadAt.IsZero() {
		return nil // it is not known yet
	}
	now := s.e.Now()
	for _, h := range t.Rota.Holes(0, now, now.Add(lookForHoles), in) {
		// A hole that goes on has another beginning each time it is looked at.
		until := h.Until
		if !until.Before(now.Add(lookForHoles)) {
			until = h.From.Truncate(24 * time.Hour)
		}
		key := fmt.Sprintf("hole:%s:%d", t.Name, until.Unix())
		if known, err := s.Tx().NoticeKnown(key); err != nil || known {
			if err != nil {
				return err
			}
			continue
		}
		err := s.Notify(engine.Notice{
			Kind: route.RotaHole, Key: key, To: "team/" + t.Name, Link: s.e.Link, Text: holeSays(t, h),
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// holeSays tells of a hole, and how it is filled.
func holeSays(t *route.Team, h calendar.Duty) string {
	return fmt.Sprintf("Nobody of %s is on call from %s until %s. Enter somebody: "+
		"urgentis team stand-in %s --person NAME --from %s --until %s", t.Says(),
		h.From.In(t.Rota.Zone).Format(shiftTime), h.Until.In(t.Rota.Zone).Format(shiftTime), t.Name,
		h.From.UTC().Format(time.RFC3339), h.Until.UTC().Format(time.RFC3339))
}

const shiftTime = "Mon 2 Jan 15:04 MST"

// tellShift tells whoever has just come on call what is open, whose it is and what others were told of it; where
// nothing is open, nobody is told.
func (s *sheet) tellShift(t *route.Team, in []calendar.StandIn) error {
	now := s.e.Now()
	d, ok := t.Rota.OnCall(0, now, in)
	if !ok || d.Person == "" || now.Sub(d.From) > justBegun {
		return nil
	}
	key := fmt.Sprintf("shift:%s:%d:%s", t.Name, d.From.Unix(), d.Person)
	if known, err := s.Tx().NoticeKnown(key); err != nil || known {
		return err
	}
	before, _ := t.Rota.OnCall(0, d.From.Add(-time.Minute), in)
	if before.Person == d.Person {
		return nil
	}
	open, err := s.Tx().OpenOf(t.Name)
	if err != nil || len(open) == 0 {
		return err
	}
	var b strings.Builder
	fmt.Fprintf(&b, "You are on call for %s now. Open:", t.Says())
	for _, o := range open[:min(len(open), mostHandedOn)] {
		b.WriteString("\n" + HandedOn(o))
	}
	if more := len(open) - mostHandedOn; more > 0 {
		fmt.Fprintf(&b, "\nand %d more: urgentis team hand-over %s", more, t.Name)
	}
	return s.Notify(engine.Notice{Kind: route.ShiftBegins, Key: key, To: "person/" + d.Person, Text: b.String(),
		Link: s.e.Link + "/incidents"})
}

// HandedOn is one open incident in a line, as one shift leaves it to the next.
func HandedOn(o store.OpenIncident) string {
	parts := []string{fmt.Sprintf("%d (%s) %s", o.Number, o.Severity, o.Title)}
	if o.Holder != "" {
		parts = append(parts, "held by "+o.Holder)
	}
	if o.WaitingOn != "" && o.WaitingOn != "nobody" {
		parts = append(parts, "waits for "+map[string]string{
			"approval": "an approval", "answer": "an answer", "person": "somebody"}[o.WaitingOn])
	}
	if o.Promised != "" {
		parts = append(parts, "others were told: "+o.Promised)
	}
	return strings.Join(slices.DeleteFunc(parts, func(p string) bool { return p == "" }), "; ")
}

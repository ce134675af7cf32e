package story

import (
	"slices"
	"time"

	"urgentis/core/incident"
)

// follow takes in what a person states, and what is left to do.
func (f *Folder) follow(c incident.Content) {
	switch c := c.(type) {
	case incident.StatedContent:
		f.stated[c.Field] = c.Text
	case incident.FollowUpContent:
		if i := slices.IndexFunc(f.left, func(x incident.FollowUpContent) bool { return x.ID == c.ID }); i >= 0 {
			f.left[i] = c
			return
		}
		f.left = append(f.left, c)
	}
}

// FollowUps are what is left to do and what was of it, in the order in which it was written down.
func (f *Folder) FollowUps() []incident.FollowUpContent { return slices.Clone(f.left) }

// toFollow are the follow-ups that are open.
func (f *Folder) toFollow() []Text {
	var out []Text
	for _, c := range f.left {
		if c.State == incident.FollowUpOpen {
			out = append(out, saysFollowUp(c))
		}
	}
	return out
}

func saysFollowUp(c incident.FollowUpContent) Text {
	t := text(c.Text)
	if c.Owner != "" {
		t = text(t, ": ", who(c.Owner))
	}
	if !c.Due.IsZero() {
		t = text(t, ", due ", when(c.Due))
	}
	return t
}

// when is a day, as surfaces write it.
func when(at time.Time) string { return at.UTC().Format("2 Jan 2006") }

package engine

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"strings"
	"time"

	"urgentis/core/calendar"
	"urgentis/core/reading"
	"urgentis/core/route"
	"urgentis/internal/act"
	"urgentis/internal/store"
)

const (
	// feedsEvery is how often it is looked whether a calendar is to be read, freshFor how long what one said counts as
	// fresh.
	feedsEvery = 5 * time.Second
	freshFor   = 15 * time.Minute
	// feedBefore is how much of the past a calendar is kept for.
	feedBefore = 31 * 24 * time.Hour
	// feedPatience is how long a calendar may be out of reach before its team is told.
	feedPatience = time.Hour
	// feedTime bounds one reading.
	feedTime = 20 * time.Second
)

// readFeeds reads the calendars from which rotas are read, again and again.
func (e *Engine) readFeeds() { e.every(feedsEvery, "read rotas from calendars", e.feedsOnce) }

func (e *Engine) feedsOnce(ctx context.Context) error {
	w, err := e.World(e.Store.In(ctx))
	if err != nil {
		return err
	}
	var failed []error
	for _, t := range w.Teams {
		failed = append(failed, e.ReadFeeds(ctx, t, e.now().Add(-freshFor)))
	}
	return errors.Join(failed...)
}

// ReadFeeds reads those calendars of a team that nobody tried to read since a moment.
func (e *Engine) ReadFeeds(ctx context.Context, t *route.Team, since time.Time) error {
	if e.FetchFeed == nil {
		return nil
	}
	for line, f := range t.Feeds {
		due, err := e.Store.In(ctx).FeedDue(t.Name, line, f.Address(), since)
		if err != nil {
			return err
		}
		if !due {
			continue
		}
		if err := e.readFeed(ctx, t, line, f); err != nil {
			return err
		}
	}
	return nil
}

func (e *Engine) readFeed(ctx context.Context, t *route.Team, line int, f *route.Feed) error {
	fetching, cancel := context.WithTimeout(ctx, feedTime)
	text, failed := e.FetchFeed(fetching, f)
	cancel()
	text = act.Text([]byte(text))
	var unread []string
	if failed == nil {
		_, unread, failed = t.Turns(line, text, e.now().Add(-feedBefore))
	}
	if failed != nil {
		failed = errors.New(reading.Why(failed.Error()))
	}
	return e.Write(ctx, func(s *Sheet) error {
		if failed != nil {
			if err := s.tx.FeedNotRead(t.Name, line, failed.Error()); err != nil {
				return err
			}
			return s.tellFeed(t, line, failed)
		}
		if err := s.tx.FeedRead(t.Name, line, f.Address(), text, unreadSays(unread)); err != nil {
			return err
		}
		s.Changed(store.Feed{Topic: "team", Ref: t.Name})
		return s.tellUnread(t, line, unread)
	})
}

// mostUnread bounds how many events that count for nobody are told one by one.
const mostUnread = 5

func unreadSays(unread []string) string {
	if len(unread) == 0 {
		return ""
	}
	says := "What counts for nobody: " + strings.Join(unread[:min(len(unread), mostUnread)], "; ")
	if more := len(unread) - mostUnread; more > 0 {
		says += fmt.Sprintf("; and %d more", more)
	}
	return says
}

// tellFeed tells a team, once a day, that the calendar of its rota cannot be read.
func (s *Sheet) tellFeed(t *route.Team, line int, failed error) error {
	rows, err := s.tx.RotaFeeds(t.Name)
	if err != nil {
		return err
	}
	now := s.e.now()
	for _, r := range rows {
		if r.Line != line || r.ReadAt != nil && now.Sub(*r.ReadAt) < feedPatience {
			continue
		}
		holds := "Nothing was read of it yet: nobody is on call in that line."
		if r.ReadAt != nil {
			holds = "What it said at " + r.ReadAt.In(t.Rota.Zone).Format(shiftTime) + " holds meanwhile."
		}
		return s.tellOfFeed(t, line, now.Format(time.DateOnly), fmt.Sprintf("The calendar of %s's %s line cannot be "+
			"read: %s. %s", t.Says(), calendar.LineNames[line], failed, holds))
	}
	return nil
}

// tellUnread tells a team, once, what of the calendar of its rota counts for nobody.
func (s *Sheet) tellUnread(t *route.Team, line int, unread []string) error {
	if len(unread) == 0 {
		return nil
	}
	return s.tellOfFeed(
		t,
		line,
		fmt.Sprintf("%x", sha256.Sum256([]byte(strings.Join(unread, "\n")))),
		fmt.Sprintf("The calendar of %s's %s line was "+
			"read. %s.", t.Says(), calendar.LineNames[line], unreadSays(unread)),
	)
}

func (s *Sheet) tellOfFeed(t *route.Team, line int, once, text string) error {
	key := fmt.Sprintf("feed:%s:%d:%s", t.Name, line, once)
	if known, err := s.tx.NoticeKnown(key); err != nil || known {
		return err
	}
	return s.Notify(Notice{Kind: route.RotaUnread, Key: key, To: "team/" + t.Name, Link: s.e.Link, Text: text})
}

// fill puts what calendars said into the lines of a rota that are read from them.
func (e *Engine) fill(tx *store.Tx, t *route.Team, at time.Time) error {
	if len(t.Feeds) == 0 {
		return nil
	}
	rows, err := tx.RotaFeeds(t.Name)
	if err != nil {
		return fmt.Errorf("read what the calendars of %s said: %w", t.Name, err)
	}
	for _, r := range rows {
		f := t.Feeds[r.Line]
		if f == nil || r.Line >= len(t.Rota.Lines) {
			continue // its document was changed
		}
		if f.Trouble = r.Trouble; r.ReadAt == nil {
			continue
		}
		f.ReadAt = *r.ReadAt
		turns, _, err := t.Turns(r.Line, r.Text, at.Add(-feedBefore))
		if err != nil {
			e.Log.Error("what a calendar said can be read no more", "team", t.Name, "line", r.Line, "error", err)
			continue
		}
		t.Rota.Lines[r.Line] = turns
	}
	return nil
}

package telling

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
	"urgentis/internal/engine"
	"urgentis/internal/store"
)

const (
	// feedsEvery is how often it is looked whether a calendar is to be read, freshFor how long what one said counts as
	// fresh.
	feedsEvery = 5 * time.Second
	freshFor   = 15 * time.Minute
	// feedPatience is how long a calendar may be out of reach before its team is told.
	feedPatience = time.Hour
	// feedTime bounds one reading.
	feedTime = 20 * time.Second
)

// feedsOnce reads the calendars from which rotas are read, where it is time to.
func (e *Teller) feedsOnce(ctx context.Context) error {
	w, err := e.World(e.Store.In(ctx))
	if err != nil {
		return err
	}
	var failed []error
	for _, t := range w.Teams {
		failed = append(failed, e.ReadFeeds(ctx, t, e.Now().Add(-freshFor)))
	}
	return errors.Join(failed...)
}

// ReadFeeds reads those calendars of a team that nobody tried to read since a moment.
func (e *Teller) ReadFeeds(ctx context.Context, t *route.Team, since time.Time) error {
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

func (e *Teller) readFeed(ctx context.Context, t *route.Team, line int, f *route.Feed) error {
	fetching, cancel := context.WithTimeout(ctx, feedTime)
	text, failed := e.FetchFeed(fetching, f)
	cancel()
	text = act.Text([]byte(text))
	var unparsed []string
	if failed == nil {
		_, unparsed, failed = t.Turns(line, text, e.Now().Add(-engine.FeedBefore))
	}
	if failed != nil {
		failed = errors.New(reading.Why(failed.Error()))
	}
	return e.write(ctx, func(s *sheet) error {
		if failed != nil {
			if err := s.Tx().FeedNotRead(t.Name, line, failed.Error()); err != nil {
				return err
			}
			return s.tellFeed(t, line, failed)
		}
		if err := s.Tx().FeedRead(t.Name, line, f.Address(), text, unparsedSays(unparsed)); err != nil {
			return err
		}
		s.Changed(store.Feed{Topic: "team", Ref: t.Name})
		return s.tellUnparsed(t, line, unparsed)
	})
}

// mostUnparsed bounds how many events that count for nobody are told one by one.
const mostUnparsed = 5

func unparsedSays(unparsed []string) string {
	if len(unparsed) == 0 {
		return ""
	}
	says := "What counts for nobody: " + strings.Join(unparsed[:min(len(unparsed), mostUnparsed)], "; ")
	if more := len(unparsed) - mostUnparsed; more > 0 {
		says += fmt.Sprintf("; and %d more", more)
	}
	return says
}

// tellFeed tells a team, once a day, that the calendar of its rota cannot be read.
func (s *sheet) tellFeed(t *route.Team, line int, failed error) error {
	rows, err := s.Tx().RotaFeeds(t.Name)
	if err != nil {
		return err
	}
	now := s.e.Now()
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

// tellUnparsed tells a team, once, what of the calendar of its rota counts for nobody.
func (s *sheet) tellUnparsed(t *route.Team, line int, unparsed []string) error {
	if len(unparsed) == 0 {
		return nil
	}
	return s.tellOfFeed(
		t,
		line,
		fmt.Sprintf("%x", sha256.Sum256([]byte(strings.Join(unparsed, "\n")))),
		fmt.Sprintf("The calendar of %s's %s line was "+
			"read. %s.", t.Says(), calendar.LineNames[line], unparsedSays(unparsed)),
	)
}

func (s *sheet) tellOfFeed(t *route.Team, line int, once, text string) error {
	key := fmt.Sprintf("feed:%s:%d:%s", t.Name, line, once)
	if known, err := s.Tx().NoticeKnown(key); err != nil || known {
		return err
	}
	return s.Notify(engine.Notice{Kind: route.RotaUnparsed, Key: key, To: "team/" + t.Name, Link: s.e.Link, Text: text})
}

package calendar

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/robfig/cron/v3"
)

// Schedule says when something is due, as the five fields of cron have it, by the clock on the wall of a zone.
//
// Where the clock is put forward, what would have been due in the hour that is not there is due right after it; where
// it is put back, what is due in the hour that comes twice is due the first time. What is due in every hour (an hour
// field of *) is due in each hour that passes, and in no other.
type Schedule struct {
	Text string
	Zone *time.Location
	spec *cron.SpecSchedule
}

// MaxSchedule bounds the text of a schedule, in bytes.
const MaxSchedule = 200

// everyHour is the hour field's bits where it is *.
const everyHour = 1<<24 - 1

// starBit is set by the library where a field was *.
const starBit = 1 << 63

// ParseSchedule reads five fields: minute, hour, day of the month, month, day of the week.
func ParseSchedule(text string, zone *time.Location) (*Schedule, error) {
	if len(text) > MaxSchedule {
		return nil, fmt.Errorf("a schedule may have %d bytes", MaxSchedule)
	}
	if strings.ContainsAny(text, "=@") {
		return nil, errors.New("a schedule is five fields, such as 30 2 * * *; the key zone says the zone")
	}
	p := cron.NewParser(cron.Minute | cron.Hour | cron.Dom | cron.Month | cron.Dow)
	parsed, err := p.Parse(text)
	if err != nil {
		return nil, fmt.Errorf(
			"this is no schedule: %w; it is five fields: minute, hour, day of the month, month, day of "+
				"the week, such as 30 2 * * *",
			err,
		)
	}
	spec, ok := parsed.(*cron.SpecSchedule)
	if !ok {
		return nil, errors.New("a schedule is five fields, such as 30 2 * * *")
	}
	s := &Schedule{Text: text, Zone: zone, spec: spec}
	if s.Next(time.Date(2000, 1, 1, 0, 0, 0, 0, zone)).IsZero() {
		return nil, errors.New("this schedule is never due: there is no such day")
	}
	return s, nil
}

// horizon is how far ahead a schedule is looked for: a 29th of February on a given day of the week comes in less.
const horizon = 40 // years

// Next gives the first moment after another at which the schedule is due; the zero time where there is none.
func (s *Schedule) Next(after time.Time) time.Time {
	t := after.In(s.Zone)
	// Days are counted in UTC, which leaves none out and has none twice.
	first := time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, time.UTC)
	for day := first; day.Year() < t.Year()+horizon; day = day.AddDate(0, 0, 1) {
		if !s.dayMatches(day) {
			continue
		}
		if at := s.firstOn(day, after); !at.IsZero() {
			return at
		}
	}
	return time.Time{}
}

// dayMatches judges a day as cron does: where both the day of the month and that of the week are said, either is
// enough.
func (s *Schedule) dayMatches(day time.Time) bool {
	if s.spec.Month&(1<<uint(day.Month())) == 0 {
		return false
	}
	inMonth := s.spec.Dom&(1<<uint(day.Day())) != 0
	inWeek := s.spec.Dow&(1<<uint(day.Weekday())) != 0
	if s.spec.Dom&starBit != 0 || s.spec.Dow&starBit != 0 {
		return inMonth && inWeek
	}
	return inMonth || inWeek
}

// firstOn gives the first moment of a day after another one at which the schedule is due; the zero time without one.
func (s *Schedule) firstOn(day, after time.Time) time.Time {
	if s.spec.Hour&everyHour == everyHour {
		return s.firstPassing(day, after)
	}
	best := time.Time{}
	for h := range 24 {
		if s.spec.Hour&(1<<uint(h)) == 0 {
			continue
		}
		for m := range 60 {
			if s.spec.Minute&(1<<uint(m)) == 0 {
				continue
			}
			at := s.onTheWall(day, h, m)
			if at.After(after) && (best.IsZero() || at.Before(best)) {
				best = at
			}
		}
	}
	return best
}

// firstPassing looks through the minutes that pass on a day, however many they are.
func (s *Schedule) firstPassing(day, after time.Time) time.Time {
	at := s.onTheWall(day, 0, 0)
	if after.After(at) {
		at = after.Truncate(time.Minute)
	}
	for ; at.In(s.Zone).Day() == day.Day(); at = at.Add(time.Minute) {
		if at.After(after) && s.spec.Minute&(1<<uint(at.In(s.Zone).Minute())) != 0 {
			return at
		}
	}
	return time.Time{}
}

// onTheWall is when a clock on the wall shows a time of a day: the first of two times, and what follows the gap in
// which one is missing.
func (s *Schedule) onTheWall(day time.Time, hour, minute int) time.Time {
	at := time.Date(day.Year(), day.Month(), day.Day(), hour, minute, 0, 0, s.Zone)
	shows := func(t time.Time) bool { return t.Day() == day.Day() && t.Hour() == hour && t.Minute() == minute }
	if !shows(at) {
		return afterGap(at)
	}
	// Go says not which of two it gives: the earlier one is within a few hours before.
	_, offset := at.Zone()
	_, was := at.Add(-6 * time.Hour).Zone()
	if earlier := at.Add(time.Duration(offset-was) * time.Second); was != offset && shows(earlier) &&
		earlier.Before(at) {
		return earlier
	}
	return at
}

// afterGap is the first moment after a change of the clock that is near.
func afterGap(near time.Time) time.Time {
	from := near.Add(-6 * time.Hour)
	_, was := from.Zone()
	for t := from; t.Before(near.Add(6 * time.Hour)); t = t.Add(time.Minute) {
		if _, is := t.Zone(); is != was {
			return t.Truncate(time.Minute)
		}
	}
	return near
}

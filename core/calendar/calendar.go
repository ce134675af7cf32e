// Package calendar tells when it is: inside or outside of hours that people keep, and when a schedule is due, in a zone
// and across the changes of its clock.
package calendar

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Calendar is hours that people keep, such as those in which a quay is staffed.
type Calendar struct {
	Name string
	Zone *time.Location
	// Weekly are the hours of a common week.
	Weekly []Hours
	// Days are the hours of single days, by their dates as 2006-01-02, in the place of the week's; none: closed.
	Days map[string][]Hours
}

// Hours are a piece of a day, from a minute after midnight to another; one that is not later is of the day after.
type Hours struct {
	Days     [7]bool // by time.Weekday; of no account in Calendar.Days
	From, To int
}

// Midnight is the end of a day, in minutes.
const Midnight = 24 * 60

// Inside reports whether a moment is within the hours, by the clock on the wall there.
func (c *Calendar) Inside(at time.Time) bool {
	t := at.In(c.Zone)
	minute := t.Hour()*60 + t.Minute()
	for _, h := range c.on(t) {
		if minute >= h.From && minute < h.end() {
			return true
		}
	}
	// What began the day before may go on after midnight.
	for _, h := range c.on(t.AddDate(0, 0, -1)) {
		if h.To <= h.From && minute < h.To {
			return true
		}
	}
	return false
}

// mostDays bounds how far ahead a turn is looked for, in days.
const mostDays = 400

// Turn is the next moment after another at which the hours begin, or end: where Inside becomes what it is not now; the
// zero time where it stays as it is for more than a year.
func (c *Calendar) Turn(at time.Time) time.Time {
	is := c.Inside(at)
	t := at.In(c.Zone)
	for d := range mostDays {
		day := time.Date(t.Year(), t.Month(), t.Day()+d, 0, 0, 0, 0, c.Zone)
		for _, edge := range c.edges(day) {
			if edge.After(at) && c.Inside(edge) != is {
				return edge
			}
		}
	}
	return time.Time{}
}

// edges are the moments of a day at which hours may begin or end, in their order; of a day on which the clock is put
// forward or back all its minutes.
func (c *Calendar) edges(day time.Time) []time.Time {
	next := time.Date(day.Year(), day.Month(), day.Day()+1, 0, 0, 0, 0, c.Zone)
	var out []time.Time
	if _, turns := day.ZoneBounds(); !turns.IsZero() && !turns.After(next) {
		for at := day; at.Before(next); at = at.Add(time.Minute) {
			out = append(out, at)
		}
		return out
	}
	minutes := []int{0}
	for _, h := range c.on(day) {
		minutes = append(minutes, h.From, h.end())
	}
	for _, h := range c.on(day.AddDate(0, 0, -1)) {
		if h.To <= h.From {
			minutes = append(minutes, h.To)
		}
	}
	slices.Sort(minutes)
	for _, m := range minutes {
		out = append(out, day.Add(time.Duration(m)*time.Minute))
	}
	return out
}

// end is when hours end on their own day.
func (h Hours) end() int {
	if h.To <= h.From {
		return Midnight
	}
	return h.To
}

// on gives the hours of the day of a moment.
func (c *Calendar) on(t time.Time) []Hours {
	if hours, ok := c.Days[t.Format(time.DateOnly)]; ok {
		return hours
	}
	var out []Hours
	for _, h := range c.Weekly {
		if h.Days[t.Weekday()] {
			out = append(out, h)
		}
	}
	return out
}

var (
	weekdays = map[string]time.Weekday{
		"sun": time.Sunday,
		"mon": time.Monday,
		"tue": time.Tuesday,
		"wed": time.Wednesday,
		"thu": time.Thursday,
		"fri": time.Friday,
		"sat": time.Saturday,
	}
	weeklyPattern = regexp.MustCompile(`^([a-z,-]+) (\S+)$`)
	spanPattern   = regexp.MustCompile(`^([0-9]{1,2}):([0-9]{2})-([0-9]{1,2}):([0-9]{2})$`)
)

// ParseWeekly reads hours of a week: `mon-fri 07:00-19:00`, `sat,sun 22:00-06:00`, `daily 00:00-24:00`.
func ParseWeekly(text string) (Hours, error) {
	m := weeklyPattern.FindStringSubmatch(text)
	if m == nil {
		return Hours{}, fmt.Errorf("%q is not like mon-fri 07:00-19:00", text)
	}
	h, err := ParseHours(m[2])
	if err != nil {
		return h, err
	}
	if m[1] == "daily" {
		h.Days = [7]bool{true, true, true, true, true, true, true}
		return h, nil
	}
	for piece := range strings.SplitSeq(m[1], ",") {
		first, last, isRange := strings.Cut(piece, "-")
		if !isRange {
			last = first
		}
		from, ok := weekdays[first]
		to, too := weekdays[last]
		if !ok || !too {
			return h, fmt.Errorf("%s is no day; they are mon, tue, wed, thu, fri, sat, sun and daily", piece)
		}
		for d := from; ; d = (d + 1) % 7 {
			if h.Days[d] = true; d == to {
				break
			}
		}
	}
	return h, nil
}

// ParseHours reads the hours of one day: `07:00-12:00`; those that end before they begin end on the day after.
func ParseHours(text string) (Hours, error) {
	m := spanPattern.FindStringSubmatch(text)
	if m == nil {
		return Hours{}, fmt.Errorf("%q is not like 07:00-19:00", text)
	}
	var n [4]int
	for i := range n {
		n[i], _ = strconv.Atoi(m[i+1]) // two digits
	}
	h := Hours{From: n[0]*60 + n[1], To: n[2]*60 + n[3]}
	if n[1] > 59 || n[3] > 59 || h.From >= Midnight || h.To > Midnight {
		return h, fmt.Errorf("%q has no such time of a day", text)
	}
	if h.From == h.To {
		return h, fmt.Errorf("%q is no time at all; a whole day is 00:00-24:00", text)
	}
	return h, nil
}

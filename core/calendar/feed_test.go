package calendar

import (
	"fmt"
	"strings"
	"testing"
	"time"

	ics "github.com/arran4/golang-ical"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var whoIsWho = map[string]string{
	"mara": "mara", "jonas": "jonas", "iva": "iva", "iva brandt": "iva", "jonas@merrow.example": "jonas",
}

func calendarOf(events ...string) string {
	lines := "BEGIN:VCALENDAR\nVERSION:2.0\nPRODID:-//Merrow//Harbour office//EN\n" + strings.Join(events, "") +
		"END:VCALENDAR\n"
	return strings.ReplaceAll(lines, "\n", "\r\n")
}

func eventOf(id string, lines ...string) string {
	return "BEGIN:VEVENT\nUID:" + id + "\nDTSTAMP:20260101T000000Z\n" + strings.Join(lines, "\n") + "\nEND:VEVENT\n"
}

// TestAFeedIsReadAsTurns reads what calendars write: zones, days without hours, durations, rules, single days that are
// moved or left out, people by their address, their name or the summary.
func TestAFeedIsReadAsTurns(t *testing.T) {
	zone := zoneOf(t, "Europe/Lisbon")
	text := calendarOf(
		eventOf("week", "DTSTART;TZID=Europe/Lisbon:20260105T200000", "DTEND;TZID=Europe/Lisbon:20260106T080000",
			"RRULE:FREQ=DAILY;BYDAY=MO,TU,WE,TH", "EXDATE;TZID=Europe/Lisbon:20260107T200000,20260114T200000",
			"SUMMARY:Night: Mara"),
		eventOf("week", "RECURRENCE-ID;TZID=Europe/Lisbon:20260106T200000",
			"DTSTART;TZID=Europe/Lisbon:20260106T210000", "DURATION:PT10H", "SUMMARY:Mara is ill",
			"ATTENDEE;CN=Iva Brandt:mailto:iva.b@elsewhere.example"),
		eventOf("day", "DTSTART;VALUE=DATE:20260329", "SUMMARY:harbour",
			"ATTENDEE:mailto:Jonas@Merrow.example"), // the clock changes on it
		eventOf("utc", "DTSTART:20260701T190000Z", "DTEND:20260702T070000Z", "SUMMARY:iva brandt"),
		eventOf("floating", "DTSTART:20260703T200000", "DTEND:20260704T080000", "SUMMARY:Jonas"),
		eventOf("off", "DTSTART:20260705T200000", "DTEND:20260706T080000", "SUMMARY:Jonas", "STATUS:CANCELLED"),
		eventOf("past", "DTSTART:20240705T200000", "DTEND:20240706T080000", "SUMMARY:nobody we know"),
		eventOf("two", "DTSTART:20260706T200000", "DTEND:20260707T080000", "SUMMARY:Mara and Jonas"),
		eventOf("none", "DTSTART:20260708T200000", "DTEND:20260709T080000", "SUMMARY:Maraboo"),
		eventOf("never", "DTSTART:20260709T200000", "DTEND:20260709T200000", "SUMMARY:Mara"),
		eventOf("often", "DTSTART:20260710T200000", "DTEND:20260710T210000", "RRULE:FREQ=HOURLY", "SUMMARY:Mara"),
		eventOf("zone", "DTSTART;TZID=Nowhere:20260711T200000", "DTEND:20260710T210000", "SUMMARY:Mara"),
	)
	since := time.Date(2026, 1, 1, 0, 0, 0, 0, time.UTC)
	turns, unparsed, err := ReadFeed(text, zone, whoIsWho, since)
	require.NoError(t, err)
	assert.Equal(t, []string{
		`"Mara and Jonas" at 2026-07-06 20:00: it names jonas and mara; one event is for one person`,
		`"Maraboo" at 2026-07-08 20:00: it names nobody who is known; people: says who is who`,
		`"Mara" at 2026-07-09 20:00: it lasts less than a minute, or more than 366 days`,
		`"Mara" at 2026-07-10 20:00: it comes more often than once a day`,
		`"Mara" at 20260711T200000: when it begins cannot be read`,
	}, unparsed)
	r := &Rota{Zone: zone, Lines: [][]Turn{turns}}
	for when, who := range map[string]string{
		"2026-01-05 19:59": "", "2026-01-05 20:00": "mara", "2026-01-06 07:59": "mara", "2026-01-06 08:00": "",
		"2026-01-06 20:30": "", "2026-01-06 21:00": "iva", "2026-01-07 06:59": "iva", "2026-01-07 07:00": "",
		"2026-01-07 20:00": "", "2026-01-14 20:00": "", "2026-01-15 20:00": "mara", "2026-07-02 23:00": "mara",
		"2026-03-28 23:59": "", "2026-03-29 00:00": "jonas", "2026-03-29 23:59": "jonas", "2026-07-01 20:00": "iva",
		"2026-07-02 07:59": "iva", "2026-07-03 20:00": "jonas", "2026-07-04 08:00": "", "2026-07-05 21:00": "",
	} {
		at, err := time.ParseInLocation("2006-01-02 15:04", when, zone)
		require.NoError(t, err)
		d, _ := r.OnCall(0, at, nil)
		assert.Equal(t, who, d.Person, when)
	}
}

// TestFeedsThatCannotBe refuses what is no calendar, or too much of one.
func TestFeedsThatCannotBe(t *testing.T) {
	var many strings.Builder
	for i := range maxRecurring + 1 {
		many.WriteString(eventOf(fmt.Sprint(i), "DTSTART:20260705T200000", "DTEND:20260706T080000", "SUMMARY:Jonas",
			"RRULE:FREQ=WEEKLY"))
	}
	for text, says := range map[string]string{
		"":                                 "cut off",
		"<html>Sign in</html>":             "no iCalendar",
		"BEGIN:VCALENDAR\r\n":              "cut off",
		"BEGIN:VCARD\r\nEND:VCARD\r\n":     "no iCalendar",
		calendarOf(many.String()):          "more than 50 events",
		strings.Repeat("x", MaxFeed+1):     "larger than",
		calendarOf()[:len(calendarOf())-9]: "no iCalendar",
	} {
		_, _, err := ReadFeed(text, time.UTC, whoIsWho, time.Time{})
		assert.ErrorContains(t, err, says, "%.40q", text)
	}
	turns, unparsed, err := ReadFeed(calendarOf(), time.UTC, whoIsWho, time.Time{})
	require.NoError(t, err)
	assert.Empty(t, unparsed)
	assert.Empty(t, turns)
}

// TestARotaIsTheSameThroughAFeed writes generated rotas as calendars, with another library, and reads them.
func TestARotaIsTheSameThroughAFeed(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		zone := zoneOf(t, rapid.SampledFrom([]string{"Europe/Lisbon", "America/St_Johns", "UTC"}).Draw(t, "zone"))
		r := &Rota{Zone: zone, Lines: [][]Turn{{turn(t, zone, "2026-01-05 09:00",
			rapid.SampledFrom([]string{"FREQ=WEEKLY", "FREQ=DAILY", "FREQ=DAILY;BYDAY=MO,FR"}).Draw(t, "every"),
			rapid.IntRange(0, 2).Draw(t, "days"), time.Duration(rapid.IntRange(0, 30).Draw(t, "hours"))*time.Hour,
			"mara", "jonas", "iva")}}}
		from := time.Date(2026, 1, 5, 0, 0, 0, 0, zone).AddDate(0, 0, rapid.IntRange(0, 200).Draw(t, "from"))
		until := from.AddDate(0, 0, rapid.IntRange(1, 60).Draw(t, "days asked"))
		duties := r.Duties(0, from, until, nil)
		c := ics.NewCalendarFor("test")
		for i, d := range duties {
			if d.Person != "" {
				e := c.AddEvent(fmt.Sprint(i))
				e.SetDtStampTime(from)
				e.SetStartAt(d.From)
				e.SetEndAt(d.Until)
				e.SetSummary(d.Person + " is on call")
			}
		}
		turns, unparsed, err := ReadFeed(c.Serialize(), zone, whoIsWho, from)
		require.NoError(t, err)
		require.Empty(t, unparsed)
		read := &Rota{Zone: zone, Lines: [][]Turn{turns}}
		got := read.Duties(0, from, until, nil)
		require.Len(t, got, len(duties))
		for i := range got {
			require.Equal(t, duties[i].Person, got[i].Person)
			require.True(t, duties[i].From.Equal(got[i].From) && duties[i].Until.Equal(got[i].Until), "%v %v",
				duties[i], got[i])
		}
	})
}

func FuzzFeeds(f *testing.F) {
	f.Add(calendarOf(eventOf("a", "DTSTART:20260705T200000", "DTEND:20260706T080000", "SUMMARY:Jonas",
		"RRULE:FREQ=WEEKLY;COUNT=3", "EXDATE:20260712T200000")))
	f.Add("0;0=")
	at := time.Date(2026, 7, 5, 21, 0, 0, 0, time.UTC)
	f.Fuzz(func(t *testing.T, text string) {
		turns, _, err := ReadFeed(text, time.UTC, whoIsWho, time.Time{})
		if err != nil {
			return
		}
		r := &Rota{Zone: time.UTC, Lines: [][]Turn{turns}}
		r.OnCall(0, at, nil)
	})
}

package calendar

import (
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"time"

	ical "github.com/emersion/go-ical"
	"github.com/teambition/rrule-go"
)

// Bounds of a rota that is read from an iCalendar.
const (
	MaxFeed      = 1 << 20 // bytes
	maxEvents    = 2000    // that are not over
	maxRecurring = 50
)

// ReadFeed reads the events of an iCalendar (RFC 5545) as the turns of a line. known tells who a name or an address
// there is, in small letters. Events that were over at since are left out, as are those that are cancelled. zone is
// that of times which name none. unparsed says, in sentences, which events count for nobody, and why; err that the
// whole of it cannot be read.
func ReadFeed(
	text string, zone *time.Location, known map[string]string, since time.Time,
) (turns []Turn, unparsed []string, err error) {
	if len(text) > MaxFeed {
		return nil, nil, fmt.Errorf("it is larger than %d bytes", MaxFeed)
	}
	c, err := decode(text)
	if err != nil {
		return nil, nil, fmt.Errorf("it is no iCalendar: %w", err)
	}
	f := &feed{zone: zone, known: known, since: since, moved: map[string][]time.Time{},
		names: map[string]*regexp.Regexp{}}
	for name := range known {
		f.names[name] = regexp.MustCompile(`(?:^|[^\pL\pN_])` + regexp.QuoteMeta(name) + `(?:$|[^\pL\pN_])`)
	}
	f.read(c.Events())
	switch {
	case len(f.single) > maxEvents:
		return nil, nil, fmt.Errorf("it has more than %d events that are not over", maxEvents)
	case len(f.again) > maxRecurring:
		return nil, nil, fmt.Errorf("it has more than %d events that come again and again", maxRecurring)
	}
	// What stands for one day goes before what comes each week.
	return slices.Concat(f.single, f.again), f.unparsed, nil
}

// decode takes an iCalendar apart. The library panics on lines that end within a parameter.
func decode(text string) (c *ical.Calendar, err error) {
	defer func() {
		if recover() != nil {
			err = errors.New("a line of it cannot be read")
		}
	}()
	if c, err = ical.NewDecoder(strings.NewReader(text)).Decode(); errors.Is(err, io.EOF) {
		err = errors.New("it is empty or cut off")
	}
	return c, err
}

// feed is an iCalendar while it is read.
type feed struct {
	zone          *time.Location
	known         map[string]string
	names         map[string]*regexp.Regexp // each known name as a word of its own, made once
	since         time.Time
	moved         map[string][]time.Time // occurrences that another event stands for, by UID
	single, again []Turn
	unparsed      []string
}

func (f *feed) read(events []ical.Event) {
	for _, e := range events {
		if p := e.Props.Get(ical.PropRecurrenceID); p != nil {
			if at, err := p.DateTime(f.zone); err == nil {
				f.moved[uid(e)] = append(f.moved[uid(e)], at)
			}
		}
	}
	for _, e := range events {
		if err := f.event(e); err != nil {
			f.unparsed = append(f.unparsed, fmt.Sprintf("%s: %s", f.says(e), err))
		}
	}
}

func uid(e ical.Event) string { return value(e, ical.PropUID) }

func value(e ical.Event, name string) string {
	if p := e.Props.Get(name); p != nil {
		return p.Value
	}
	return ""
}

// says names an event for people.
func (f *feed) says(e ical.Event) string {
	text, err := e.Props.Text(ical.PropSummary)
	if err != nil || text == "" {
		text = uid(e)
	}
	at := value(e, ical.PropDateTimeStart)
	if t, err := e.DateTimeStart(f.zone); err == nil {
		at = t.Format("2006-01-02 15:04")
	}
	if len(text) > 60 {
		text = strings.ToValidUTF8(text[:60], "") + "…"
	}
	return fmt.Sprintf("%q at %s", text, at)
}

// event reads one event as a turn.
func (f *feed) event(e ical.Event) error {
	if strings.EqualFold(value(e, ical.PropStatus), string(ical.EventCancelled)) {
		return nil
	}
	t := Turn{}
	begin, err := e.DateTimeStart(f.zone)
	if err != nil || begin.IsZero() {
		return errors.New("when it begins cannot be read")
	}
	// By the clock of its own zone; a time in UTC is the rota's.
	if t.Zone = begin.Location(); t.Zone == time.UTC {
		t.Zone = f.zone
	}
	if t.Days, t.Time, err = f.length(e, begin, t.Zone); err != nil {
		return err
	}
	if t.Set, err = f.occurrences(e); err != nil {
		return err
	}
	if t.Once = begin; t.Set == nil && !t.end(t.Zone, begin).After(f.since) {
		return nil
	}
	person, err := f.person(e)
	if err != nil {
		return err
	}
	t.People = []string{person}
	if t.Set == nil {
		f.single = append(f.single, t)
	} else {
		f.again = append(f.again, t)
	}
	return nil
}

// length is how long an event lasts, by the clock on the wall.
func (f *feed) length(e ical.Event, begin time.Time, zone *time.Location) (days int, span time.Duration, err error) {
	long := 24 * time.Hour // of a day without hours
	switch {
	case e.Props.Get(ical.PropDateTimeEnd) != nil:
		end, err := e.DateTimeEnd(f.zone)
		if err != nil {
			return 0, 0, errors.New("when it ends cannot be read")
		}
		long = wall(end.In(zone)).Sub(wall(begin.In(zone)))
	case e.Props.Get(ical.PropDuration) != nil:
		if long, err = e.Props.Get(ical.PropDuration).Duration(); err != nil {
			return 0, 0, errors.New("how long it lasts cannot be read")
		}
	case e.Props.Get(ical.PropDateTimeStart).ValueType() != ical.ValueDate:
		return 0, 0, errors.New("it says neither when it ends nor how long it lasts")
	}
	if long < time.Minute || long > maxLong {
		return 0, 0, errors.New("it lasts less than a minute, or more than 366 days")
	}
	return int(long / (24 * time.Hour)), long % (24 * time.Hour), nil
}

const maxLong = 366 * 24 * time.Hour

// wall is what a clock on the wall shows, as if it never changed.
func wall(t time.Time) time.Time {
	return time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), 0, time.UTC)
}

// occurrences are the beginnings of an event that comes again and again; nil for one that does not.
func (f *feed) occurrences(e ical.Event) (*rrule.Set, error) {
	rule, err := e.Props.RecurrenceRule()
	if err != nil {
		return nil, fmt.Errorf("its rule cannot be read: %w", err)
	}
	if rule == nil && e.Props.Get(ical.PropRecurrenceDates) == nil {
		return nil, nil //nolint:nilnil // once is no error
	}
	begin, err := e.DateTimeStart(f.zone)
	if err != nil {
		return nil, errors.New("when it begins cannot be read")
	}
	set := &rrule.Set{}
	if rule != nil {
		if rule.Freq > rrule.DAILY {
			return nil, errors.New("it comes more often than once a day")
		}
		if never(rule) {
			return nil, errors.New("it never comes about: there is no such day")
		}
		rule.Dtstart = begin
		r, err := rrule.NewRRule(*rule)
		if err != nil {
			return nil, fmt.Errorf("its rule cannot be followed: %w", err)
		}
		set.RRule(r)
	} else {
		set.RDate(begin)
	}
	set.DTStart(begin)
	for name, add := range map[string]func(time.Time){
		ical.PropRecurrenceDates: set.RDate, ical.PropExceptionDates: set.ExDate,
	} {
		for _, p := range e.Props[name] {
			if err := f.dates(p, add); err != nil {
				return nil, err
			}
		}
	}
	if e.Props.Get(ical.PropRecurrenceID) == nil {
		for _, at := range f.moved[uid(e)] {
			set.ExDate(at)
		}
	}
	return set, nil
}

// dates reads a list of times. The library reads one.
func (f *feed) dates(p ical.Prop, add func(time.Time)) error {
	for _, v := range strings.Split(p.Value, ",") {
		one := p
		one.Value = v
		at, err := one.DateTime(f.zone)
		if err != nil {
			return fmt.Errorf("%q in it is no time", v)
		}
		add(at)
	}
	return nil
}

// person is whom an event is for: whoever takes part, else whom its summary names.
func (f *feed) person(e ical.Event) (string, error) {
	for _, p := range e.Props[ical.PropAttendee] {
		address := strings.ToLower(strings.TrimSpace(p.Value))
		for _, name := range []string{strings.TrimPrefix(address, "mailto:"), strings.ToLower(p.Params.Get("CN"))} {
			if who := f.known[name]; who != "" {
				return who, nil
			}
		}
	}
	text, err := e.Props.Text(ical.PropSummary)
	if err != nil {
		return "", errors.New("its summary cannot be read")
	}
	text = strings.ToLower(strings.TrimSpace(text))
	if who := f.known[text]; who != "" {
		return who, nil
	}
	var named []string
	for name, who := range f.known {
		if f.names[name].MatchString(text) && !slices.Contains(named, who) {
			named = append(named, who)
		}
	}
	switch len(named) {
	case 0:
		return "", errors.New("it names nobody who is known; people: says who is who")
	case 1:
		return named[0], nil
	}
	slices.Sort(named)
	return "", fmt.Errorf("it names %s; one event is for one person", strings.Join(named, " and "))
}

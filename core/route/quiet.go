package route

import (
	"fmt"
	"time"

	"urgentis/core/calendar"
)

// ParseQuiet reads the hours of each day in which somebody is not told of what can wait, such as 22:00-07:00, by the
// clock of a zone; nil for "".
func ParseQuiet(hours, zone string) (*calendar.Calendar, error) {
	if hours == "" {
		return nil, nil
	}
	at, err := time.LoadLocation(zone)
	if err != nil || zone == "" {
		return nil, fmt.Errorf("there is no zone %q; it is like Europe/Lisbon", zone)
	}
	h, err := calendar.ParseWeekly("daily " + hours)
	if err != nil {
		return nil, fmt.Errorf("quiet hours are like 22:00-07:00: %w", err)
	}
	return &calendar.Calendar{Zone: at, Weekly: []calendar.Hours{h}}, nil
}

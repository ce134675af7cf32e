package demo

import (
	"html/template"
	"net"
	"net/http"
	"time"

	ics "github.com/arran4/golang-ical"
)

// Office is a stand-in for the office's calendars: who has duty at the fares desk, as an iCalendar feed and as a page.
type Office struct {
	URL  string
	http *http.Server
}

// officeTurns are who has duty at the fares desk, week after week.
var officeTurns = []struct {
	id, name, address string
	begins            time.Time // by the clock on the wall in Lisbon
	days              int
}{
	{"fares-mon", "Iva Brandt", "iva@merrow.example", time.Date(2026, 1, 5, 9, 0, 0, 0, time.UTC), 3},
	{"fares-thu", "Jonas Teles", "jonas@merrow.example", time.Date(2026, 1, 8, 9, 0, 0, 0, time.UTC), 4},
}

// StartOffice starts the office's calendars on an address.
func StartOffice(addr string) (*Office, error) {
	o := &Office{URL: "http://" + addr}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /fares.ics", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/calendar; charset=utf-8")
		w.Write([]byte(officeFeed())) //nolint:errcheck // the reader is gone
	})
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) { show(w, officePage, officeTurnsShown()) })
	var err error
	o.http, err = serve(addr, mux, func(net.Conn) {})
	return o, err
}

// Stop ends it.
func (o *Office) Stop() { o.http.Close() } //nolint:errcheck // it ends either way

// officeFeed is the calendar of the fares desk, as a calendar program gives it.
func officeFeed() string {
	const local = "20060102T150405"
	c := ics.NewCalendarFor("Merrow Line office")
	c.SetName("Fares desk")
	zone := ics.WithTZID("Europe/Lisbon")
	for _, t := range officeTurns {
		e := c.AddEvent(t.id + "@office.merrow.example")
		e.SetDtStampTime(t.begins)
		e.SetSummary("Fares desk")
		e.SetProperty(ics.ComponentPropertyDtStart, t.begins.Format(local), zone)
		e.SetProperty(ics.ComponentPropertyDtEnd, t.begins.AddDate(0, 0, t.days).Format(local), zone)
		e.AddRrule("FREQ=WEEKLY")
		e.AddAttendee(t.address, ics.WithCN(t.name))
	}
	return c.Serialize()
}

func officeTurnsShown() []map[string]any {
	var out []map[string]any
	for _, t := range officeTurns {
		out = append(out, map[string]any{"Name": t.name, "From": t.begins.Format("Monday 15:04"),
			"Until": t.begins.AddDate(0, 0, t.days).Format("Monday 15:04")})
	}
	return out
}

var officePage = template.Must(template.New("office").Parse(pageHead +
	`<title>Office calendar</title><h1>Merrow Line, the office's calendar: fares desk</h1>
{{range .}}<p>{{.Name}}, each week from {{.From}} until {{.Until}}</p>{{end}}
<p><a href="/fares.ics">fares.ics</a></p>`))

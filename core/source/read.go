package source

import (
	"cmp"
	"fmt"

	"urgentis/core/alert"
	"urgentis/core/expr"
)

// MaxItems is how many things a payload may report.
const MaxItems = 100

// Event is what one item of a payload reports: an Alert, Deployment or TicketNews, or that nothing is to be made of it:
// Ignored, Echo.
type Event interface {
	// complete holds the event to what can be kept.
	complete(heard alert.Heard) error
	// fields lists what it says, in the order in which people read it.
	fields() []said
}

// said is a field of an event by its name.
type said struct{ name, value string }

// Ignored is what the source is told to make nothing of.
type Ignored struct{ nothing }

// Echo tells only what we did at a ticket ourselves.
type Echo struct{ nothing }

type nothing struct{}

func (nothing) complete(alert.Heard) error { return nil }
func (nothing) fields() []said             { return nil }

// Reading is what a payload says.
type Reading struct {
	Items []Item
	// Many says that it is a list: one was sent, or a map made it.
	Many bool
	// Unparsed says why nothing of it can be read: its body cannot be, or it has no such list; "" where its items can
	// be told apart.
	Unparsed string
}

// Item is what one part of a payload says.
type Item struct {
	// Event is nil where it cannot be read; Unparsed says which field could not be had, and why.
	Event    Event
	Unparsed string
	// ID is what its sender calls it, so that it counts once; "" where it says nothing. Digest is of what is called so.
	ID, Digest string
	made       []Made
	form       string // the known form that made it, where no map did
}

// Made is how one field of an event came to be.
type Made struct {
	Field string `json:"field"` // labels.NAME for a label
	Value string `json:"value"`
	From  string `json:"from"` // the part of the map that made it
}

// Made lists how the fields came to be, as far as they could be had.
func (x *Item) Made() []Made {
	if x.made != nil || x.Event == nil {
		return x.made
	}
	out := []Made{}
	for _, f := range x.Event.fields() {
		if f.value != "" {
			out = append(out, Made{f.name, f.value, x.form})
		}
	}
	return out
}

// Left lists the places of the items that could not be read, and says why the first could not; none and "" where all
// could. Where nothing of the payload can be read there are no places.
func (r *Reading) Left() (places []int, finding string) {
	if r.Unparsed != "" {
		return nil, r.Unparsed
	}
	for i, x := range r.Items {
		if x.Event != nil {
			continue
		}
		if places = append(places, i); finding == "" {
			finding = x.Unparsed
		}
	}
	if finding != "" && len(r.Items) > 1 {
		finding = fmt.Sprintf("item %d of %d: %s", places[0]+1, len(r.Items), finding)
	}
	return places, finding
}

// Read tells what a payload says that was heard at a moment.
func (s *Source) Read(p Payload, heard alert.Heard) *Reading {
	unpacked, err := p.Unpacked()
	if err != nil {
		return &Reading{Unparsed: err.Error(), Many: s.Map != nil}
	}
	w := &walk{s: s, kind: kinds[cmp.Or(s.Reports, OfAlerts)], p: unpacked, heard: heard}
	open := w.mapped
	if s.Map == nil {
		open = w.known
	}
	items, many, err := open()
	if err == nil && len(items) > MaxItems {
		err = fmt.Errorf("there are %d items, %d are allowed", len(items), MaxItems)
	}
	if err != nil {
		return &Reading{Unparsed: err.Error(), Many: many}
	}
	out := &Reading{Many: many, Items: make([]Item, len(items))}
	for i, read := range items {
		x := &out.Items[i]
		read(x)
		w.finish(x, i, many)
	}
	return out
}

// walk is the reading of one payload.
type walk struct {
	s     *Source
	kind  kind
	p     Payload
	heard alert.Heard
	sum   string // of the payload, once an item wants it
}

// read makes an item of what is at its place in a payload.
type read func(*Item)

// finish holds an item to what can be kept, and gives it its identity.
func (w *walk) finish(x *Item, i int, many bool) {
	if x.Event != nil {
		if err := x.Event.complete(w.heard); err != nil {
			x.Event, x.Unparsed = nil, err.Error()
		}
	}
	if id := w.p.ID(); x.ID == "" && id != "" {
		if w.sum == "" {
			w.sum = w.p.digest()
		}
		x.ID, x.Digest = id, w.sum
		if many {
			x.ID = fmt.Sprintf("%s/%d", id, i)
		}
	}
}

// kind is what a source reports.
type kind struct {
	names []string // of the fields that a map gives
	// known makes an event of one of a form that is known without a map.
	known func(one []byte, from *cloudEvent) (Event, string, error)
	// made makes an event of the fields that a map gave, and id what its sender calls it.
	made func(v *values) (e Event, id string)
}

var kinds = map[string]kind{
	OfAlerts:      {FieldNames, knownAlert, madeAlert},
	OfDeployments: {DeploymentFields, knownDeployment, madeDeployment},
	OfTickets:     {TicketFields, nil, madeTicket},
}

// Reports lists what a source may report.
var Reports = []string{OfAlerts, OfDeployments, OfTickets}

// What a source reports.
const (
	OfAlerts      = "alerts"
	OfDeployments = "deployments"
	// OfTickets is what a ticket desk tells of its tickets.
	OfTickets = "tickets"
)

// values are the fields of one item that a map gave.
type values struct {
	text    map[string]string
	labels  map[string]string
	cleared bool
	at      alert.Said
}

// mapped opens a payload by the source's map.
func (w *walk) mapped() ([]read, bool, error) {
	names, err := w.p.names(w.s, w.heard.Time)
	if err != nil {
		return nil, true, err
	}
	scope := &expr.Scope{Names: names}
	items := []any{names["body"]}
	if w.s.Each != nil {
		if items, err = w.s.items(scope); err != nil {
			return nil, true, err
		}
	}
	out := make([]read, len(items))
	for i, item := range items {
		out[i] = func(x *Item) {
			scope.Names["item"] = item
			if err := w.one(scope, x); err != nil {
				x.Event, x.Unparsed = nil, err.Error()
			}
		}
	}
	return out, true, nil
}

package alert

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"urgentis/core/expr"
)

// Source says what the payloads of one source mean. Without Map, what comes by HTTP is our own JSON or CloudEvents; see
// Read.
type Source struct {
	Name string
	// Takes says how reports arrive; "": by HTTP.
	Takes string
	// Reports says what it reports; "": alerts.
	Reports string
	// Desk is the connection whose tickets it tells of, and Echo finds what it tells of our own doing.
	Desk string
	Echo *expr.Program
	// Proof lists the ways in which a report may prove itself; none: the first of WaysOf.
	Proof []string
	// From are the networks that may report; none: any, where Proof does not say Network.
	From []netip.Prefix
	// Zone is that of times of syslog that name none; nil: UTC.
	Zone *time.Location
	// Rate bounds the reports that are taken in a second; 0: DefaultRate.
	Rate int
	// Each gives the list of what one payload reports, each of which is then item; nil where it reports one thing.
	Each *expr.Program
	Map  map[string]*Field // by the names of FieldNames, but labels
	// Labels are fields by the names of the labels that they become.
	Labels map[string]*Field
	// Cleared tells that the condition is over, Ignore that nothing is to be made of it.
	Cleared, Ignore *expr.Program
	// SilentAfter is after which time without a report the source itself is an alert; 0: never.
	SilentAfter time.Duration
	// OverAfter is after which time without a report an alert counts as cleared; 0: never.
	OverAfter time.Duration
}

// How reports arrive.
const (
	HTTP   = "http"
	Mail   = "mail"   // SMTP (RFC 5321)
	Syslog = "syslog" // RFC 5424 and RFC 3164
	Trap   = "trap"   // traps and informs of SNMP v2c and v3
)

// Takes lists how reports may arrive.
var Takes = []string{HTTP, Mail, Syslog, Trap}

func (s *Source) takes() string { return cmp.Or(s.Takes, HTTP) }

// Names lists what the expressions of a source have that takes reports in a way.
func Names(takes string) []string {
	if takes == HTTP {
		return []string{"body", "headers", "query", "item"}
	}
	return []string{takes, "item"}
}

// DefaultRate is how many reports a source may send in a second unless its document says otherwise, and MaxRate the
// most that one may say.
const (
	DefaultRate = 5000
	MaxRate     = 100_000
)

// The ways in which a report proves that it comes from its source.
const (
	Bearer = "bearer" // the token as Authorization: Bearer
	// Basic is the token as the password of HTTP's basic scheme (RFC 7617), or of SMTP's AUTH PLAIN (RFC 4954).
	Basic = "basic"
	// Address is the token as the last piece of the address, or in that of a mail after a plus: NAME+TOKEN@…
	Address   = "address"
	Signed    = "signed"    // a signature by Standard Webhooks (https://www.standardwebhooks.com)
	Network   = "network"   // it comes from one of the networks of From
	Community = "community" // the token as the community of SNMP v2c
	User      = "user"      // a user of SNMP v3 (RFC 3414)
)

// WaysOf lists the ways to prove that there are for what arrives in a way; the first stands where a document names
// none.
func WaysOf(takes string) []string {
	switch takes {
	case Mail:
		return []string{Address, Basic, Network}
	case Syslog:
		return []string{Network}
	case Trap:
		return []string{Community, User, Network}
	}
	return []string{Bearer, Basic, Address, Signed}
}

// Proves reports whether a report may prove itself in a way.
func (s *Source) Proves(way string) bool {
	return slices.Contains(s.Proof, way) || len(s.Proof) == 0 && way == WaysOf(s.takes())[0]
}

// Admits reports whether reports may come from an address.
func (s *Source) Admits(from netip.Addr) bool {
	return len(s.From) == 0 && !s.Proves(Network) || s.Distance(from) >= 0
}

// Distance is how closely From names an address: the length of the narrowest network that it is in; -1 where none has
// it.
func (s *Source) Distance(from netip.Addr) int {
	best := -1
	for _, n := range s.From {
		if n.Contains(from.Unmap()) {
			best = max(best, n.Bits())
		}
	}
	return best
}

// FieldNames are the fields of a report that a source maps, in the order in which people read them.
var FieldNames = []string{"key", "severity", "summary", "service", "at", "link"}

// Field is how one field of a report is had: a text with values filled in, or a value that is looked at more closely.
type Field struct {
	Text *expr.Template
	// Of is a value; of its text Pattern takes the first group, or what it matches; As translates that.
	Of      *expr.Program
	Pattern *regexp.Regexp
	As      map[string]string
	// Otherwise stands where the value is missing, Pattern does not match, or As has no word for it; nil: then the
	// field cannot be had.
	Otherwise *string
	// From is what Made says that made it; "": its own words.
	From string
}

// Made is how one field of a report came to be.
type Made struct {
	Field string `json:"field"` // labels.NAME for a label
	Value string `json:"value"`
	From  string `json:"from"` // the part of the map that made it
}

// Mapped is what one item of a payload became.
type Mapped struct {
	Report Report
	Made   []Made
	// Ignored says that the source is told to make nothing of it.
	Ignored bool
	// Unread says which field could not be had, and why; "" where all could. Such an item has no report.
	Unread string
}

// Mapping maps a payload, item by item. It is pure. An error, of type *Invalid, concerns all of the payload: its body
// cannot be read, or has no such list.
func (s *Source) Mapping(p Payload, now time.Time) ([]Mapped, error) {
	scope, items, err := s.opened(p, now)
	if err != nil {
		return nil, err
	}
	out := make([]Mapped, len(items))
	for i, item := range items {
		scope.Names["item"] = item
		out[i] = s.one(scope, now)
	}
	return out, nil
}

// opened gives what the expressions of a source see of a payload, and its items.
func (s *Source) opened(p Payload, now time.Time) (*expr.Scope, []any, error) {
	names, err := p.names(s, now)
	if err != nil {
		return nil, nil, err
	}
	scope := &expr.Scope{Names: names}
	if s.Each == nil {
		return scope, []any{names["body"]}, nil
	}
	items, err := s.items(scope)
	return scope, items, err
}

func (s *Source) items(scope *expr.Scope) ([]any, error) {
	v, err := s.Each.Eval(scope)
	if err != nil {
		return nil, invalid("each: %s", reason(err))
	}
	list, ok := v.([]any)
	if !ok {
		list = []any{v} // XML has no list where there is one of a name
	}
	if len(list) > MaxReports {
		return nil, invalid("each has %d items, %d are allowed", len(list), MaxReports)
	}
	return list, nil
}

func (s *Source) one(scope *expr.Scope, now time.Time) Mapped {
	m := Mapped{}
	if s.Ignore != nil {
		yes, err := s.Ignore.Bool(scope)
		if err != nil {
			return Mapped{Unread: "ignore: " + reason(err)}
		}
		if yes {
			return Mapped{Ignored: true}
		}
	}
	cleared := false
	if s.Cleared != nil {
		var err error
		if cleared, err = s.Cleared.Bool(scope); err != nil {
			return Mapped{Unread: "cleared: " + reason(err)}
		}
	}
	for _, name := range FieldNames {
		f := s.Map[name]
		if name == "severity" && cleared {
			m.Report.Severity = Cleared
			m.Made = append(m.Made, Made{name, string(Cleared), "cleared: " + s.Cleared.Source})
			continue
		}
		if f == nil || cleared && name == "summary" && !f.can(scope) {
			continue
		}
		if why := m.put(name, f, scope); why != "" {
			return Mapped{Made: m.Made, Unread: name + ": " + why}
		}
	}
	m.Report.Labels = map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(s.Labels)) {
		v, err := s.Labels[name].value(scope)
		if err != nil {
			return Mapped{Made: m.Made, Unread: "labels." + name + ": " + reason(err)}
		}
		m.Report.Labels[name] = v
		m.Made = append(m.Made, Made{"labels." + name, v, s.Labels[name].says()})
	}
	if err := m.Report.complete(now); err != nil {
		return Mapped{Made: m.Made, Unread: err.Error()}
	}
	return m
}

// put takes a field into the report; why says why it could not be had.
func (m *Mapped) put(name string, f *Field, scope *expr.Scope) (why string) {
	v, err := f.value(scope)
	if err != nil {
		return reason(err)
	}
	r := &m.Report
	switch name {
	case "key":
		r.Key = v
	case "severity":
		if r.Severity = Severity(strings.ToLower(v)); !slices.Contains(severities, r.Severity) {
			return fmt.Sprintf("%q is no severity; say with as: what it means", clip(v))
		}
	case "summary":
		r.Summary = v
	case "service":
		r.Service = v
	case "link":
		r.Link = v
	case "at":
		if v == "" {
			break // it names no time: now
		}
		if r.At.Time, err = Moment(v); err != nil {
			return err.Error()
		}
	}
	m.Made = append(m.Made, Made{name, v, f.says()})
	return ""
}

func (f *Field) can(scope *expr.Scope) bool {
	_, err := f.value(scope)
	return err == nil
}

// value is the text of a field.
func (f *Field) value(scope *expr.Scope) (string, error) {
	if f.Of == nil {
		return f.Text.Text(scope)
	}
	v, err := f.text(scope)
	if err != nil && f.Otherwise != nil {
		return *f.Otherwise, nil
	}
	return v, err
}

func (f *Field) text(scope *expr.Scope) (string, error) {
	v, err := f.Of.Eval(scope)
	if err != nil {
		return "", err
	}
	if v == nil {
		return "", fmt.Errorf("%s is null", f.Of.Source)
	}
	text := expr.Say(v)
	if f.Pattern != nil {
		m := f.Pattern.FindStringSubmatch(text)
		if m == nil {
			return "", fmt.Errorf("%q does not match the pattern", clip(text))
		}
		text = m[len(m)-1]
		if len(m) > 1 {
			text = m[1]
		}
	}
	if f.As != nil {
		word, ok := f.As[text]
		if !ok {
			return "", fmt.Errorf("as has no word for %q", clip(text))
		}
		text = word
	}
	return text, nil
}

// says is the part of the map that a field is made by.
func (f *Field) says() string {
	if f.From != "" {
		return f.From
	}
	if f.Of == nil {
		return f.Text.Source
	}
	return "of: " + f.Of.Source
}

var notSet = regexp.MustCompile(`(?:` + regexp.QuoteMeta(expr.ErrUnsure.Error()) + `: )?nothing has set (\S+) yet`)

// reason is an error of an evaluation in the words of a payload: what nothing has set is not there.
func reason(err error) string { return notSet.ReplaceAllString(err.Error(), "there is no $1") }

// Moment reads a time: RFC 3339, or seconds or milliseconds since 1970.
func Moment(text string) (time.Time, error) {
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t, nil
	}
	f, err := strconv.ParseFloat(text, 64)
	if err != nil || f <= 0 || f > 1e15 {
		return time.Time{}, fmt.Errorf("%q is no time; RFC 3339 and seconds since 1970 are understood", clip(text))
	}
	if f > 1e11 {
		f /= 1000
	}
	return time.UnixMicro(int64(f * 1e6)).UTC(), nil
}

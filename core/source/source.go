package source

import (
	"cmp"
	"net/netip"
	"slices"
	"time"

	"urgentis/core/expr"
	"urgentis/core/field"
)

// Source says what the payloads of one source mean. Without Map, what comes by HTTP is our own JSON or CloudEvents; see
// knownAlert.
type Source struct {
	Name string
	// Takes says how reports arrive; "": by HTTP.
	Takes string
	// Reports says what it reports, of the words of Reports; "": alerts.
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
	Map  map[string]*field.Field // by the names of FieldNames, but labels
	// Labels are fields by the names of the labels that they become.
	Labels map[string]*field.Field
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

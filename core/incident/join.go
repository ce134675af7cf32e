package incident

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"time"

	"urgentis/core/expr"
)

// MaxWithin bounds how long after an incident's last alert another one may join it.
const MaxWithin = 7 * 24 * time.Hour

// DefaultWithin is that of the default: alerts of one service.
const DefaultWithin = 15 * time.Minute

// Join says by what alerts are one incident: those of which all values of By are the same, as long as each comes within
// a time after the last one.
type Join struct {
	Name   string
	When   *expr.Program // of which alerts it speaks; nil: of all
	By     []*expr.Program
	Within time.Duration
	// Also are the directions in which services are looked at whose incidents it joins where its own service has none.
	Also []Direction
	// Order says which of several that speak of an alert counts: that with the smallest, and of those the first by
	// name.
	Order int
}

// Key names what an alert has in common with those of its incident; "" where the join does not speak of it, or a value
// cannot be had.
func (j *Join) Key(alert map[string]any) string {
	s := &expr.Scope{Alert: alert}
	if j.When != nil {
		if ok, err := j.When.Bool(s); err != nil || !ok {
			return ""
		}
	}
	h := sha256.New()
	fmt.Fprintf(h, "%q", j.Name)
	for _, p := range j.By {
		v, err := p.Eval(s)
		if err != nil || v == nil || expr.Say(v) == "" {
			return ""
		}
		fmt.Fprintf(h, "%q", expr.Say(v))
	}
	return j.Name + ":" + hex.EncodeToString(h.Sum(nil))[:20]
}

// Keys are what an alert joins by; without Own it joins nothing.
type Keys struct {
	// Own is what its incident is found by, where it opens one.
	Own string
	// Others are what else it is looked for by where there is no such incident, in this order.
	Others []string
	// Within is how long after it another alert may join.
	Within time.Duration
}

// All are all of them, in their order.
func (k Keys) All() []string {
	if k.Own == "" {
		return nil
	}
	return append([]string{k.Own}, k.Others...)
}

// KeysOf are those of the first of several joins that speaks of an alert, in their order; without one, alerts of a
// service are one incident.
func KeysOf(joins []*Join, depends *Depends, alert map[string]any) Keys {
	service, _ := alert["service"].(string)
	for _, j := range joins {
		if own := j.Key(alert); own != "" {
			k := Keys{Own: own, Within: j.Within, Others: j.along(depends, service, alert)}
			if service != "" {
				k.Others = append(k.Others, OfService(service)) // one that was opened by hand
			}
			return k
		}
	}
	if service == "" {
		return Keys{}
	}
	return Keys{Own: OfService(service), Within: DefaultWithin}
}

// OfService is the key of incidents of a service of which no join speaks.
func OfService(service string) string { return "service:" + service }

// along gives the keys that the alert would have if it were one of a service that its own depends on, or that depends
// on it.
func (j *Join) along(depends *Depends, service string, alert map[string]any) []string {
	var out []string
	for _, near := range depends.Near(service, j.Also) {
		there := maps.Clone(alert)
		there["service"] = near
		if key := j.Key(there); key != "" && !slices.Contains(out, key) {
			out = append(out, key)
		}
	}
	return out
}

package incident

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"slices"
	"time"

	"urgentis/core/alert"
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

// Keys are what an alert joins by; without Own it joins nothing but what its own condition was in.
type Keys struct {
	// Own leads to its incident as long as it is open, and for Within after.
	Own string
	// Wide leads to its incident for Within after it was raised, however long it is open; "" for none. So what goes on
	// for weeks does not take in all that its service suffers meanwhile.
	Wide string
	// Others are what else an incident is looked for by where there is none by Own, in this order; Wide is among them.
	Others []string
	// Within is for how long another alert may join.
	Within time.Duration
}

// All are all of them, in their order.
func (k Keys) All() []string {
	if k.Own == "" {
		return nil
	}
	return append([]string{k.Own}, k.Others...)
}

// Set are those that lead to the incident of an alert from then on.
func (k Keys) Set() []string {
	switch {
	case k.Own == "":
		return nil
	case k.Wide == "":
		return []string{k.Own}
	}
	return []string{k.Own, k.Wide}
}

// KeysOf are those of the first of several joins that speaks of an alert, in their order. Without one, alerts of a
// service that tell of the same (by their label signal, or by source and the shape of their keys) are one incident as
// long as one of them is open, and alerts of a service are, as long as each is raised shortly after the last one.
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
	wide := OfService(service)
	return Keys{Own: ofSignal(service, alert), Wide: wide, Others: []string{wide}, Within: DefaultWithin}
}

// ofSignal is the key of what tells of the same in a service.
func ofSignal(service string, a map[string]any) string {
	var what []string
	if labels, _ := a["labels"].(map[string]string); labels["signal"] != "" {
		what = []string{"signal", labels["signal"]}
	} else {
		source, _ := a["source"].(string)
		key, _ := a["key"].(string)
		what = []string{"shape", source, alert.Shape(key)}
	}
	h := sha256.Sum256(fmt.Appendf(nil, "%q", what))
	return OfService(service) + ":" + hex.EncodeToString(h[:10])
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

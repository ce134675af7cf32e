package incident

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
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

// KeyOf is that of the first of several joins that speaks of an alert, in their order, and within which time it joins;
// without one, alerts of a service are one incident. "" is an alert that joins nothing.
func KeyOf(joins []*Join, alert map[string]any) (string, time.Duration) {
	for _, j := range joins {
		if k := j.Key(alert); k != "" {
			return k, j.Within
		}
	}
	if service, _ := alert["service"].(string); service != "" {
		return "service:" + service, DefaultWithin
	}
	return "", 0
}

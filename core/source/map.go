package source

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"urgentis/core/alert"
	"urgentis/core/expr"
)

// items lists what one payload reports.
func (s *Source) items(scope *expr.Scope) ([]any, error) {
	v, err := s.Each.Eval(scope)
	if err != nil {
		return nil, fmt.Errorf("each: %s", reason(err))
	}
	list, ok := v.([]any)
	if !ok {
		list = []any{v} // XML has no list where there is one of a name
	}
	return list, nil
}

// one makes the event of the item that the scope is at.
func (w *walk) one(scope *expr.Scope, x *Item) error {
	for _, judged := range []struct {
		name string
		by   *expr.Program
		is   Event
	}{{"echo", w.s.Echo, Echo{}}, {"ignore", w.s.Ignore, Ignored{}}} {
		yes, err := holds(judged.name, judged.by, scope)
		if err != nil {
			return err
		}
		if yes {
			x.Event = judged.is
			return nil
		}
	}
	v := &values{text: map[string]string{}, labels: map[string]string{}}
	var err error
	if v.cleared, err = holds("cleared", w.s.Cleared, scope); err != nil {
		return err
	}
	x.made = []Made{}
	for _, name := range w.kind.names {
		if err := w.field(name, scope, v, x); err != nil {
			return fmt.Errorf("%s: %s", name, reason(err))
		}
	}
	for _, name := range slices.Sorted(maps.Keys(w.s.Labels)) {
		f := w.s.Labels[name]
		if v.labels[name], err = f.Text(scope); err != nil {
			return fmt.Errorf("labels.%s: %s", name, reason(err))
		}
		x.made = append(x.made, Made{"labels." + name, v.labels[name], f.Says()})
	}
	x.Event, x.ID = w.kind.made(v)
	return nil
}

// holds tells whether a condition of a source holds; one that it has not does not.
func holds(name string, by *expr.Program, scope *expr.Scope) (bool, error) {
	if by == nil {
		return false, nil
	}
	yes, err := by.Bool(scope)
	if err != nil {
		return false, fmt.Errorf("%s: %s", name, reason(err))
	}
	return yes, nil
}

// field has one field, where there is a way to it.
func (w *walk) field(name string, scope *expr.Scope, v *values, x *Item) error {
	f := w.s.Map[name]
	if name == "severity" && v.cleared {
		v.text[name] = string(alert.Cleared)
		x.made = append(x.made, Made{name, string(alert.Cleared), "cleared: " + w.s.Cleared.Source})
		return nil
	}
	if f == nil {
		return nil
	}
	text, err := f.Text(scope)
	switch {
	case err != nil && name == "summary" && v.cleared:
		return nil // what is over needs no words
	case err != nil:
		return err
	case name == "severity":
		if text = strings.ToLower(text); alert.Worth(text) < 0 {
			return fmt.Errorf("%q is no severity; say with as: what it means", alert.Clip(text))
		}
	case name == "at" && text != "": // what names no time means now
		at, err := Moment(text)
		if err != nil {
			return err
		}
		v.at = alert.SaidAt(at)
	}
	v.text[name] = text
	x.made = append(x.made, Made{name, text, f.Says()})
	return nil
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
		return time.Time{}, fmt.Errorf("%q is no time; RFC 3339 and seconds since 1970 are understood",
			alert.Clip(text))
	}
	if f > 1e11 {
		f /= 1000
	}
	return time.UnixMicro(int64(f * 1e6)).UTC(), nil
}

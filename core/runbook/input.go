package runbook

import (
	"fmt"
	"slices"
	"strings"

	"urgentis/core/doc"
	"urgentis/core/expr"
	"urgentis/core/reading"
)

// MaxInput bounds the text of one input, in bytes.
const MaxInput = 8 << 10

// Accept brings a given value to the input's type and bounds, or says why it is refused, beginning with its name.
func (in Input) Accept(v any) (any, error) {
	out, err := reading.Convert(v, in.Type)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", in.Name, err)
	}
	if err := reading.Keepable(out); err != nil {
		return nil, fmt.Errorf("%s: %w", in.Name, err)
	}
	switch x := out.(type) {
	case string:
		if len(x) > MaxInput {
			return nil, fmt.Errorf("%s: the text has %d bytes, %d are allowed", in.Name, len(x), MaxInput)
		}
		if in.Pattern != nil && !in.Pattern.MatchString(x) {
			return nil, fmt.Errorf("%s: %q does not match the pattern %s", in.Name, clip(x), in.Pattern)
		}
		if len(in.Choices) > 0 && !slices.Contains(in.Choices, x) {
			return nil, fmt.Errorf("%s: %q is none of %s", in.Name, clip(x), strings.Join(in.Choices, ", "))
		}
	case int64:
		if err := in.bounds(float64(x)); err != nil {
			return nil, err
		}
	case float64:
		if err := in.bounds(x); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (in Input) bounds(f float64) error {
	if in.Min != nil && f < *in.Min {
		return fmt.Errorf("%s: %s is below %s", in.Name, expr.Say(f), expr.Say(*in.Min))
	}
	if in.Max != nil && f > *in.Max {
		return fmt.Errorf("%s: %s is above %s", in.Name, expr.Say(f), expr.Say(*in.Max))
	}
	return nil
}

func clip(s string) string {
	if r := []rune(s); len(r) > 120 {
		return string(r[:119]) + "…"
	}
	return s
}

// AcceptAll checks the values a run is to begin with and adds the defaults.
func (b *Book) AcceptAll(given map[string]any) (map[string]any, error) {
	return accept(b.Inputs, given, "input")
}

// AcceptFields checks what somebody filled in, and adds what is suggested for the rest.
func (q *Question) AcceptFields(given map[string]any) (map[string]any, error) {
	return accept(q.Fields, given, "field")
}

func accept(wanted []Input, given map[string]any, what string) (map[string]any, error) {
	out := map[string]any{}
	for _, in := range wanted {
		v, ok := given[in.Name]
		if !ok {
			if in.Default == nil {
				return nil, fmt.Errorf("%s %s is missing", what, in.Name)
			}
			out[in.Name] = in.Default
			continue
		}
		a, err := in.Accept(v)
		if err != nil {
			return nil, fmt.Errorf("%s %w", what, err)
		}
		out[in.Name] = a
	}
	for k := range given {
		if _, ok := out[k]; !ok {
			names := make([]string, len(wanted))
			for i, in := range wanted {
				names[i] = in.Name
			}
			f := Finding{Message: fmt.Sprintf("there is no %s %s", what, clip(k)), Meant: doc.Nearest(k, names)}
			return nil, fmt.Errorf("%s", f.Sentence())
		}
	}
	return out, nil
}

// InputsFor gives the inputs that the first start whose condition holds for an alert renders; nil where none does.
func (b *Book) InputsFor(alert map[string]any) map[string]any {
	sc := &expr.Scope{Alert: alert}
	for _, st := range b.Starts {
		if st.Alert == nil {
			continue
		}
		if ok, err := st.Alert.Bool(sc); err != nil || !ok {
			continue
		}
		given := map[string]any{}
		for name, t := range st.Inputs {
			if v, err := t.Value(sc); err == nil {
				given[name] = v
			}
		}
		return given
	}
	return nil
}

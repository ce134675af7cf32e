package reading

import (
	"errors"
	"fmt"
	"slices"
	"sort"
	"strconv"
	"strings"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"golang.org/x/text/language"
	"golang.org/x/text/message"

	"urgentis/core/expr"
)

// Difference is one place in which a value is not as it should be.
type Difference struct {
	Target string `json:"target,omitempty"`
	At     string `json:"at"` // where in the value, such as /servers/0
	Says   string `json:"says"`
}

// maxDifferences bounds how many are kept of one value.
const maxDifferences = 50

// Schema is a compiled JSON Schema (https://json-schema.org, draft 2020-12 unless it says otherwise).
type Schema struct{ s *jsonschema.Schema }

type noLoader struct{}

func (noLoader) Load(url string) (any, error) {
	return nil, fmt.Errorf("a schema is whole in itself; %s is not fetched", url)
}

// CompileSchema compiles a schema. References outside of it are refused.
func CompileSchema(doc any) (*Schema, error) {
	c := jsonschema.NewCompiler()
	c.UseLoader(noLoader{})
	if err := c.AddResource("urgentis:schema", doc); err != nil {
		return nil, err
	}
	s, err := c.Compile("urgentis:schema")
	if err != nil {
		return nil, fmt.Errorf("this is not a JSON Schema: %s", firstLine(err.Error()))
	}
	return &Schema{s}, nil
}

func firstLine(s string) string {
	lines := strings.Split(s, "\n")
	return strings.TrimSpace(strings.TrimPrefix(lines[len(lines)-1], "- "))
}

// Differences tells where a value does not fit the schema; none: it fits.
func (s *Schema) Differences(v any) []Difference {
	err := s.s.Validate(plainValue(v))
	if err == nil {
		return nil
	}
	var ve *jsonschema.ValidationError
	if !errors.As(err, &ve) {
		return []Difference{{At: "/", Says: err.Error()}}
	}
	var out []Difference
	p := message.NewPrinter(language.English)
	var add func(e *jsonschema.ValidationError)
	add = func(e *jsonschema.ValidationError) {
		if len(e.Causes) == 0 && len(out) < maxDifferences {
			out = append(
				out,
				Difference{At: "/" + strings.Join(e.InstanceLocation, "/"), Says: e.ErrorKind.LocalizedString(p)},
			)
		}
		for _, c := range e.Causes {
			add(c)
		}
	}
	add(ve)
	return out
}

// plainValue gives a value in the types that the schema library takes.
func plainValue(v any) any {
	switch x := v.(type) {
	case int64:
		return int(x)
	case []any:
		out := make([]any, len(x))
		for i := range x {
			out[i] = plainValue(x[i])
		}
		return out
	case map[string]any:
		out := make(map[string]any, len(x))
		for k := range x {
			out[k] = plainValue(x[k])
		}
		return out
	}
	return v
}

// How says how a value must agree with another.
type How struct {
	Subset   bool `json:"subset,omitempty"`    // it may have more than what is wanted
	AnyOrder bool `json:"any_order,omitempty"` // the order of lists does not count
}

// Compare tells where a value differs from the wanted one; none: it agrees.
func Compare(want, got any, how How) []Difference {
	var out []Difference
	how.compare("", wide(want), wide(got), &out)
	return out
}

func (h How) compare(at string, want, got any, out *[]Difference) {
	if len(*out) >= maxDifferences {
		return
	}
	say := func(at, format string, args ...any) {
		if at == "" {
			at = "/"
		}
		*out = append(*out, Difference{At: at, Says: fmt.Sprintf(format, args...)})
	}
	switch w := want.(type) {
	case map[string]any:
		g, ok := got.(map[string]any)
		if !ok {
			say(at, "is %s, expected an object", quote(got))
			return
		}
		for _, k := range sorted(w) {
			v, ok := g[k]
			if !ok {
				say(at+"/"+k, "is missing, expected %s", quote(w[k]))
				continue
			}
			h.compare(at+"/"+k, w[k], v, out)
		}
		if !h.Subset {
			for _, k := range sorted(g) {
				if _, ok := w[k]; !ok {
					say(at+"/"+k, "is %s, and not expected", quote(g[k]))
				}
			}
		}
	case []any:
		g, ok := got.([]any)
		if !ok {
			say(at, "is %s, expected a list", quote(got))
			return
		}
		if h.AnyOrder || h.Subset {
			h.asSets(at, w, g, say)
			return
		}
		for i := range max(len(w), len(g)) {
			place := at + "/" + strconv.Itoa(i)
			switch {
			case i >= len(g):
				say(place, "is missing, expected %s", quote(w[i]))
			case i >= len(w):
				say(place, "is %s, and not expected", quote(g[i]))
			default:
				h.compare(place, w[i], g[i], out)
			}
		}
	default:
		if expr.Say(want) != expr.Say(got) {
			say(at, "is %s, expected %s", quote(got), quote(want))
		}
	}
}

// asSets compares lists whose order does not count. Each wanted item takes one that agrees with it.
func (h How) asSets(at string, want, got []any, say func(string, string, ...any)) {
	left := slices.Clone(got)
	for _, w := range want {
		i := slices.IndexFunc(left, func(g any) bool {
			var d []Difference
			h.compare("", w, g, &d)
			return len(d) == 0
		})
		if i < 0 {
			say(at, "lacks %s", quote(w))
			continue
		}
		left = slices.Delete(left, i, i+1)
	}
	if !h.Subset {
		for _, g := range left {
			say(at, "has %s, which is not expected", quote(g))
		}
	}
}

func sorted(m map[string]any) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}

package estate

import (
	"cmp"
	"fmt"
	"maps"
	"slices"

	"github.com/goccy/go-yaml"
)

// What a step of a plan does.
const (
	Added   = "added"
	Changed = "changed"
	Removed = "removed"
	Moved   = "moved" // it says the same, and is kept elsewhere from then on
	Same    = "same"
)

// Have is a document that is there.
type Have struct {
	Kind   Kind
	Name   string
	Text   string
	Digest string
	Number int
	Origin string // where it is kept as text
}

// Step is what a push does about one document.
type Step struct {
	Kind Kind   `json:"kind"`
	Name string `json:"name"`
	What string `json:"what"`
	// Fields tells what is altered, one line each; a change of the text that alters none is of its form alone.
	Fields []string `json:"fields,omitempty"`
	// Was and Is are the digests of what is there and of what is wanted: what a plan is known by.
	Was string `json:"was,omitempty"`
	Is  string `json:"is,omitempty"`
	// KeptAt is the other origin that it is taken from; "" without one.
	KeptAt string `json:"kept_at,omitempty"`
	// Document is what is wanted; nil for one that is removed.
	Document *Document `json:"-"`
}

// Plan compares what is there with what is wanted: what must be added, changed and, with prune, removed, in an order
// that does not depend on theirs. What is wanted is kept at an origin; where that is "", what says the same stays where
// it is kept. What is there and not wanted stays without prune. It is pure.
func Plan(have []Have, want []*Document, origin string, prune bool) []Step {
	there := make(map[string]Have, len(have))
	for _, h := range have {
		there[id(h.Kind, h.Name)] = h
	}
	var out []Step
	for _, d := range want {
		s := Step{Kind: d.Kind, Name: d.Name, What: Added, Is: d.Digest, Document: d}
		if h, ok := there[id(d.Kind, d.Name)]; ok {
			delete(there, id(d.Kind, d.Name))
			s.Was = h.Digest
			if h.Origin != origin {
				s.KeptAt = h.Origin
			}
			switch {
			case h.Digest != d.Digest:
				s.What, s.Fields = Changed, Compare(h.Text, d.Text)
			case h.Origin != origin && origin != "":
				s.What = Moved
			default:
				s.What = Same
			}
		}
		out = append(out, s)
	}
	if prune {
		for _, h := range there {
			out = append(out, Step{Kind: h.Kind, Name: h.Name, What: Removed, Was: h.Digest})
		}
	}
	slices.SortFunc(
		out,
		func(a, b Step) int { return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Name, b.Name)) },
	)
	return out
}

// Nothing reports whether a plan has nothing to do.
func Nothing(steps []Step) bool {
	return !slices.ContainsFunc(steps, func(s Step) bool { return s.What != Same })
}

func id(k Kind, name string) string { return string(k) + "/" + name }

// maxFields bounds how many altered fields of one document are told, maxValue how much of a value, in characters, and
// beforeIt how much of that stands before the first that differs.
const (
	maxFields = 50
	maxValue  = 60
	beforeIt  = 20
)

// Compare tells which fields of two sound documents differ, one line each. They are compared whole, and told in part.
func Compare(older, newer string) []string {
	a, b := map[string]string{}, map[string]string{}
	leaves("", tree(older), a)
	leaves("", tree(newer), b)
	var out []string
	all := maps.Clone(a)
	maps.Copy(all, b)
	for _, k := range slices.Sorted(maps.Keys(all)) {
		was, before := a[k]
		is, now := b[k]
		switch {
		case !before:
			out = append(out, fmt.Sprintf("%s: %s, new", k, excerpt(is, 0)))
		case !now:
			out = append(out, fmt.Sprintf("%s: gone, was %s", k, excerpt(was, 0)))
		case was != is:
			from := differFrom(is, was)
			out = append(out, fmt.Sprintf("%s: %s, was %s", k, excerpt(is, from), excerpt(was, from)))
		}
	}
	if more := len(out) - maxFields; more > 0 {
		out = append(out[:maxFields], fmt.Sprintf("and %d more", more))
	}
	return out
}

// differFrom is where two texts begin to differ, in characters.
func differFrom(a, b string) int {
	x, y := []rune(a), []rune(b)
	n := 0
	for n < len(x) && n < len(y) && x[n] == y[n] {
		n++
	}
	return n
}

// excerpt is a value as it is told: around the character that counts where it is too long.
func excerpt(text string, from int) string {
	r := []rune(text)
	if len(r) <= maxValue {
		return text
	}
	out := ""
	if from > maxValue-beforeIt {
		r, out = r[min(from-beforeIt, len(r)-beforeIt):], "…"
	}
	if len(r) > maxValue {
		return out + string(r[:maxValue]) + "…"
	}
	return out + string(r)
}

func tree(text string) any {
	var v any
	if err := yaml.Unmarshal([]byte(text), &v); err != nil {
		return nil // it was sound when it was kept
	}
	return v
}

// leaves gives each value of a tree under its path.
func leaves(path string, v any, out map[string]string) {
	switch x := v.(type) {
	case map[string]any:
		if len(x) == 0 {
			out[path] = "{}"
		}
		for k, item := range x {
			leaves(join(path, k), item, out)
		}
	case []any:
		if len(x) == 0 {
			out[path] = "[]"
		}
		for i, item := range x {
			leaves(fmt.Sprintf("%s[%d]", path, i+1), item, out)
		}
	case string:
		out[path] = fmt.Sprintf("%q", x)
	default:
		out[path] = fmt.Sprint(x)
	}
}

func join(path, key string) string {
	if path == "" {
		return key
	}
	return path + "." + key
}

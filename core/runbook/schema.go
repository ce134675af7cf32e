package runbook

import (
	"encoding/json"
	"slices"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/expr"
	"urgentis/core/reading"
	"urgentis/core/trigger"
)

// Schema is the JSON Schema of the language, for editors. The keys are those that the decoder itself knows:
// it is asked, so that the two cannot part.
func Schema() []byte {
	keys := probed()
	obj := func(of []string, required ...string) map[string]any {
		props := map[string]any{}
		for _, k := range of {
			props[k] = map[string]any{"$ref": "#/$defs/any"}
			if d, ok := keyKinds[k]; ok {
				props[k] = d
			}
		}
		out := map[string]any{"type": "object", "properties": props, "additionalProperties": false}
		if len(required) > 0 {
			out["required"] = required
		}
		return out
	}
	steps := []any{}
	for _, v := range Verbs {
		of := append([]string{string(v)}, keys["a "+string(v)]...)
		o := obj(of, string(v))
		o["title"] = "a " + string(v)
		if v == Close {
			o["properties"].(map[string]any)[string(v)] = map[string]any{"enum": Outcomes}
		}
		steps = append(steps, o)
	}
	root := obj(keys["a runbook"], "urgentis", "name", "title", "owner", "service", "steps")
	props := root["properties"].(map[string]any)
	props["urgentis"] = map[string]any{"const": Header}
	props["parts"] = map[string]any{"type": "object", "additionalProperties": obj(keys["a part"], "steps")}
	root["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	root["title"] = "a runbook"
	types := make([]string, len(expr.Types))
	for i, t := range expr.Types {
		types[i] = string(t)
	}
	root["$defs"] = map[string]any{
		"any":   map[string]any{},
		"steps": map[string]any{"type": "array", "items": map[string]any{"$ref": "#/$defs/step"}},
		"step":  map[string]any{"anyOf": steps},
		"branch": map[string]any{
			"anyOf": []any{
				map[string]any{"enum": []string{GoOn, Stop, UndoWord, HandOverWord}},
				map[string]any{"$ref": "#/$defs/steps"},
			},
		},
		"span": map[string]any{
			"type":        "string",
			"pattern":     `^([0-9]+d)?([0-9.]+(h|m|s|ms))*$`,
			"description": "a time such as 30s, 5m, 2h or 1d",
		},
		"gate": obj(keys["gate"]), "again": obj(keys["again"]), "http": obj(keys["http"]), "sql": obj(keys["sql"]),
		"start":  start(obj(keys["a start"])),
		"starts": map[string]any{"type": "object", "additionalProperties": refTo("start")},
		"hours":  hours(obj(keys["hours"])),
		"inputs": map[string]any{"type": "object", "additionalProperties": obj(keys["input "])},
		"read":   map[string]any{"type": "object", "additionalProperties": obj(keys["reading "])},
		"type":   map[string]any{"enum": types},
	}
	b, err := json.MarshalIndent(root, "", " ")
	if err != nil {
		panic(err) // the structure above is all ours
	}
	return append(b, '\n')
}

// start wants one occasion of a start.
func start(obj map[string]any) map[string]any {
	var one []any
	for _, k := range trigger.Occasions {
		one = append(one, map[string]any{"required": []string{k}})
	}
	obj["oneOf"] = one
	obj["properties"].(map[string]any)["hours"] = refTo("hours")
	return obj
}

// hours are either inside or outside of a calendar's.
func hours(obj map[string]any) map[string]any {
	obj["oneOf"] = []any{
		map[string]any{"required": []string{"inside"}}, map[string]any{"required": []string{"outside"}},
	}
	return obj
}

func refTo(name string) map[string]any { return map[string]any{"$ref": "#/$defs/" + name} }

// keyKinds tells what stands under a key, wherever it is known; of other keys only the name is checked.
var keyKinds = map[string]any{
	"steps": refTo("steps"), "finally": refTo("steps"), "otherwise": refTo("steps"), "between": refTo("steps"),
	"passes": refTo(
		"branch",
	), "fails": refTo("branch"), "unsure": refTo("branch"), "on_error": refTo("branch"), "refused": refTo("branch"),
	"unanswered": refTo("branch"), "if_cleared": refTo("branch"), "if_worse": refTo("branch"),
	"timeout": refTo(
		"span",
	), "within": refTo("span"), "every": refTo("span"), "for": refTo("span"), "steady": refTo("span"),
	"fresh":  refTo("span"),
	"harm":   map[string]any{"type": "string", "maxLength": MaxHarm},
	"costly": map[string]any{"enum": []any{true}},
	"good":   map[string]any{"enum": reading.Goods},
	"saves":  refTo("span"), "give_up_after": refTo("span"),
	"gate": refTo(
		"gate",
	), "again": refTo("again"), "starts": refTo("starts"), "http": refTo("http"), "sql": refTo("sql"),
	"inputs": map[string]any{"type": "object"}, "read": refTo("read"),
	"type": refTo(
		"type",
	), "title": map[string]any{"type": "string"}, "name": map[string]any{}, "run": map[string]any{"type": "array"},
	"tags": map[string]any{"type": "array"},
}

// probed asks the decoder for the keys of everything, by what it calls the mapping.
func probed() map[string][]string {
	d := newDecoder(&Book{})
	d.Probe = map[string][]string{}
	var err error
	if d.cel, err = expr.NewCompiler(d.schema); err != nil {
		panic(err) // an empty schema compiles
	}
	d.decode(nil)
	d.Fields(nil, "a part", d.shared(&sections{}))
	for _, v := range Verbs {
		s := &Step{Verb: v}
		known := d.common(s, "1", 0)
		d.verbKeys(s, known, "1", 0)
		d.Fields(nil, "a "+string(v), known)
	}
	r := d.startReader()
	d.Fields(nil, "a start", r.Keys(&Start{}))
	d.Fields(nil, "hours", map[string]func(ast.Node){"inside": nil, "outside": nil})
	d.gate(nil, "1", 0)
	d.again(nil)
	d.http(nil)
	d.sql(nil)
	d.inputFields(&Input{}, "input ", nil)
	d.readingFields("reading ", nil)
	for k := range d.Probe {
		slices.Sort(d.Probe[k])
	}
	return d.Probe
}

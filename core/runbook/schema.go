package runbook

import (
	"encoding/json"
	"slices"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/expr"
	"urgentis/core/trigger"
)

// Schema is the JSON Schema of the language, for editors. The keys are those that the decoder itself knows:
// it is asked, so that the two cannot part.
func Schema() []byte {
	keys := probed()
	obj := func(table []key, of []string, required ...string) map[string]any {
		props := map[string]any{}
		for _, k := range of {
			if props[k] = kindIn(k, table); props[k] == nil {
				props[k] = refTo("any")
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
		o := obj(stepKeys, of, string(v))
		o["title"] = "a " + string(v)
		if v == Close {
			o["properties"].(map[string]any)[string(v)] = map[string]any{"enum": Outcomes}
		}
		steps = append(steps, o)
	}
	root := obj(wholeKeys, keys["a runbook"], "urgentis", "name", "title", "owner", "service", "steps")
	props := root["properties"].(map[string]any)
	props["parts"] = map[string]any{"type": "object", "additionalProperties": obj(wholeKeys, keys["a part"], "steps")}
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
		"gate": obj(innerKeys, keys["gate"]), "again": obj(innerKeys, keys["again"]),
		"http": obj(innerKeys, keys["http"]), "sql": obj(innerKeys, keys["sql"]),
		"start":  start(obj(startKeys, keys["a start"])),
		"starts": map[string]any{"type": "object", "additionalProperties": refTo("start")},
		"hours":  hours(obj(innerKeys, keys["hours"])),
		"inputs": map[string]any{"type": "object", "additionalProperties": obj(innerKeys, keys["input "])},
		"read":   map[string]any{"type": "object", "additionalProperties": obj(innerKeys, keys["reading "])},
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

// Package expr evaluates the expressions of runbooks (CEL, https://cel.dev) and the
// {{ … }} text around them. Types are known when a runbook is checked; a value that
// rests on missing evidence is an error of kind ErrUnsure, never a guess.
package expr

import (
	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/types"
)

// Type is the type of an input or a reading, by the name that runbooks use.
type Type string

// The types of inputs and readings.
const (
	Text    Type = "text"
	Integer Type = "integer"
	Number  Type = "number"
	Boolean Type = "boolean"
	JSON    Type = "json"
)

// Types lists every type by name.
var Types = []Type{Text, Integer, Number, Boolean, JSON}

func (t Type) cel() *cel.Type {
	switch t {
	case Integer:
		return cel.IntType
	case Number:
		return cel.DoubleType
	case Boolean:
		return cel.BoolType
	case JSON:
		return cel.DynType
	}
	return cel.StringType
}

// Schema says which names one runbook has, so that a misspelt one is found when it is checked.
type Schema struct {
	Inputs   map[string]Type
	Readings map[string]Type
	// Sealed names the readings whose values are kept out of every record.
	Sealed map[string]bool
	Checks []string
	// Answers holds the fields of each question; Calls the results of each call, nil where they are not known.
	Answers, Calls map[string]map[string]Type
}

type fields map[string]*cel.Type

// provider adds the object types of one runbook to the standard ones.
type provider struct {
	types.Provider
	objects map[string]fields
}

func (p provider) FindStructType(name string) (*types.Type, bool) {
	if _, ok := p.objects[name]; ok {
		return types.NewTypeTypeWithParam(types.NewObjectType(name)), true
	}
	return p.Provider.FindStructType(name)
}

func (p provider) FindStructFieldNames(name string) ([]string, bool) {
	if f, ok := p.objects[name]; ok {
		out := make([]string, 0, len(f))
		for k := range f {
			out = append(out, k)
		}
		return out, true
	}
	return p.Provider.FindStructFieldNames(name)
}

func (p provider) FindStructFieldType(name, field string) (*types.FieldType, bool) {
	if f, ok := p.objects[name]; ok {
		t, ok := f[field]
		if !ok {
			return nil, false
		}
		return &types.FieldType{Type: t}, true
	}
	return p.Provider.FindStructFieldType(name, field)
}

// object names one of the object types; the prefix keeps them apart from the variables.
func object(name string) *cel.Type { return cel.ObjectType("urgentis." + name) }

func objects(s Schema) map[string]fields {
	strings := cel.MapType(cel.StringType, cel.StringType)
	out := map[string]fields{
		"alert": {
			"id": cel.StringType, "source": cel.StringType, "key": cel.StringType, "severity": cel.StringType,
			"state": cel.StringType, "summary": cel.StringType, "service": cel.StringType, "link": cel.StringType,
			"labels": strings, "count": cel.IntType, "first_at": cel.TimestampType, "last_at": cel.TimestampType,
			"first_said": cel.TimestampType, "last_said": cel.TimestampType,
		},
		"incident": {"id": cel.StringType, "number": cel.IntType, "title": cel.StringType, "link": cel.StringType},
		"service":  {"name": cel.StringType, "owner": cel.StringType},
		"target": {
			"name":    cel.StringType,
			"address": cel.StringType,
			"labels":  strings,
			"known":   cel.MapType(cel.StringType, cel.DynType),
		},
		"run": {
			"id":         cel.StringType,
			"runbook":    cel.StringType,
			"started_by": cel.StringType,
			"begun_at":   cel.TimestampType,
		},
		"check": {"result": cel.StringType, "passed": cel.BoolType, "differing": cel.ListType(cel.StringType)},
		"error": {"because": cel.StringType, "step": cel.StringType, "title": cel.StringType},
		"alert_now": {
			"state":    cel.StringType,
			"severity": cel.StringType,
			"cleared":  cel.BoolType,
			"worse":    cel.BoolType,
		},
		"sample": {"value": cel.DynType, "target": cel.StringType, "unit": cel.StringType, "at": cel.TimestampType},
		"inputs": {}, "readings": {}, "checks": {}, "answers": {}, "calls": {},
	}
	for n, t := range s.Inputs {
		out["inputs"][n] = t.cel()
	}
	for n, t := range s.Readings {
		out["readings"][n] = cel.OpaqueType(ReadingType, t.cel())
	}
	for _, n := range s.Checks {
		out["checks"][n] = object("check")
	}
	for id, fs := range s.Answers {
		f := fields{"choice": cel.StringType, "by": cel.StringType, "comment": cel.StringType}
		for n, t := range fs {
			f[n] = t.cel()
		}
		out["answer "+id], out["answers"][id] = f, object("answer "+id)
	}
	for id, rs := range s.Calls {
		f := fields{
			"state":   cel.StringType,
			"outcome": cel.StringType,
			"because": cel.StringType,
			"results": cel.MapType(cel.StringType, cel.DynType),
		}
		if rs != nil {
			r := fields{}
			for n, t := range rs {
				r[n] = t.cel()
			}
			out["results "+id], f["results"] = r, object("results "+id)
		}
		out["call "+id], out["calls"][id] = f, object("call "+id)
	}
	named := make(map[string]fields, len(out))
	for n, f := range out {
		named[object(n).TypeName()] = f
	}
	return named
}

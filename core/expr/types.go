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
	Checks   []string
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
		},
		"incident": {"id": cel.StringType, "number": cel.IntType, "title": cel.StringType, "link": cel.StringType},
		"service":  {"name": cel.StringType, "owner": cel.StringType},
		"target":   {"name": cel.StringType, "address": cel.StringType, "labels": strings},
		"run":      {"id": cel.StringType, "runbook": cel.StringType, "started_by": cel.StringType, "begun_at": cel.TimestampType},
		"check":    {"result": cel.StringType, "passed": cel.BoolType},
		"taking":   {"value": cel.DynType, "target": cel.StringType, "unit": cel.StringType, "at": cel.TimestampType},
		"inputs":   {}, "readings": {}, "checks": {},
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
	named := make(map[string]fields, len(out))
	for n, f := range out {
		named[object(n).TypeName()] = f
	}
	return named
}

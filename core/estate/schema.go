package estate

import (
	"encoding/json"
	"slices"
	"time"

	"github.com/goccy/go-yaml/ast"

	"urgentis/core/alert"
	"urgentis/core/calendar"
	"urgentis/core/device"
	"urgentis/core/doc"
	"urgentis/core/field"
	"urgentis/core/incident"
	"urgentis/core/message"
	"urgentis/core/objective"
	"urgentis/core/reading"
	"urgentis/core/runbook"
	"urgentis/core/source"
	"urgentis/core/watch"
	"urgentis/library"
)

// Schema is the JSON Schema of all documents, for editors. The keys are those that the decoders themselves know: they
// are asked, so that the two cannot part.
func Schema() []byte {
	var book map[string]any
	if err := json.Unmarshal(runbook.Schema(), &book); err != nil {
		panic(err) // it is ours
	}
	defs := book["$defs"].(map[string]any)
	delete(book, "$defs")
	delete(book, "$schema")
	defs["runbook"] = book
	addSource(defs)
	addOthers(defs)
	var kinds []any
	for _, k := range Kinds {
		kinds = append(kinds, ref(string(k)))
	}
	root := map[string]any{
		"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "a document", "oneOf": kinds, "$defs": defs,
	}
	b, err := json.MarshalIndent(root, "", " ")
	if err != nil {
		panic(err) // the structure above is all ours
	}
	return append(b, '\n')
}

func ref(name string) map[string]any { return map[string]any{"$ref": "#/$defs/" + name} }

// addSource adds what a source is made of.
func addSource(defs map[string]any) {
	x := &decoder{Text: &doc.Text{Probe: map[string][]string{}}, d: &Document{}}
	x.source(nil)
	x.fieldMap(nil, &source.Source{})
	x.Fields(nil, "a field", x.fields().Keys(&field.Field{}, "a field"))
	defs["field"] = map[string]any{"anyOf": []any{
		map[string]any{"type": []string{"string", "number", "boolean"}},
		object(x.Probe["a field"], nil, "of"),
	}}
	waysOfAll := []string{}
	for _, t := range source.Takes {
		for _, w := range source.WaysOf(t) {
			if !slices.Contains(waysOfAll, w) {
				waysOfAll = append(waysOfAll, w)
			}
		}
	}
	fields := map[string]any{"labels": map[string]any{"type": "object", "additionalProperties": ref("field")}}
	for _, k := range slices.Concat(source.FieldNames, source.DeploymentFields, source.TicketFields) {
		fields[k] = ref("field")
	}
	source := object(x.Probe["a source"], map[string]any{
		"urgentis": map[string]any{"const": "source/1"}, "map": map[string]any{"anyOf": []any{
			object(append([]string{"labels"}, source.FieldNames...), fields, "severity", "summary"),
			object(source.DeploymentFields, fields, "service"), object(source.TicketFields, fields, "ticket"),
		}},
		"reports":      map[string]any{"enum": source.Reports},
		"takes":        map[string]any{"enum": source.Takes},
		"proof":        map[string]any{"type": "array", "items": map[string]any{"enum": waysOfAll}, "minItems": 1},
		"from":         map[string]any{"type": "array", "items": map[string]any{"type": "string"}},
		"zone":         map[string]any{"type": "string"},
		"rate":         map[string]any{"type": "integer", "minimum": 1, "maximum": source.MaxRate},
		"silent_after": ref("span"),
		"tell_back":    object(TellBackWords, map[string]any{"acknowledge": requestSchema(), "close": requestSchema()}),
		"over_after":   ref("span"),
	}, "urgentis", "name")
	source["title"] = "a source"
	defs["source"] = source
}

// object is the schema of a mapping with these keys.
func object(keys []string, kinds map[string]any, required ...string) map[string]any {
	if required == nil {
		required = []string{}
	}
	props := map[string]any{}
	for _, k := range keys {
		if props[k] = kinds[k]; props[k] == nil {
			props[k] = map[string]any{}
		}
	}
	return map[string]any{
		"type": "object", "properties": props, "additionalProperties": false, "required": required,
	}
}

// addOthers adds what triggers, calendars, mutes and joins are made of.
func addOthers(defs map[string]any) {
	texts := map[string]any{"type": "array", "items": map[string]any{"type": "string"}, "minItems": 1}
	for kind, what := range map[Kind]struct {
		decode   func(*decoder, ast.Node)
		said     string
		kinds    map[string]any
		required []string
	}{
		Trigger: {(*decoder).trigger, "a trigger", map[string]any{"steady": ref("span"), "hours": ref("hours")},
			[]string{"runbook"}},
		Calendar: {(*decoder).calendar, "a calendar", map[string]any{"weekly": texts,
			"days": map[string]any{"type": "object", "additionalProperties": map[string]any{"type": "string"}}},
			[]string{"zone", "weekly"}},
		Mute: {(*decoder).mute, "a mute", nil, []string{"when", "from", "until", "because"}},
		Join: {(*decoder).join, "a join", map[string]any{"within": ref("span"), "by": texts, "also": map[string]any{
			"type": "array", "items": map[string]any{"enum": incident.Directions}}}, []string{"by", "within"}},
		Team: {(*decoder).team, "a team", map[string]any{"members": texts, "rota": rotaSchema()}, []string{"members"}},
		Route: {(*decoder).route, "a route", map[string]any{"hours": ref("hours"), "escalate_after": ref("span"),
			"page_after": ref("span"), "tell": texts}, nil},
		Binding: {(*decoder).binding, "a binding", map[string]any{
			"roles":  map[string]any{"type": "object", "additionalProperties": map[string]any{"type": "string"}},
			"inputs": map[string]any{"type": "object"}, "library": map[string]any{"enum": libraryNames()},
			"starts": map[string]any{"type": "object", "additionalProperties": ref("start")},
		}, []string{"library", "service", "owner"}},
		Watch: {(*decoder).watch, "a watch", map[string]any{"every": ref("span"),
			"looks": map[string]any{"type": "array", "items": ref("step"), "minItems": 1, "maxItems": watch.MaxLooks}},
			[]string{"service", "every", "looks"}},
		Objective: {(*decoder).objective, "an objective", objectiveSchema(),
			[]string{"service", "title", "target", "window"}},
		LookBack: {(*decoder).lookBack, "a look back", lookBackSchema(), []string{"service", "title", "looks"}},
		Reader: {(*decoder).reader, "a reader", map[string]any{
			"programs": map[string]any{"type": "object", "additionalProperties": map[string]any{"anyOf": []any{
				map[string]any{"type": "string"}, texts}}},
			"elsewhere": texts,
			"scripts": map[string]any{"type": "array", "items": map[string]any{
				"type": "string", "pattern": digestPattern.String()}},
		}, nil},
		Device:     {(*decoder).device, "a device", deviceSchema(), []string{"ready"}},
		Connection: {(*decoder).connection, "a connection", connectionSchema(), []string{"kind"}},
	} {
		x := &decoder{Text: &doc.Text{Probe: map[string][]string{}}, d: &Document{}}
		what.decode(x, nil)
		kinds := map[string]any{"urgentis": map[string]any{"const": string(kind) + "/1"}}
		for k, v := range what.kinds {
			kinds[k] = v
		}
		o := object(x.Probe[what.said], kinds, append([]string{"urgentis", "name"}, what.required...)...)
		o["title"] = what.said
		if kind == Trigger {
			o["oneOf"] = defs["start"].(map[string]any)["oneOf"]
		}
		defs[string(kind)] = o
	}
}

// lookBackSchema is what a look back is made of.
func lookBackSchema() map[string]any {
	x := &decoder{Text: &doc.Text{Probe: map[string][]string{}}, d: &Document{}}
	x.backSeries(nil)
	return map[string]any{
		"before": ref("span"), "after": ref("span"),
		"looks": map[string]any{"type": "array", "items": ref("step"), "minItems": 1, "maxItems": watch.MaxLooks},
		"series": map[string]any{"type": "object", "additionalProperties": object(x.Probe["a series"],
			map[string]any{"good": map[string]any{"enum": []reading.Good{reading.Low, reading.High}}}, "of")},
		"lines": map[string]any{"type": "array", "items": map[string]any{"type": "string"}},
	}
}

// deviceSchema is what a kind of device is made of.
func deviceSchema() map[string]any {
	x := &decoder{Text: &doc.Text{Probe: map[string][]string{}}, d: &Document{}}
	x.mode("", nil)
	x.more(nil)
	texts := map[string]any{"type": "array", "items": map[string]any{"type": "string"}, "maxItems": device.MaxBefore}
	return map[string]any{
		"before": texts, "leave": texts, "settle": ref("span"),
		"reads": map[string]any{"type": "array", "items": map[string]any{"type": "string"}},
		"more":  object(x.Probe["more"], nil, "seen"),
		"modes": map[string]any{"type": "object", "maxProperties": device.MaxModes,
			"additionalProperties": object(x.Probe["a mode"], nil, "type", "ready")},
	}
}

// objectiveSchema is what an objective is made of.
func objectiveSchema() map[string]any {
	reading := map[string]any{"type": "string"}
	percent := map[string]any{"type": "number", "exclusiveMinimum": 0, "maximum": 100}
	return map[string]any{
		"target": percent, "fresh": ref("span"), "missing": map[string]any{"enum": []string{"unknown", "bad"}},
		"events": object(
			[]string{"good", "all"},
			map[string]any{"good": reading, "all": reading},
			"good",
			"all",
		), "where": map[string]any{"type": "object"},
		"burns": map[string]any{"type": "array", "maxItems": objective.MaxBurns, "items": object(
			[]string{"spends", "in", "severity"}, map[string]any{"spends": percent, "in": ref("span"),
				"severity": map[string]any{"enum": alert.Severities()[1:]}}, "spends", "in")},
		"good_when": reading,
	}
}

// requestSchema is what a request is made of.
func requestSchema() map[string]any {
	x := &decoder{Text: &doc.Text{Probe: map[string][]string{}}, d: &Document{}}
	x.request(nil, "a request", inDesk)
	return object(x.Probe["a request"], map[string]any{"method": map[string]any{"enum": methods}}, "url")
}

// connectionSchema is what a connection is made of.
func connectionSchema() map[string]any {
	x := &decoder{Text: &doc.Text{Probe: map[string][]string{}}, d: &Document{}}
	x.back(nil)
	request := requestSchema()
	return map[string]any{
		"kind": map[string]any{
			"enum": message.KindNames(message.AnyKind),
		}, "back": object(x.Probe["a call-back"], nil, "person", "do", "refers"),
		"open": request, "find": request, "comment": request, "update": request, "resolve": request,
		"follow_up": request,
		"copies": map[string]any{"type": "array", "minItems": 1,
			"items": map[string]any{"enum": incident.Choices()}},
		"links": map[string]any{"enum": []string{message.LinksAct, message.LinksLook}},
		"tls":   map[string]any{"enum": []string{"start", "on", "never"}},
		"over":  map[string]any{"enum": []string{"udp", "tcp", "tls"}},
	}
}

// rotaSchema is what a rota is made of.
func rotaSchema() map[string]any {
	x := &decoder{Text: &doc.Text{Probe: map[string][]string{}}, d: &Document{}}
	x.rota(nil)
	x.turn(nil, time.UTC)
	people := map[string]any{"type": "array", "items": map[string]any{"type": "string"}, "minItems": 1}
	turns := map[string]any{"type": "array", "minItems": 1, "items": object(x.Probe["a turn"],
		map[string]any{"people": people}, "from", "every", "people")}
	kinds := map[string]any{"zone": map[string]any{"type": "string"}}
	x.feed(nil)
	texts := map[string]any{"type": "object", "additionalProperties": map[string]any{"type": "string"}}
	feed := object(x.Probe["a line"], map[string]any{"people": texts}, "feed")
	for _, l := range calendar.LineNames {
		kinds[l] = map[string]any{"anyOf": []any{turns, feed}}
	}
	return object(x.Probe["a rota"], kinds, "zone", calendar.LineNames[0])
}

// libraryNames are the runbooks of the library.
func libraryNames() []any {
	var out []any
	for _, n := range library.Names() {
		out = append(out, n)
	}
	return out
}

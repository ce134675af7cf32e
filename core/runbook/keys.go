package runbook

import (
	"slices"

	"urgentis/core/links"
	"urgentis/core/reading"
)

// key is a key of the language: its name, and what stands under it in the schema; nil: anything, and only the name is
// checked.
type key struct {
	name string
	is   any
}

// The keys of the language, in the order in which they stand in the canonical form; those of a step after its verb. The
// canonical form and the schema are made of these tables, and keys_test.go holds the reader and the documents to them.
var (
	wholeKeys = []key{
		{"urgentis", map[string]any{"const": Header}}, {"name", nil}, {"title", map[string]any{"type": "string"}},
		{"owner", nil}, {"service", nil}, {"tags", map[string]any{"type": "array"}}, {"saves", refTo("span")},
		{"harm", map[string]any{"type": "string", "maxLength": MaxHarm}},
		{"incident_title", map[string]any{"type": "string"}}, {"about", nil},
		{"links", map[string]any{"type": "object", "maxProperties": links.Most}},
		{"starts", refTo("starts")}, {"inputs", refTo("inputs")}, {"limits", nil}, {"parts", nil},
		{"steps", refTo("steps")}, {"if_cleared", refTo("branch")}, {"if_worse", refTo("branch")},
		{"on_error", refTo("branch")}, {"finally", refTo("steps")}, {"results", nil},
	}
	startKeys = []key{
		{"alert", nil}, {"incident", nil}, {"deployment", nil}, {"schedule", nil}, {"zone", nil}, {"missed", nil},
		{"address", nil}, {"on", nil}, {"hours", refTo("hours")}, {"steady", refTo("span")}, {"count", nil},
		{"at_most", nil}, {"inputs", map[string]any{"type": "object"}},
	}
	stepKeys = []key{
		{"id", nil}, {"when", nil}, {"over", nil}, {"where", nil}, {"peers", nil}, {"named", nil}, {"at_once", nil},
		{"tolerate", nil}, {"from", nil}, {"as", nil}, {"words", nil}, {"run", map[string]any{"type": "array"}},
		{"as_data", nil}, {"script", nil}, {"args", nil}, {"interpreter", nil}, {"http", refTo("http")},
		{"job", nil}, {"sql", refTo("sql")}, {"port", nil}, {"name", nil}, {"echo", nil}, {"send", nil},
		{"fetch", nil}, {"attach", nil}, {"dialogue", nil}, {"env", nil}, {"stdin", nil}, {"accept", nil},
		{"timeout", refTo("span")}, {"only_reads", nil}, {"costly", map[string]any{"enum": []any{true}}},
		{"fits", nil}, {"read", refTo("read")}, {"of", nil}, {"retake", nil}, {"until", nil}, {"for", refTo("span")},
		{"again", refTo("again")}, {"that", nil}, {"agrees", nil}, {"proves", nil},
		{"inputs", map[string]any{"type": "object"}}, {"to", nil}, {"text", nil}, {"source", nil}, {"because", nil},
		{"cause", nil},
		{"within", refTo("span")}, {"fields", nil}, {"suggest", nil}, {"still", nil}, {"fresh", refTo("span")},
		{"gate", refTo("gate")}, {"undo", nil},
		{"loses", map[string]any{"type": "string", "maxLength": MaxLoses}}, {"happened", nil}, {"repeatable", nil},
		{"branches", nil},
		{"choices", nil}, {"ask_again", nil},
		{"knowledge", map[string]any{"type": "string", "maxLength": MaxKnowledge}}, {"rounds", nil},
		{"none", nil}, {"unanswered", refTo("branch")},
		{"steps", refTo("steps")}, {"between", refTo("steps")}, {"passes", refTo("branch")},
		{"fails", refTo("branch")}, {"unsure", refTo("branch")}, {"otherwise", refTo("steps")},
		{"on_error", refTo("branch")},
	}
	// innerKeys are those of what stands under other keys, such as gate and again. They have no order of their own.
	innerKeys = []key{
		{"refused", refTo("branch")}, {"unanswered", refTo("branch")}, {"every", refTo("span")},
		{"steady", refTo("span")}, {"for", refTo("span")}, {"within", refTo("span")},
		{"good", map[string]any{"enum": reading.Goods}}, {"type", refTo("type")},
		{"timeout", refTo("span")}, {"run", map[string]any{"type": "array"}},
		{"inputs", map[string]any{"type": "object"}}, {"gate", refTo("gate")}, {"again", refTo("again")},
	}
)

// names are the names of keys.
func names(keys []key) []string {
	out := make([]string, len(keys))
	for i, k := range keys {
		out[i] = k.name
	}
	return out
}

// kindIn tells what stands under a key of one of some tables, the first that has it; nil: anything.
func kindIn(name string, tables ...[]key) any {
	for _, keys := range tables {
		if i := slices.IndexFunc(keys, func(k key) bool { return k.name == name }); i >= 0 {
			return keys[i].is
		}
	}
	return nil
}

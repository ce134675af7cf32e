// Command contents writes the schemas of the record's entries into the API document that it is told: one for each type
// of content in core/incident/content.go, and Entry, which has one of them for each kind.
package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path"
	"reflect"
	"strings"
	"time"

	"urgentis/core/incident"
)

const (
	begin = "    # Entries of the record: written by `make generate` from core/incident/content.go.\n"
	end   = "    # The end of the entries.\n"
)

// main writes the file itself: a shell's redirection would empty it where this does not compile.
func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: contents FILE")
		os.Exit(2)
	}
	if err := into(os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// into replaces what stands between the marks in a file.
func into(file string) error {
	b, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	from, to := bytes.Index(b, []byte(begin)), bytes.Index(b, []byte(end))
	if from < 0 || to < from {
		return fmt.Errorf("%s: the marks of the entries are not there", file)
	}
	out := append(bytes.Clone(b[:from+len(begin)]), schemas()...)
	return os.WriteFile(file, append(out, b[to:]...), 0o644)
}

func schemas() string {
	w := &writer{known: map[reflect.Type]bool{}}
	var kinds strings.Builder
	for _, c := range incident.Contents {
		t := reflect.TypeOf(c)
		name := w.named(t)
		list := make([]string, len(c.Kinds()))
		for i, k := range c.Kinds() {
			list[i] = string(k)
		}
		fmt.Fprintf(&kinds, "        - allOf:\n            - {$ref: '#/components/schemas/EntryHead'}\n"+
			"            - type: object\n              required: [kind]\n              properties:\n"+
			"                kind: {type: string, enum: [%s]}\n"+
			"                content: {$ref: '#/components/schemas/%s'}\n",
			strings.Join(list, ", "), name)
	}
	return "    Entry:\n      x-go-type: RecordEntry\n      oneOf:\n" + kinds.String() + w.String()
}

type writer struct {
	strings.Builder
	known map[reflect.Type]bool
}

// named writes the schema of a struct, unless it stands there, and gives its name.
func (w *writer) named(t reflect.Type) string {
	name := t.Name()
	if !strings.HasSuffix(name, "Content") {
		name = "Record" + name
	}
	if w.known[t] {
		return name
	}
	w.known[t] = true
	var required, fields []string
	w.fields(t, &required, &fields)
	pkg := path.Base(t.PkgPath())
	fmt.Fprintf(w, "    %s:\n      type: object\n      additionalProperties: false\n      x-go-type: %s.%s\n"+
		"      x-go-type-import: {path: %s}\n", name, pkg, t.Name(), t.PkgPath())
	if len(required) > 0 {
		fmt.Fprintf(w, "      required: [%s]\n", strings.Join(required, ", "))
	}
	w.WriteString("      properties:\n")
	for _, f := range fields {
		w.WriteString("        " + f + "\n")
	}
	return name
}

// fields lists the fields of a struct as JSON has them, those of embedded ones too.
func (w *writer) fields(t reflect.Type, required, fields *[]string) {
	for i := range t.NumField() {
		f := t.Field(i)
		tag, rest, _ := strings.Cut(f.Tag.Get("json"), ",")
		switch {
		case f.Anonymous && tag == "":
			w.fields(f.Type, required, fields)
			continue
		case !f.IsExported() || tag == "-":
			continue
		}
		if !strings.Contains(rest, "omit") {
			*required = append(*required, tag)
		}
		*fields = append(*fields, tag+": "+w.schema(f.Type, !strings.Contains(rest, "omit")))
	}
}

var (
	moment = reflect.TypeFor[time.Time]()
	raw    = reflect.TypeFor[json.RawMessage]()
)

// schema is that of a type, on one line. What always stands there may be null where it is a list or a map.
func (w *writer) schema(t reflect.Type, always bool) string {
	null := ""
	if always && (t.Kind() == reflect.Slice || t.Kind() == reflect.Map) {
		null = "nullable: true, "
	}
	switch {
	case t == moment:
		return "{type: string, format: date-time}"
	case t == raw || t.Kind() == reflect.Interface:
		return "{}"
	}
	switch t.Kind() {
	case reflect.Pointer:
		return w.schema(t.Elem(), false)
	case reflect.Bool:
		return "{type: boolean}"
	case reflect.String:
		return "{type: string}"
	case reflect.Int:
		return "{type: integer}"
	case reflect.Int64:
		return "{type: integer, format: int64}"
	case reflect.Float64:
		return "{type: number, format: double}"
	case reflect.Slice:
		return "{type: array, " + null + "items: " + w.schema(t.Elem(), false) + "}"
	case reflect.Map:
		return "{type: object, " + null + "additionalProperties: " + w.schema(t.Elem(), false) + "}"
	case reflect.Struct:
		return "{$ref: '#/components/schemas/" + w.named(t) + "'}"
	}
	panic("no schema is known for " + t.String())
}

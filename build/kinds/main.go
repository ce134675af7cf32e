// Command kinds writes how kinds of entries are shown, and what is done once, as the console reads it, to the
// TypeScript file that it is told.
package main

import (
	"encoding/json"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"

	"urgentis/api"
	"urgentis/core/incident"
)

// main writes the file itself: a shell's redirection would empty it where this does not compile.
func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: kinds FILE")
		os.Exit(2)
	}
	if err := os.WriteFile(os.Args[1], []byte(typescript()), 0o644); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func typescript() string {
	var b strings.Builder
	b.WriteString("// Written by `make generate` from core/incident/kinds.go and api/openapi.yaml.\n\n")
	b.WriteString(
		"export interface About {\n  word: string\n  /** A person is needed from here on. */\n  wanted?: boolean\n" +
			"  /** A person's own word, where the actor is no runbook. */\n  said?: boolean\n}\n\n",
	)
	b.WriteString("export const kinds: Record<string, About> = {\n")
	for _, k := range incident.Kinds {
		about, err := json.Marshal(struct {
			Word   string `json:"word"`
			Wanted bool   `json:"wanted,omitempty"`
			Said   bool   `json:"said,omitempty"`
		}{k.Word, k.Wanted, k.Said})
		if err != nil {
			panic(err) // it is made of words
		}
		fmt.Fprintf(&b, "  %q: %s,\n", k.Kind, about)
	}
	b.WriteString("}\n\n/** What the service does once for an Idempotency-Key (x-once in its API document). */\n")
	b.WriteString("export const doneOnce: string[] = [\n")
	for _, path := range doneOnce() {
		fmt.Fprintf(&b, "  %q,\n", path)
	}
	b.WriteString("]\n")
	return b.String()
}

// doneOnce are the paths to which something is posted that is done once under an identity.
func doneOnce() (out []string) {
	doc, err := openapi3.NewLoader().LoadFromData(api.Document)
	if err != nil {
		panic(err) // the service would not begin with it
	}
	for path, item := range doc.Paths.Map() {
		if item.Post == nil {
			continue
		}
		if once, _ := item.Post.Extensions["x-once"].(bool); once {
			out = append(out, path)
		}
	}
	slices.Sort(out)
	return out
}

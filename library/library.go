// Package library holds the runbooks that ship with the program: their texts, and the cases that they are held to.
package library

import (
	"embed"
	"io/fs"
	"slices"
	"strings"
)

//go:embed *.yaml
var files embed.FS

const cases = ".cases.yaml"

// Names lists the runbooks, by their names.
func Names() []string {
	entries, err := fs.ReadDir(files, ".")
	if err != nil {
		panic(err) // they are built in
	}
	var out []string
	for _, e := range entries {
		if !strings.HasSuffix(e.Name(), cases) {
			out = append(out, strings.TrimSuffix(e.Name(), ".yaml"))
		}
	}
	slices.Sort(out)
	return out
}

// Text is the text of a runbook.
func Text(name string) (string, bool) { return read(name + ".yaml") }

// Cases is the file of a runbook's cases.
func Cases(name string) (string, bool) { return read(name + cases) }

func read(file string) (string, bool) {
	b, err := files.ReadFile(file)
	return string(b), err == nil
}

package incident

import (
	"encoding/json"
	"slices"
	"strings"
)

// Among reports whether an entry is of what was chosen: kinds, or their first words, such as gate.
func (e *Entry) Among(chosen []string) bool {
	first, _, _ := strings.Cut(string(e.Kind), ".")
	return slices.Contains(chosen, first) || slices.Contains(chosen, string(e.Kind))
}

// For reports whether an entry was told to somebody by a word, such as ticket.
func (e *Entry) For(word string) bool {
	var c NoteContent
	return e.Content != nil && json.Unmarshal(e.Content, &c) == nil && slices.Contains(c.To, word)
}

// Choices are what may be chosen of entries.
func Choices() []string {
	var out []string
	for _, k := range Kinds {
		first, _, _ := strings.Cut(string(k.Kind), ".")
		for _, w := range []string{first, string(k.Kind)} {
			if !slices.Contains(out, w) {
				out = append(out, w)
			}
		}
	}
	slices.Sort(out)
	return out
}

package incident

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"urgentis/core/plain"
)

// said is what facts are read from, in the content of any kind of entry.
type said struct {
	Target string `json:"target"`
	Shown  string `json:"shown"`
	// Requests are what a gate would let run.
	Requests []struct {
		Target string `json:"target"`
		Shown  string `json:"shown"`
	} `json:"requests"`
	State    string `json:"state"`
	Exit     *int   `json:"exit"`
	Error    string `json:"error"`
	Readings map[string]struct {
		Value any    `json:"value"`
		Unit  string `json:"unit"`
	} `json:"readings"`
	Missing map[string]string `json:"missing"`
	Result  string            `json:"result"`
	Values  []struct {
		Part string `json:"part"`
		Text string `json:"text"`
	} `json:"values"`
	Unsure  any     `json:"unsure"`
	Output  printed `json:"output"`
	Stderr  printed `json:"stderr"`
	Text    string  `json:"text"`
	Because string  `json:"because"`
	Comment string  `json:"comment"`
	To      any     `json:"to"`
	By      string  `json:"by"`
}

// printed is the head of what was printed.
type printed struct {
	Head string `json:"head"`
}

const (
	// mostFacts, mostFact bound what is told of an entry beside its title; mostPrinted is how many lines of an output.
	mostFacts   = 20
	mostFact    = 300
	mostPrinted = 3
	// mostRequests bounds how many requests of a gate are told.
	mostRequests = 5
)

func (e *Entry) said() (c said, ok bool) {
	return c, e.Content != nil && json.Unmarshal(e.Content, &c) == nil
}

// fine are the states of an attempt that are no failure.
var fine = []string{"", "ok"}

// Failed reports whether an entry tells of something that did not come about as it was meant: a trouble, an attempt
// that failed or of which nobody saw the end, evidence that could not be had, an undo that was left.
func (e *Entry) Failed() bool {
	switch e.Kind {
	case StepTroubled, UndoLeft, LookIncomplete, AttemptLost, RunFailed, DeliveryFailed, Unreached:
		return true
	case ChangeEnded, UndoDone:
		c, ok := e.said()
		return ok && !slices.Contains(fine, c.State)
	case UndoJudged:
		c, ok := e.said()
		return ok && c.Result != "passes"
	}
	return false
}

// Among reports whether an entry is of what was chosen: kinds, or their first words, such as gate. Nothing chosen is
// whatever matters.
func (e *Entry) Among(chosen []string) bool {
	if len(chosen) == 0 {
		return e.Matters()
	}
	first, _, _ := strings.Cut(string(e.Kind), ".")
	return slices.Contains(chosen, first) || slices.Contains(chosen, string(e.Kind))
}

// For reports whether an entry was told to somebody by a word, such as ticket.
func (e *Entry) For(word string) bool {
	c, _ := e.said()
	list, _ := c.To.([]any)
	return slices.Contains(list, any(word))
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

// Word is that of the entry's kind, where it did not fail; at most ten letters.
func (e *Entry) Word() string {
	switch {
	case !e.Failed():
	case e.Kind == ChangeEnded:
		return "failed"
	case e.Kind == UndoDone:
		return "undo fails"
	}
	return e.Kind.About().Word
}

// Facts are what an entry tells beside its title, in one line each: where and with which words, what was read, what was
// missing and why, how it ended, why, and what a person said. What is not there is not told.
func (e *Entry) Facts() []string {
	c, ok := e.said()
	if !ok {
		return nil
	}
	var f facts
	f.add("on %s", c.Target)
	if e.Kind != ChangeEnded && e.Kind != UndoDone || e.Failed() { // it stands where it was begun
		f.add("%s", c.Shown)
	}
	for _, r := range c.Requests[:min(len(c.Requests), mostRequests)] {
		f.add("%s", strings.TrimSpace(r.Target+": "+r.Shown))
	}
	if more := len(c.Requests) - mostRequests; more > 0 {
		f.add("and %s more", fmt.Sprint(more))
	}
	for _, name := range slices.Sorted(maps.Keys(c.Readings)) {
		r := c.Readings[name]
		f.add("%s", strings.TrimSpace(name+" = "+value(r.Value)+" "+r.Unit))
	}
	for _, name := range slices.Sorted(maps.Keys(c.Missing)) {
		f.add("%s", name+" is missing: "+c.Missing[name])
	}
	switch e.Kind {
	case ChangeStill, ChangeSettled, UndoJudged:
		f.add("%s", c.Result)
		fallthrough
	case CheckPasses, CheckFails, CheckUnsure, StepSkipped:
		for _, v := range c.Values {
			f.add("%s", v.Part+" = "+v.Text)
		}
		if c.Unsure != nil && c.Unsure != "" {
			f.add("unsure: %s", value(c.Unsure))
		}
	}
	if e.Failed() {
		f.add("%s", ended(c))
		f.printed(c.Stderr.Head)
		f.printed(c.Output.Head)
	} else if e.Kind == LookTaken && len(c.Readings) == 0 {
		f.printed(c.Output.Head)
	}
	for _, text := range []string{c.Text, c.Because, c.Comment} {
		f.add("%s", text)
	}
	return f
}

// ended tells how an attempt ended that did not end well.
func ended(c said) string {
	var words []string
	if !slices.Contains(fine, c.State) {
		words = append(words, c.State)
	}
	if c.Exit != nil {
		words = append(words, fmt.Sprintf("exit %d", *c.Exit))
	}
	if c.Error != "" {
		words = append(words, c.Error)
	}
	return strings.Join(words, ", ")
}

type facts []string

func (f *facts) add(format, text string) {
	if text == "" || len(*f) == mostFacts {
		return
	}
	line := plain.Line(strings.ReplaceAll(fmt.Sprintf(format, text), "\n", " / "))
	if r := []rune(line); len(r) > mostFact {
		line = string(r[:mostFact-1]) + "…"
	}
	*f = append(*f, line)
}

// printed adds the first lines of what was printed.
func (f *facts) printed(text string) {
	lines := strings.Split(strings.TrimSpace(text), "\n")
	f.add("printed: %s", strings.Join(lines[:min(len(lines), mostPrinted)], "\n"))
}

func value(v any) string {
	if s, ok := v.(string); ok {
		return s
	}
	b, err := json.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	return string(b)
}

package runbook

import "strings"

// way is one way on from a step: steps, or a word where it has none.
type way struct {
	key   string // the branch in the path of its steps; "" for the way straight on
	label string
	steps []*Step
	word  string
	also  []string // the keys of ways that lead to the same end
}

// goesOn reports whether the way leads straight to what comes after the step.
func (w way) goesOn() bool { return w.steps == nil && w.word == GoOn }

func wayOf(key, label string, b Branch) way {
	return way{key: key, label: label, steps: b.Steps, word: b.Word}
}

// trouble is where a way leads that nobody wrote, where an on_error around it takes the trouble.
const trouble = "trouble"

// otherwiseHere is the word that holds for a way of a step that nobody wrote.
func (b *Book) otherwiseHere(s *Step) string {
	takes := func(x Branch) bool { return x.Word != "" || x.Steps != nil }
	if takes(b.OnError) {
		return trouble
	}
	for p := s.Path; p != ""; p = p[:max(0, strings.LastIndexByte(p, '.'))] {
		if st := b.Step(p); st != nil && takes(st.OnError) {
			return trouble
		}
	}
	return HandOverWord
}

// ways lists every way on from a step in the order of the text, those that nobody wrote and that hold all the same
// among them. A step that ends the run has none.
func (b *Book) ways(s *Step) []way {
	var out []way
	unsaid := b.otherwiseHere(s)
	switch {
	case s.Verb == Close || s.Verb == HandOver:
		return nil
	case s.Verb == Check:
		out = []way{
			wayOf("passes", "passes", s.Passes.Or(GoOn)),
			wayOf("fails", "fails", s.Fails.Or(unsaid)),
			wayOf("unsure", "unsure", s.Unsure.Or(unsaid)),
		}
	case s.Ask != nil:
		out = s.Ask.ways()
	case s.Verb == Together:
		for _, b := range s.Branches {
			out = append(out, way{key: "branches." + b.Name, label: b.Name, steps: b.Steps})
		}
	case s.Verb == Each:
		out = append(out, way{key: "do", label: "each", steps: s.Steps})
		if s.Each.Between != nil {
			out = append(out, way{key: "between", label: "between two", steps: s.Each.Between})
		}
	case len(s.Steps) > 0:
		out = append(out, way{key: "do", label: "does", steps: s.Steps})
	default:
		out = append(out, way{word: GoOn})
	}
	if s.Otherwise != nil {
		out = append(out, way{key: "otherwise", label: "otherwise", steps: s.Otherwise})
	}
	if s.OnError.Steps != nil || s.OnError.Word != "" {
		out = append(out, wayOf("on_error", "on error", s.OnError))
	}
	return together(out)
}

func (q *Question) ways() []way {
	var out []way
	for _, c := range q.Choices {
		x := way{key: "choices." + c.Name, label: c.Label, steps: c.Steps}
		if len(c.Steps) == 0 {
			x.steps, x.word = nil, GoOn
		}
		out = append(out, x)
	}
	if len(q.Choices) == 0 {
		out = append(out, way{key: "answered", label: "answered", word: GoOn})
	} else {
		out = append(out, wayOf("none", "none of these", q.None.Or(HandOverWord)))
	}
	return append(out, wayOf("unanswered", "unanswered", q.Unanswered.Or(HandOverWord)))
}

// gateWays lists what follows where the gate of a step is not given its yes.
func (b *Book) gateWays(s *Step) []way {
	unsaid := b.otherwiseHere(s)
	return together([]way{
		wayOf("refused", "refused", s.Gate.Refused.Or(unsaid)),
		wayOf("unanswered", "unanswered", s.Gate.Unanswered.Or(unsaid)),
	})
}

// together makes one of the ways that lead to the same word.
func together(list []way) []way {
	var out []way
	at := map[string]int{}
	for _, w := range list {
		if i, ok := at[w.word]; ok && w.steps == nil {
			out[i].label = strings.TrimPrefix(out[i].label+", "+w.label, ", ")
			out[i].also = append(out[i].also, w.key)
			continue
		}
		if w.steps == nil {
			at[w.word] = len(out)
		}
		out = append(out, w)
	}
	return out
}

// endSays tells in words how a word ends a run of this runbook.
func (b *Book) endSays(word string) string {
	switch word {
	case HandOverWord:
		return "hands over to " + b.OnCall()
	case Stop:
		return "ends as failed"
	case UndoWord:
		return "undoes changes, hands over"
	case trouble:
		return "is in trouble: on error follows"
	}
	return word
}

// BranchLabel names a branch of a step as a reader knows it: the answer rather than its key.
func (b *Book) BranchLabel(s *Step, key string) string {
	ways := b.ways(s)
	if s.Gate != nil {
		ways = append(ways, b.gateWays(s)...)
	}
	for _, w := range ways {
		if w.key == key && w.steps != nil {
			return w.label
		}
	}
	return strings.ReplaceAll(key, "_", " ")
}

// aside is a list that belongs to the whole runbook and not to its path: what follows a trouble, the end, or a turn of
// its alert.
type aside struct {
	name  string
	steps []*Step
	word  string
	then  string // how it goes on after its last step; "" where nothing follows
}

func (b *Book) asides() []aside {
	out := []aside{{"on_error", b.OnError.Steps, b.OnError.Or(HandOverWord).Word, b.endSays(HandOverWord)}}
	for _, x := range []aside{
		{"finally", b.Finally, "", ""},
		{"if_cleared", b.IfCleared.Steps, b.IfCleared.Word, "the run goes on where it was"},
		{"if_worse", b.IfWorse.Steps, b.IfWorse.Word, "the run goes on where it was"},
	} {
		if x.steps != nil || x.word != "" {
			out = append(out, x)
		}
	}
	return out
}

package tell

import (
	"slices"
	"strings"
	"time"

	"urgentis/core/flow"
	"urgentis/core/runbook"
)

// Question is one question of a procedure: what was asked, and what was answered.
type Question struct {
	Title string
	// Answer is the label of what was chosen; "" where it is not answered yet, or was not.
	Answer string
	// By is who answered; "" where it answered itself.
	By string
	At time.Time // of the answer, or of the question
	// Open says that this is where the procedure is now.
	Open bool

	place flow.Place
	id    string
}

// QuestionsOf is how somebody went through the questions of a run until now, the first first. What was gone back over
// is left out.
func QuestionsOf(book *runbook.Book, log []flow.Event) []Question {
	var out []Question
	labels := map[string]map[string]string{}
	for _, e := range log {
		switch b := e.Body.(type) {
		case flow.QuestionRaised:
			if b.Attempt != "" {
				continue // about what became of a change: no part of the procedure
			}
			again := func(a Question) bool { return a.place.String() == e.Place.String() }
			if i := slices.IndexFunc(out, again); i >= 0 {
				out = out[:i]
			}
			a := Question{Title: b.Text, At: e.At, Open: true, place: e.Place, id: b.Question}
			if s, _ := flow.Find(book, e.Place); s != nil {
				a.Title = s.Title
			}
			out, labels[b.Question] = append(out, a), b.Labels
		case flow.QuestionAnswered:
			for i := range out {
				if a := &out[i]; a.id == b.Question {
					a.Open, a.At, a.Answer = false, e.At, LabelOf(b.Choice, labels[b.Question])
					if b.By != flow.Itself {
						a.By = b.By
					}
				}
			}
		case flow.QuestionExpired:
			for i := range out {
				if a := &out[i]; a.id == b.Question {
					a.Open, a.At = false, e.At
				}
			}
		}
	}
	return out
}

// LabelOf is what people read of a choice.
func LabelOf(choice string, labels map[string]string) string {
	switch {
	case labels[choice] != "":
		return labels[choice]
	case choice == "":
		return "answered"
	}
	return strings.NewReplacer("-", " ", "_", " ").Replace(choice)
}

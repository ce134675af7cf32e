package telling

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"urgentis/core/flow"
	"urgentis/core/message"
	"urgentis/core/route"
	"urgentis/core/runbook"
	"urgentis/core/tell"
	"urgentis/internal/act"
	"urgentis/internal/engine"
	"urgentis/internal/store"
)

// compose makes the message of a notice: the facts in the order in which whoever is woken needs them.
func (s *sheet) compose(row *store.Notice, n *route.Notice, inc *store.Incident) (*message.Message, error) {
	m := &message.Message{
		Kind: row.Kind, Urgent: row.Urgent, Subject: row.Text, Link: row.Link, Title: n.Title, Severity: n.Severity,
		Service: n.Service, Incident: n.Incident, Refers: row.Thing, At: row.At,
	}
	kind, id, _ := strings.Cut(row.Thing, "/")
	if m.Urgent && inc != nil {
		if !slices.Contains([]string{"gate", "question", "run"}, kind) {
			m.Refers = fmt.Sprintf("incident/%d", inc.Number)
		}
		m.Choices = []message.Choice{{Name: "take", Label: "Look at it, and take it", Link: m.Link}}
	}
	var err error
	if inc != nil {
		err = s.aboutIncident(m, inc)
	}
	if err != nil {
		return nil, err
	}
	switch kind {
	case "gate":
		err = s.aboutGate(m, id)
	case "question":
		err = s.aboutQuestion(m, id)
	case "run":
		err = s.aboutHandOver(m, id)
	}
	if err != nil {
		// What is wanted is told, whatever else cannot be: somebody must hear of it.
		s.e.Log.Error("tell what somebody needs to know", "thing", row.Thing, "error", err)
		m.Lines = append(m.Lines, message.Line{Name: "Missing", Text: "more could not be told; the page has it"})
	}
	return m.Outward(), nil
}

// Compose makes the message that a notice would be, now, without sending it.
func (e *Teller) Compose(ctx context.Context, n *store.Notice) (*message.Message, error) {
	s := &sheet{e.Sheet(e.Store.In(ctx)), e}
	g := &telling{sheet: s, now: e.Now()}
	if n.Incident != nil {
		var err error
		if g.inc, err = s.Tx().Incident(*n.Incident); err != nil {
			return nil, err
		}
	}
	about, err := g.notice(n)
	if err != nil {
		return nil, err
	}
	return s.compose(n, about, g.inc)
}

// aboutIncident adds what is wrong, how bad, since when, and whom it harms.
func (s *sheet) aboutIncident(m *message.Message, inc *store.Incident) error {
	about := fmt.Sprintf("%d, %s, since %s", inc.Number, inc.Severity, inc.OpenedAt.UTC().Format("15:04 MST"))
	if !strings.Contains(m.Subject, inc.Title) {
		about = inc.Title + " (" + about + ")"
	}
	m.Lines = append(m.Lines, message.Line{Name: "Incident", Text: about})
	service, err := s.Tx().Service(inc.Service)
	if err != nil || service == nil {
		return err
	}
	if service.Harm != "" {
		m.Lines = append(m.Lines, message.Line{Name: "Harm", Text: service.Harm})
	}
	return nil
}

// heard is what is known of a run: its runbook and its log.
func (s *sheet) heard(run string) (*runbook.Book, []flow.Event, error) {
	log, err := s.Tx().Log(run, 0)
	if err != nil {
		return nil, nil, fmt.Errorf("read the log of run %s: %w", run, err)
	}
	book, err := s.e.BookOf(s.Tx().Context(), log)
	return book, log, err
}

// nowCalled tells who a word such as on-call/quayside means now.
func (s *sheet) nowCalled(word string) string { return s.e.NameOf(s.Tx(), word, s.e.Now()) }

// harm puts the words of a runbook about who suffers into the place of its service's.
func harm(m *message.Message, text string) {
	if text == "" {
		return
	}
	for i := range m.Lines {
		if m.Lines[i].Name == "Harm" {
			m.Lines[i].Text = text
			return
		}
	}
	m.Lines = append(m.Lines, message.Line{Name: "Harm", Text: text})
}

func (s *sheet) aboutGate(m *message.Message, id string) error {
	g, err := s.Tx().Gate(id)
	if err != nil {
		return err
	}
	var raised flow.GateRaised
	if err := json.Unmarshal(g.Raised, &raised); err != nil {
		return err
	}
	book, log, err := s.heard(g.Run)
	if err != nil {
		return err
	}
	b, err := tell.BriefOf(book, log, raised, flow.PlaceOf(g.Path), s.e.Now(), s.nowCalled)
	if err != nil {
		return err
	}
	m.Subject, m.Digest = untilWords("Approval needed", raised.Until)+": "+b.Headline.Says(), raised.Digest
	harm(m, b.Harm)
	addBrief(m, b)
	for _, r := range raised.Proposal.Requests[:min(len(raised.Proposal.Requests), mostShown)] {
		m.Lines = append(m.Lines, message.Line{Name: "On " + r.Target.Name, Text: act.Show(r), Fixed: true})
	}
	if more := len(raised.Proposal.Requests) - mostShown; more > 0 {
		m.Lines = append(m.Lines, message.Line{Name: "And", Text: fmt.Sprintf("%d more; the page shows each", more)})
	}
	m.Choices = []message.Choice{{Name: "open", Label: "See exactly what would run, and decide", Link: m.Link}}
	return nil
}

// untilWords says until when something is wanted.
func untilWords(what string, until time.Time) string {
	if until.IsZero() {
		return what
	}
	return what + " until " + until.UTC().Format("15:04 MST")
}

// mostShown bounds how many requests of a change a message shows; the page has them all.
const mostShown = 3

// addBrief adds the trend, and what follows each word.
func addBrief(m *message.Message, b *tell.Brief) {
	for _, g := range b.Grounds {
		text := g.Says()
		if gone := g.Gone(); gone != "" {
			text += "; " + gone
		}
		m.Lines = append(m.Lines, message.Line{Name: "Trend", Text: text})
	}
	for _, a := range b.Answers {
		name := map[string]string{tell.Yes: "After yes", tell.No: "After no"}[a.Word]
		if a.Word == tell.Nobody {
			name = "If nobody answers until " + a.At.UTC().Format("15:04 MST")
		}
		if name != "" && len(a.Says) > 0 {
			m.Lines = append(m.Lines, message.Line{Name: name, Text: a.In()})
		}
	}
}

func (s *sheet) aboutQuestion(m *message.Message, id string) error {
	q, err := s.Tx().Question(id)
	if err != nil {
		return err
	}
	var raised flow.QuestionRaised
	if err := json.Unmarshal(q.Raised, &raised); err != nil {
		return err
	}
	book, log, err := s.heard(q.Run)
	if err != nil {
		return err
	}
	b, err := tell.BriefOfQuestion(book, log, raised, flow.PlaceOf(q.Path), s.e.Now(), s.nowCalled)
	if err != nil {
		return err
	}
	m.Subject = untilWords("Answer needed", raised.Until) + ": " + cmp.Or(raised.Text, q.Title)
	harm(m, b.Harm)
	for _, c := range raised.Choices {
		label := cmp.Or(raised.Labels[c], c)
		text := strings.TrimSpace(label + ". " + b.AnswerTo(c).In())
		m.Lines = append(m.Lines, message.Line{Name: "Answer", Text: text})
	}
	only := &tell.Brief{Grounds: b.Grounds}
	if a := b.AnswerTo(tell.Nobody); a != nil {
		only.Answers = []tell.Answer{*a}
	}
	addBrief(m, only)
	m.Choices = []message.Choice{{Name: "open", Label: "See the evidence, and answer", Link: m.Link}}
	return nil
}

// mostMayHelp is how many runbooks a message suggests.
const mostMayHelp = 2

// mayHelp adds which other runbooks may fit the incident of a run that was handed over, and why.
func (s *sheet) mayHelp(m *message.Message, run, but string) error {
	row, err := s.Tx().Run(run)
	if err != nil || row.Incident == nil {
		return err
	}
	inc, err := s.Tx().Incident(*row.Incident)
	if err != nil {
		return err
	}
	alerts, err := s.Tx().AlertsOf(inc.Number)
	if err != nil {
		return err
	}
	books, err := s.e.CurrentBooks(s.Tx())
	if err != nil {
		return err
	}
	books = slices.DeleteFunc(books, func(b *runbook.Book) bool { return b.Name == but })
	x, err := engine.Suggest(s.Tx(), inc.Service, alerts, books, inc.Number, s.e.Now())
	if err != nil {
		return err
	}
	var words []string
	for _, r := range x.Runbooks[:min(len(x.Runbooks), mostMayHelp)] {
		words = append(words, fmt.Sprintf("%s (%s)", r.Book.Title, strings.Join(r.Reasons, "; ")))
	}
	if len(words) > 0 {
		m.Lines = append(m.Lines, message.Line{Name: "Suggested", Text: strings.Join(words, "; ")})
	}
	return nil
}

// aboutHandOver adds what was done and what was seen last, so that whoever is called does not begin anew.
func (s *sheet) aboutHandOver(m *message.Message, run string) error {
	book, log, err := s.heard(run)
	if err != nil {
		return err
	}
	b, err := tell.BriefOfHandOver(book, log)
	if err != nil || b == nil {
		return err
	}
	harm(m, b.Harm)
	changed := "nothing"
	if len(b.Changed) > 0 {
		var words []string
		for _, w := range b.Changed {
			words = append(words, fmt.Sprintf("%s (%s)", w.Title, w.Fate))
		}
		changed = strings.Join(words, ", ")
	}
	m.Lines = append(m.Lines, message.Line{Name: "Changed so far", Text: changed})
	addBrief(m, &tell.Brief{Grounds: b.Grounds})
	if err := s.mayHelp(m, run, book.Name); err != nil {
		s.e.Log.Warn("suggest what may help", "run", run, "error", err) // whoever is called is told all the same
	}
	m.Choices = []message.Choice{{Name: "open", Label: "See all of it, and take it", Link: m.Link}}
	return nil
}

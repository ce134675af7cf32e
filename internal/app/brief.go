package app

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"urgentis/core/access"
	"urgentis/core/expr"
	"urgentis/core/flow"
	"urgentis/core/incident"
	"urgentis/core/route"
	"urgentis/core/runbook"
	"urgentis/core/task"
	"urgentis/core/tell"
	"urgentis/internal/act"
	"urgentis/internal/store"
)

// Brief is what somebody needs to decide a gate, in the order in which it is shown.
type Brief struct {
	*tell.Brief
	Harm    string
	Service string
	History incident.History
	Parts   []Part
	Facts   []Fact
	// Later is who is called until it expires, if nobody answers.
	Later []route.Later
	// Missing says what is still wanted before the change may begin, beside a yes.
	Missing []string
	// Approved are those who said yes so far.
	Approved []string
}

// Part is a part of what would run, as people read it: the words once, and what differs by target as columns.
type Part struct {
	Title, Shown, Undo string
	Targets            []string
	Columns            []string
	Rows               [][]string // a row for each target, in their order
	// Where is what is known of each target and bound to, in the columns WhereColumns.
	WhereColumns []string
	Where        [][]string
	Bound        []Bound // everything else that the approval is bound to, the same for all
	NoUndo       bool
	// Cannot is set where the author says that it cannot be undone; Loses is what is lost by it, "" where not stated.
	Cannot bool
	Loses  string
}

// Bound is one value that an approval is bound to.
type Bound struct{ Name, Value string }

// Fact is a reading with those targets that gave the same value.
type Fact struct {
	Reading, Value, Unit string
	Targets              []string
	At                   time.Time // of the oldest taking
	Stale                bool
}

// staleAfter is how old evidence may be before it is marked.
const staleAfter = 10 * time.Minute

func (a *App) brief(ctx context.Context, who *access.Principal, g *Gate, log []flow.Event) (*Brief, error) {
	book, err := a.engine.BookOf(ctx, log)
	if err != nil {
		return nil, err
	}
	b, err := tell.BriefOf(book, log, g.Raised, flow.PlaceOf(g.Path), a.Now(), a.nowCalled(ctx, who))
	if err != nil {
		// What would run is shown whatever else cannot be told: somebody waits to decide it.
		a.log.Error("tell what somebody needs to decide a gate", "gate", g.ID, "error", err)
		unknown := []string{"It could not be foreseen; the log of the service says why."}
		b = &tell.Brief{Headline: runbook.Headline{What: g.Title}, Answers: []tell.Answer{
			{Word: tell.Yes, Says: unknown}, {Word: tell.No, Says: unknown},
			{Word: tell.Nobody, Says: unknown, At: g.Until},
		}}
		if b.Parts, err = tell.Table(g.Raised.Proposal); err != nil {
			return nil, fmt.Errorf("gate %s: %w", g.ID, err)
		}
	}
	tx := a.store.In(ctx)
	if err := addTaken(tx, g.ID, b.Grounds); err != nil {
		return nil, err
	}
	out, err := a.briefOn(tx, book, b, g.Path, g.Evidence)
	if err != nil {
		return nil, err
	}
	if out.Later, err = a.later(tx, "gate/"+g.ID, g.Until); err != nil {
		return nil, err
	}
	if g.State != "open" {
		for i := range b.Grounds {
			b.Grounds[i].Held = nil // what became of the reason since then is another story
		}
	}
	out.approvals(g, log)
	return out, nil
}

func (a *App) questionBrief(
	ctx context.Context, who *access.Principal, q *Question, log []flow.Event,
) (*Brief, error) {
	book, err := a.engine.BookOf(ctx, log)
	if err != nil {
		return nil, err
	}
	b, err := tell.BriefOfQuestion(book, log, q.Raised, flow.PlaceOf(q.Path), a.Now(), a.nowCalled(ctx, who))
	if err != nil {
		return nil, fmt.Errorf("question %s: %w", q.ID, err)
	}
	if b.Headline.What == "" {
		b.Headline.What = q.Title
	}
	tx := a.store.In(ctx)
	out, err := a.briefOn(tx, book, b, q.Path, q.Evidence)
	if err == nil {
		out.Later, err = a.later(tx, "question/"+q.ID, q.Until)
	}
	return out, err
}

// later tells who is called for one thing until a time, if nobody takes it.
func (a *App) later(tx *store.Tx, thing string, until time.Time) ([]route.Later, error) {
	list, err := tx.OpenNotices(0, thing)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	later, err := a.teller.Later(tx, list[:1], until)
	if err != nil {
		return nil, err
	}
	return later[0], nil
}

// nowCalled tells who a word such as on-call/quayside means now, by name; to whom it means it says you.
func (a *App) nowCalled(ctx context.Context, who *access.Principal) func(word string) string {
	tx, at := a.store.In(ctx), a.Now()
	return func(word string) string {
		name, _, _ := strings.Cut(a.engine.NameOf(tx, word, at), ", ")
		if name == who.Behind() {
			return "you"
		}
		return name
	}
}

// briefOn adds what only the service knows: whom it harms, how it went before, and the change as people read it.
func (a *App) briefOn(
	tx *store.Tx, book *runbook.Book, b *tell.Brief, path string, evidence []Evidence,
) (*Brief, error) {
	out := &Brief{Brief: b, Harm: b.Harm, Service: book.Service}
	var err error
	if out.Harm == "" {
		if out.Harm, err = harmOf(tx, book.Service); err != nil {
			return nil, err
		}
	}
	if b.Step != "" {
		if out.History, err = tx.WentBefore(b.Runbook, b.Step, book.Service); err != nil {
			return nil, err
		}
	}
	for _, p := range b.Parts {
		part, err := partOf(p)
		if err != nil {
			return nil, err
		}
		place := p.Step
		if place == "" {
			place = path
		}
		step, _ := flow.Find(book, flow.PlaceOf(place))
		if step != nil {
			part.Title, part.Cannot, part.Loses = step.Title, step.NoUndo, step.Loses
		}
		out.Parts = append(out.Parts, part.withReadings(step, evidence, b.Grounds))
	}
	out.Facts = together(evidence, a.Now())
	return out, nil
}

// harmOf is what a service says of who suffers; "" where it does not.
func harmOf(tx *store.Tx, service string) (string, error) {
	s, err := tx.Service(service)
	if err != nil || s == nil {
		return "", err
	}
	return s.Harm, nil
}

// harmOfIncident is what a person says of who suffers, else the newest runbook that worked on an incident, else its
// service.
func (a *App) harmOfIncident(ctx context.Context, tx *store.Tx, i *Incident) (string, error) {
	if i.Incident.Harm != "" {
		return i.Incident.Harm, nil
	}
	for _, r := range slices.Backward(i.Runs) {
		book, err := a.engine.Book(ctx, r.Revision)
		if err == nil && book.Harm != "" {
			return book.Harm, nil
		}
	}
	return harmOf(tx, i.Service)
}

// approvals says who approved so far, and what is still missing.
func (b *Brief) approvals(g *Gate, log []flow.Event) {
	for _, e := range log {
		if d, ok := e.Body.(flow.GateDecided); ok && d.Gate == g.ID && d.Approved {
			b.Approved = append(b.Approved, d.By)
		}
	}
	if g.State != "open" {
		return
	}
	if n := max(1, g.Raised.People) - len(b.Approved); n > 0 && g.Raised.People > 1 {
		who := fmt.Sprintf("%d approvers", n)
		if n == 1 {
			who = "one approver"
		}
		if len(b.Approved) > 0 {
			who = fmt.Sprintf("%d more approvers", n)
			if n == 1 {
				who = "one more approver"
			}
			who += " who is not " + expr.Words(b.Approved)
		}
		b.Missing = append(b.Missing, "it needs "+who)
	}
	if g.Raised.Comment {
		b.Missing = append(b.Missing, "it wants a comment")
	}
	if begun, ok := log[0].Body.(flow.Begun); ok && !strings.HasPrefix(begun.StartedBy, "trigger:") {
		b.Missing = append(b.Missing, begun.Requester()+" asked for it and cannot approve it")
	}
}

// partOf makes a part of a proposal readable.
func partOf(p task.Part) (Part, error) {
	out := Part{Title: p.Step}
	marks := marksOf(p)
	shape, err := p.Pattern(func(i int) string { return marks[i] })
	if err != nil {
		return out, err
	}
	unquoted := func(shown string) string {
		for _, m := range marks {
			shown = strings.ReplaceAll(shown, "'"+m+"'", m)
		}
		return shown
	}
	out.Shown = unquoted(act.Show(shape))
	if out.NoUndo = shape.Undo == nil; !out.NoUndo {
		out.Undo = unquoted(act.Show(*shape.Undo))
	}
	var shown, where []int
	for i, c := range p.Columns {
		switch {
		case strings.HasSuffix(c, "target.name") || c == "step" || strings.HasPrefix(c, "undo.target."):
		case strings.HasPrefix(c, "target."):
			where, out.WhereColumns = append(where, i), append(out.WhereColumns, task.NameOf(c))
		default:
			shown = append(shown, i)
		}
	}
	order := func(i, j int) int { return cmp.Compare(marks[i], marks[j]) }
	slices.SortStableFunc(shown, order)
	for _, i := range shown {
		name := task.NameOf(p.Columns[i])
		if strings.Contains(out.Shown+out.Undo, marks[i]) {
			name = marks[i] + " " + name
		}
		out.Columns = append(out.Columns, name)
	}
	for _, row := range p.Rows {
		out.Targets = append(out.Targets, row.Target)
		out.Rows = append(out.Rows, cellsOf(row, shown))
		out.Where = append(out.Where, cellsOf(row, where))
	}
	out.Bound = boundTo(p)
	return out, nil
}

// withReadings adds what the targets were found to be, where the change rests on that.
func (p Part) withReadings(step *runbook.Step, evidence []Evidence, grounds []tell.Ground) Part {
	if step == nil {
		return p
	}
	for _, name := range step.Readings() {
		column, oldest := make([]string, len(p.Targets)), time.Time{}
		for i, t := range p.Targets {
			value, at := newestOf(name, t, evidence, grounds)
			if at.IsZero() || len(value) > maxCell {
				continue
			}
			if column[i] = act.Visible(value); oldest.IsZero() || at.Before(oldest) {
				oldest = at
			}
		}
		if oldest.IsZero() {
			continue
		}
		title := fmt.Sprintf("%s at %s", name, oldest.UTC().Format("15:04:05 MST"))
		for _, ground := range grounds {
			if ground.Reading == name && ground.Wanted != nil {
				title += fmt.Sprintf(" (target %s)", ground.Wanted)
			}
		}
		p.Columns = append(p.Columns, title)
		for i := range p.Rows {
			p.Rows[i] = append(p.Rows[i], column[i])
		}
	}
	return p
}

// newestOf is what a target gave last of a reading, to the run or to the gate alone; zero where it gave none.
func newestOf(name, target string, evidence []Evidence, grounds []tell.Ground) (value string, at time.Time) {
	for _, e := range evidence {
		if e.Reading == name && e.Target == target {
			value, at = strings.TrimSpace(e.Value+" "+e.Unit), e.At
		}
	}
	for _, g := range grounds {
		for _, p := range g.Points {
			if g.Reading == name && p.Target == target && p.At.After(at) {
				value, at = tell.Number(p.Value, g.Unit), p.At
			}
		}
	}
	return value, at
}

// maxCell bounds what stands in a cell of the table; what is longer is among the evidence.
const maxCell = 60

func cellsOf(row task.Row, columns []int) []string {
	out := make([]string, len(columns))
	for j, i := range columns {
		out[j] = readable(row.Cells[i])
	}
	return out
}

// marksOf gives each column a mark that stands for its values in the words; no value holds one.
func marksOf(p task.Part) []string {
	all := strings.Join(slices.Collect(maps.Values(p.Common)), " ")
	open, closed := "⟨", "⟩"
	for strings.Contains(all, open) {
		open, closed = open+"⟨", "⟩"+closed
	}
	out := make([]string, len(p.Columns))
	n := 0
	for _, undo := range []bool{false, true} { // what is done comes before what undoes it
		for i, c := range p.Columns {
			switch {
			case strings.HasPrefix(c, "undo.") != undo:
			case strings.HasPrefix(c, "target.") || strings.HasPrefix(c, "undo.target.") || c == "step":
				out[i] = open + "target" + closed
			default:
				n++
				out[i] = open + letters(n) + closed
			}
		}
	}
	return out
}

// letters counts A to Z, then AA and so on.
func letters(n int) string {
	out := ""
	for ; n > 0; n = (n - 1) / 26 {
		out = string(rune('A'+(n-1)%26)) + out
	}
	return out
}

// readable is a value as people read it, with what cannot be seen made visible.
func readable(value string) string {
	var v any
	if err := json.Unmarshal([]byte(value), &v); err != nil {
		return value
	}
	return act.Visible(expr.Say(v))
}

// boundTo lists what an approval is bound to besides the words that are shown.
func boundTo(p task.Part) []Bound {
	var out []Bound
	for name, value := range p.Common {
		shown := strings.TrimPrefix(name, "undo.")
		if shown != name && p.Common[shown] == value {
			continue // as for what it undoes
		}
		for _, prefix := range []string{"words.", "sql.", "file.", "headers.", "env.", "target.name", "step"} {
			if strings.HasPrefix(shown, prefix) {
				shown = ""
			}
		}
		if shown == "" || slices.Contains([]string{"method", "url", "body"}, shown) {
			continue
		}
		out = append(out, Bound{task.NameOf(name), readable(value)})
	}
	slices.SortFunc(out, func(a, b Bound) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// together lists evidence with equal values of several targets said once, in the order in which it was taken.
func together(list []Evidence, now time.Time) []Fact {
	var out []Fact
	for _, e := range list {
		i := slices.IndexFunc(out, func(f Fact) bool {
			return f.Reading == e.Reading && f.Value == e.Value && f.Unit == e.Unit
		})
		if i < 0 {
			out = append(out, Fact{Reading: e.Reading, Value: e.Value, Unit: e.Unit, At: e.At})
			i = len(out) - 1
		}
		f := &out[i]
		f.Targets = append(f.Targets, e.Target)
		if e.At.Before(f.At) {
			f.At = e.At
		}
		f.Stale = now.Sub(f.At) > staleAfter
	}
	return out
}

// addTaken adds what was taken for a gate alone, while it stood open.
func addTaken(tx *store.Tx, gate string, grounds []tell.Ground) error {
	taken, err := tx.GateReadings(gate)
	if err != nil {
		return err
	}
	for _, t := range taken {
		for i := range grounds {
			if ground := &grounds[i]; ground.Reading == t.Reading {
				ground.Add(tell.Point{At: t.At.UTC(), Target: t.Target, Value: t.Value, ForGate: true})
			}
		}
	}
	return nil
}

package story

import (
	_ "embed"
	"fmt"
	"html/template"
	"strings"
	"time"

	"urgentis/core/incident"
	"urgentis/core/plain"
)

// Report is a record for people to read.
type Report struct {
	Number                                            int64
	Title, Service, Severity, State, Outcome, Because string
	Holder, Link                                      string
	OpenedAt, ClosedAt                                time.Time // ClosedAt is zero while it is open
	Harm                                              string
	Strip                                             incident.Strip
	Rows                                              []Row
	Sum                                               Sum
	Entries                                           int64         // of the record
	Alerts                                            []ReportAlert // the first of them
	AllAlerts                                         int64
	Runs                                              []ReportRun
	Files                                             []ReportFile
	outward                                           []PersonsNote
}

// Take takes the story and the notes of a record.
func (r *Report) Take(entries []incident.Entry) {
	f := Of(entries)
	r.Rows, r.Sum, r.Entries = f.Rows(0), f.Sum(), int64(len(entries))
	for i := range entries {
		if c, ok := entries[i].Read().(incident.NoteContent); ok && entries[i].Kind == incident.Outward {
			r.outward = append(r.outward, PersonsNote{entries[i].At, entries[i].Actor, c.Text})
		}
	}
}

// ReportAlert is an alert of a report.
type ReportAlert struct {
	Severity, State, Summary, Source string
	Times                            int64
	First, Last                      time.Time
}

// ReportRun is a run of a report. Ended is zero while it goes on.
type ReportRun struct {
	Runbook, State, By, Because string
	Begun, Ended                time.Time
}

// ReportFile is a file or a link of a report.
type ReportFile struct {
	Name, URL, Digest, By string
	Size                  int64
}

const (
	dayTime  = "2006-01-02 15:04 MST"
	onlyTime = "15:04:05"
)

// Lasted is how long it was open, in words.
func (r *Report) Lasted() string {
	if r.ClosedAt.IsZero() {
		return ""
	}
	return ", after " + plain.Lasted(r.ClosedAt.Sub(r.OpenedAt))
}

// MoreAlerts is how many alerts are not listed.
func (r *Report) MoreAlerts() int64 { return r.AllAlerts - int64(len(r.Alerts)) }

// Told are the rows that are for whoever was not there.
func (r *Report) Told() []Row {
	var out []Row
	for _, row := range r.Rows {
		if row.Weight == Tell {
			out = append(out, row)
		}
	}
	return out
}

// Answer is one of the answers that are left once it is over.
type Answer struct {
	Name  string
	Lines []Text
}

// Answers are whom it harmed, the cause, what was done, who approved it, what it changed, and what is left.
func (r *Report) Answers() []Answer {
	harm := text(r.Harm)
	if r.Harm == "" {
		harm = text("not stated")
	}
	return []Answer{{"Harm", []Text{harm}}, {"Cause", []Text{r.Sum.Cause}}, {"Done", r.Sum.Done},
		{"Approved by", r.Sum.Approved}, {"Effect", []Text{r.Sum.Effect}}, {"Left over", r.Sum.Left}}
}

// Notes are what people wrote for others.
func (r *Report) Notes() []PersonsNote { return r.outward }

// PersonsNote is something that a person wrote.
type PersonsNote struct {
	At       time.Time
	By, Text string
}

// inMarkdown makes a text from outside one that has no marks of its own.
var inMarkdown = strings.NewReplacer(
	`\`,
	`\\`,
	"`",
	"\\`",
	"*",
	`\*`,
	"_",
	`\_`,
	"[",
	`\[`,
	"]",
	`\]`,
	"<",
	"&lt;",
	">",
	"&gt;",
	"|",
	`\|`,
	"#",
	`\#`,
)

func md(text string) string { return inMarkdown.Replace(plain.Line(text)) }

// Markdown writes it as CommonMark with tables.
func (r *Report) Markdown() string {
	b := &strings.Builder{}
	say := func(format string, args ...any) { fmt.Fprintf(b, format+"\n", args...) }
	say("# Incident %d: %s\n", r.Number, md(r.Title))
	say("| | |\n| --- | --- |")
	say("| State | %s%s |", r.State, r.Lasted())
	if r.Outcome != "" {
		say("| Outcome | %s: %s |", md(r.Outcome), md(r.Because))
	}
	say("| Severity | %s |\n| Service | %s |", md(r.Severity), md(orNone(r.Service)))
	say("| Opened | %s |", r.OpenedAt.Format(dayTime))
	if !r.ClosedAt.IsZero() {
		say("| Closed | %s |", r.ClosedAt.Format(dayTime))
	}
	say("| Held by | %s |\n| Record | %s, %d entries |\n", md(orNone(r.Holder)), r.Link, r.Entries)
	say("## In short\n\n| | |\n| --- | --- |")
	for _, a := range r.Answers() {
		lines := make([]string, len(a.Lines))
		for i, l := range a.Lines {
			lines[i] = md(l.String())
		}
		say("| %s | %s |", a.Name, strings.Join(lines, "<br>"))
	}
	say("")
	if notes := r.Notes(); len(notes) > 0 {
		say("## For others\n")
		for _, n := range notes {
			say("- %s, %s: %s", n.At.Format(dayTime), md(n.By), md(n.Text))
		}
		say("")
	}
	say(
		"## Alerts\n\n| Severity | State | What | Source | Times | First | Last |\n" +
			"| --- | --- | --- | --- | --- | --- | --- |",
	)
	for _, a := range r.Alerts {
		say("| %s | %s | %s | %s | %d | %s | %s |", a.Severity, a.State, md(a.Summary), md(a.Source), a.Times,
			a.First.Format(dayTime), a.Last.Format(onlyTime))
	}
	if more := r.MoreAlerts(); more > 0 {
		say("\nThese are the first; there are %d more.", more)
	}
	if len(r.Runs) == 0 {
		say("\n## Runs\n\nNo runbook worked on it.")
	} else {
		say("\n## Runs\n\n| Runbook | Outcome | Reason | Started by | Started |\n| --- | --- | --- | --- | --- |")
	}
	for _, x := range r.Runs {
		say("| %s | %s | %s | %s | %s |", md(x.Runbook), md(x.State), md(x.Because), md(x.By), x.Begun.Format(dayTime))
	}
	say("\n## What happened\n\n| Time | | What |\n| --- | --- | --- |")
	for _, row := range r.Told() {
		what := md(row.Headline())
		for _, l := range row.Below {
			what += "<br>" + md(l.String())
		}
		say("| %s | %s | %s |", row.At.UTC().Format(onlyTime), row.Word, what)
	}
	if len(r.Files) > 0 {
		say("\n## Files and links\n")
		for _, f := range r.Files {
			say("- %s %s (by %s)", md(f.Name), md(f.URL+sizeOf(f)), md(f.By))
		}
	}
	return b.String()
}

func sizeOf(f ReportFile) string {
	if f.URL != "" {
		return ""
	}
	return fmt.Sprintf("%d bytes, SHA-256 %s", f.Size, f.Digest)
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

//go:embed report.html
var reportPage string

var reportTemplate = template.Must(template.New("report").Funcs(template.FuncMap{
	"day":  func(t time.Time) string { return t.Format(dayTime) },
	"time": func(t time.Time) string { return t.Format(onlyTime) },
	"line": plain.Line, "size": sizeOf, "says": func(t Text) string { return plain.Line(t.String()) },
	"headline": func(r Row) string { return plain.Line(r.Headline()) },
	"bad":      func(r Row) bool { return r.State == Bad },
}).Parse(reportPage))

// HTML writes it as one page that stands alone, with the strip as SVG.
func (r *Report) HTML() (string, error) {
	b := &strings.Builder{}
	if err := reportTemplate.Execute(b, struct {
		*Report
		Picture template.HTML
	}{r, template.HTML(r.Strip.SVG(r.OpenedAt))}); err != nil { //nolint:gosec // all text in it is escaped by SVG
		return "", fmt.Errorf("write a report: %w", err)
	}
	return b.String(), nil
}

package incident

import (
	_ "embed"
	"encoding/json"
	"fmt"
	"html/template"
	"slices"
	"strings"
	"time"

	"urgentis/core/plain"
)

// Report is a record for people to read.
type Report struct {
	Number                                            int64
	Title, Service, Severity, State, Outcome, Because string
	Holder, Link                                      string
	OpenedAt, ResolvedAt                              time.Time // ResolvedAt is zero while it is open
	Strip                                             Strip
	Entries                                           []Entry
	Alerts                                            []ReportAlert // the first of them
	AllAlerts                                         int64
	Runs                                              []ReportRun
	Files                                             []ReportFile
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
	if r.ResolvedAt.IsZero() {
		return ""
	}
	return ", after " + plain.Span(r.ResolvedAt.Sub(r.OpenedAt).Round(time.Second))
}

// MoreAlerts is how many alerts are not listed.
func (r *Report) MoreAlerts() int64 { return r.AllAlerts - int64(len(r.Alerts)) }

// undos are the kinds that tell of taking back.
var undos = []Kind{UndoPlanned, UndoBegun, UndoDone, UndoJudged, UndoEnded, UndoLeft}

// Matters reports whether somebody who was not there wants to read an entry: all but the steps of the machinery between
// what was seen, done, said and wanted, and what failed.
func (e *Entry) Matters() bool {
	a := e.Kind.About()
	return a.Drawn || a.Said || a.Wanted || e.Failed() || slices.Contains(undos, e.Kind)
}

// Told are the entries that matter.
func (r *Report) Told() []Entry {
	var out []Entry
	for i := range r.Entries {
		if r.Entries[i].Matters() {
			out = append(out, r.Entries[i])
		}
	}
	return out
}

// Notes are what people wrote, by whether it is for others.
func (r *Report) Notes(outward bool) []PersonsNote {
	var out []PersonsNote
	for _, e := range r.Entries {
		if e.Kind == Note && !outward || e.Kind == Outward && outward {
			out = append(out, PersonsNote{At: e.At, By: e.Actor, Text: e.text()})
		}
	}
	return out
}

// PersonsNote is something that a person wrote.
type PersonsNote struct {
	At       time.Time
	By, Text string
}

// text is that of a note.
func (e *Entry) text() string {
	var c struct {
		Text string `json:"text"`
	}
	if err := json.Unmarshal(e.Content, &c); err != nil {
		return ""
	}
	return c.Text
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
	if !r.ResolvedAt.IsZero() {
		say("| Closed | %s |", r.ResolvedAt.Format(dayTime))
	}
	say("| Held by | %s |\n| Record | %s, %d entries |\n", md(orNone(r.Holder)), r.Link, len(r.Entries))
	if notes := r.Notes(true); len(notes) > 0 {
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
		say("\n## Runs\n\n| Runbook | Came to | Because | Started by | Began |\n| --- | --- | --- | --- | --- |")
	}
	for _, x := range r.Runs {
		say("| %s | %s | %s | %s | %s |", md(x.Runbook), md(x.State), md(x.Because), md(x.By), x.Begun.Format(dayTime))
	}
	say("\n## What happened\n\n| Time | | What | By |\n| --- | --- | --- | --- |")
	for _, e := range r.Told() {
		what := md(e.Title)
		for _, fact := range e.Facts() {
			what += "<br>" + md(fact)
		}
		say("| %s | %s | %s | %s |", e.At.Format(onlyTime), e.Word(), what, md(e.Actor))
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
	"day":   func(t time.Time) string { return t.Format(dayTime) },
	"time":  func(t time.Time) string { return t.Format(onlyTime) },
	"facts": func(e Entry) []string { return e.Facts() }, "line": plain.Line, "size": sizeOf,
	"word": func(e Entry) string { return e.Word() }, "failed": func(e Entry) bool { return e.Failed() },
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

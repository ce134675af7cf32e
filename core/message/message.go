// Package message is what people and other systems are told: the facts in their order, and the forms in which the kinds
// of connections carry them.
package message

import (
	"fmt"
	"html/template"
	"slices"
	"strings"
	"time"

	"urgentis/core/plain"
	"urgentis/core/route"
)

// Message is what somebody is told, whatever carries it.
type Message struct {
	Key     string     `json:"key"`
	Kind    route.Kind `json:"kind"`
	Urgent  bool       `json:"urgent,omitempty"`
	Subject string     `json:"subject"`
	// Lines are the facts, in the order in which they are needed.
	Lines []Line `json:"lines,omitempty"`
	// Also is what else happened since the message before, each in one sentence.
	Also     []string `json:"also,omitempty"`
	Choices  []Choice `json:"choices,omitempty"`
	Link     string   `json:"link,omitempty"`
	Incident int64    `json:"incident,omitempty"`
	Title    string   `json:"title,omitempty"`
	Severity string   `json:"severity,omitempty"`
	Service  string   `json:"service,omitempty"`
	// To is the person, or room/NAME; Address is where they are on the connection, Why they are told.
	To      string `json:"to"`
	Address string `json:"address,omitempty"`
	Why     string `json:"why,omitempty"`
	// Refers names what a choice decides, such as gate/ID, and Digest what exactly was shown.
	Refers string    `json:"refers,omitempty"`
	Digest string    `json:"digest,omitempty"`
	At     time.Time `json:"at"`
	// Repeat: it may have arrived before.
	Repeat bool `json:"-"`
}

// Line is one fact.
type Line struct {
	Name string `json:"name"`
	Text string `json:"text"`
	// Fixed texts are words of a machine: they keep their form.
	Fixed bool `json:"fixed,omitempty"`
}

// Choice is something that can be said in answer. Its link opens a page; nothing is decided by opening it.
type Choice struct {
	Name  string `json:"name"`
	Label string `json:"label"`
	Link  string `json:"link"`
}

// MostLine bounds one fact, in characters.
const MostLine = 1200

// mayRepeat is said of what may have arrived before.
const mayRepeat = "You may have this already: nobody knows whether it arrived before."

// MayRepeat is what is said of a repeat.
func (*Message) MayRepeat() string { return mayRepeat }

// Text is the message for rooms and mails that show plain text.
func (m *Message) Text() string {
	var b strings.Builder
	b.WriteString(m.Subject + "\n")
	for _, l := range m.Lines {
		if l.Fixed || strings.Contains(l.Text, "\n") {
			fmt.Fprintf(&b, "%s:\n    %s\n", l.Name, strings.ReplaceAll(l.Text, "\n", "\n    "))
		} else {
			fmt.Fprintf(&b, "%s: %s\n", l.Name, l.Text)
		}
	}
	for _, a := range m.Also {
		b.WriteString("Also: " + a + "\n")
	}
	if m.Repeat {
		b.WriteString(mayRepeat + "\n")
	}
	for _, c := range m.Choices {
		fmt.Fprintf(&b, "%s: %s\n", c.Label, c.Link)
	}
	if m.Link != "" && !slices.ContainsFunc(m.Choices, func(c Choice) bool { return c.Link == m.Link }) {
		b.WriteString(m.Link + "\n")
	}
	return strings.TrimSuffix(b.String(), "\n")
}

// Short is the message in so many characters at most: what it is about, the facts as far as there is room, and where to
// go on, which is never cut.
func (m *Message) Short(most int) string {
	link := m.Link
	if len(m.Choices) > 0 {
		link = m.Choices[0].Link
	}
	room := most - len([]rune(link)) - 1
	if link == "" {
		room = most
	}
	text := m.Subject
	if m.Repeat {
		text = "(May be a repeat) " + text
	}
	for _, l := range m.Lines {
		next := text + " " + l.Name + ": " + strings.TrimRight(plain.Line(l.Text), ".") + "."
		if len([]rune(next)) > room {
			break
		}
		text = next
	}
	if r := []rune(text); len(r) > room && room > 1 {
		text = string(r[:room-1]) + "…"
	}
	return strings.TrimSpace(text + "\n" + link)
}

// HTML is the message as a page of a mail. All of it is escaped.
func (m *Message) HTML() string {
	var b strings.Builder
	if err := page.Execute(&b, m); err != nil {
		return template.HTMLEscapeString(m.Text()) // it is made of texts
	}
	return b.String()
}

var page = template.Must(template.New("mail").Parse(`<!doctype html><html lang="en"><meta charset="utf-8">
<body style="font:15px/1.45 system-ui,sans-serif;color:#1d2733;max-width:40rem">
<p style="font-size:1.15em;font-weight:600;white-space:pre-wrap">{{.Subject}}</p>
<table role="presentation" cellpadding="4" style="border-collapse:collapse">
{{range .Lines}}<tr><th scope="row" align="left" valign="top" style="color:#5b6673;font-weight:400;padding-right:1em">
{{.Name}}</th>
<td style="white-space:pre-wrap{{if .Fixed}};font-family:ui-monospace,monospace{{end}}">{{.Text}}</td></tr>
{{end}}{{range .Also}}<tr><th scope="row" align="left" valign="top" style="color:#5b6673;font-weight:400">Also</th>
<td>{{.}}</td></tr>{{end}}</table>
{{if .Repeat}}<p>{{.MayRepeat}}</p>{{end}}
{{range .Choices}}<p><a href="{{.Link}}" style="display:inline-block;padding:.6em 1.1em;border:1px solid #20605b;
border-radius:6px;color:#20605b;text-decoration:none">{{.Label}}</a></p>{{end}}
{{if .Link}}<p><a href="{{.Link}}" style="color:#20605b">{{.Link}}</a></p>{{end}}
<p style="color:#5b6673">{{.Why}}</p></body></html>
`))

// Names are the values of a message that the words of connections see, as message. most bounds the short form.
func (m *Message) Names(most int) map[string]any {
	lines := make([]any, len(m.Lines))
	for i, l := range m.Lines {
		lines[i] = map[string]any{"name": l.Name, "text": l.Text}
	}
	choices := make([]any, len(m.Choices))
	for i, c := range m.Choices {
		choices[i] = map[string]any{"name": c.Name, "label": c.Label, "link": c.Link}
	}
	return map[string]any{
		"key": m.Key, "kind": string(m.Kind), "urgent": m.Urgent, "subject": m.Subject, "text": m.Text(),
		"short": m.Short(most), "lines": lines, "also": words(m.Also), "choices": choices, "link": m.Link,
		"incident": m.Incident, "title": m.Title, "severity": m.Severity, "service": m.Service, "to": m.To,
		"address": m.Address, "refers": m.Refers, "digest": m.Digest, "repeat": m.Repeat,
		"at": m.At.UTC().Format(time.RFC3339),
	}
}

func words(texts []string) []any {
	out := make([]any, len(texts))
	for i, t := range texts {
		out[i] = t
	}
	return out
}

// Fold makes one message of several about one incident: what is urgent first, the newest of equals, says it, and the
// others are told of below it; that the incident began its facts say already.
func Fold(list []*Message) *Message {
	first := list[0]
	for _, m := range list[1:] {
		if weight(m) > weight(first) || weight(m) == weight(first) && !m.At.Before(first.At) {
			first = m
		}
	}
	out := *first
	out.Also = slices.Clone(first.Also)
	for _, m := range list {
		said := m == first || m.Subject == first.Subject || m.Kind == route.IncidentOpened
		if !said && !slices.Contains(out.Also, m.Subject) {
			out.Also = append(out.Also, m.Subject)
		}
	}
	return &out
}

func weight(m *Message) int {
	switch {
	case m.Kind == route.IncidentClosed:
		return 3
	case m.Kind.Asks():
		return 2
	case m.Urgent:
		return 1
	}
	return 0
}

// SameAs reports whether two messages say the same.
func (m *Message) SameAs(o *Message) bool {
	return m.Kind == o.Kind && m.Refers == o.Refers && m.Subject == o.Subject &&
		slices.Equal(m.Lines, o.Lines) && slices.Equal(m.Also, o.Also)
}

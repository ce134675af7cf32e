package message

import (
	"fmt"
	"regexp"
	"strings"

	"urgentis/core/plain"
)

const (
	// mostSubject bounds what a message is about, in characters; MostLine bounds its facts.
	mostSubject = 400
	// mostHeading bounds the subject of a mail, in characters.
	mostHeading = 180
)

// defang takes from a text what rooms, mails and telephones make links, calls and markup of.
var defang = strings.NewReplacer("://", ": //", "](", "] (", "@channel", "@ channel", "@here", "@ here",
	"@everyone", "@ everyone", "www.", "www .")

// tag is what begins a tag of a page, or a mention of rooms; a comparison with blanks is none.
var tag = regexp.MustCompile(`<([!@#/\pL])`)

// Foreign is a text from outside as it leaves for people: one line, in which nothing is hidden, and of which nothing
// becomes a link, a call to everybody or markup of a page. Done twice it is the same.
func Foreign(text string, most int) string {
	text = defang.Replace(tag.ReplaceAllString(plain.Line(strings.Join(strings.FieldsFunc(text, func(c rune) bool {
		return c == '\n' || c == '\r'
	}), " / ")), "‹$1"))
	return clip(text, most)
}

func clip(text string, most int) string {
	if r := []rune(text); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return text
}

// Outward is the message as it leaves: whatever of it may be from outside is Foreign. Words of machines keep their
// form, as they are what somebody says yes to, and stand in lines of their own that nothing of them can end.
func (m *Message) Outward() *Message {
	out := *m
	out.Subject, out.Title = Foreign(m.Subject, mostSubject), Foreign(m.Title, mostSubject)
	out.Service, out.Severity = Foreign(m.Service, mostSubject), Foreign(m.Severity, mostSubject)
	out.Why = Foreign(m.Why, mostSubject)
	out.Lines = make([]Line, len(m.Lines))
	for i, l := range m.Lines {
		out.Lines[i] = Line{Name: Foreign(l.Name, mostSubject), Fixed: l.Fixed}
		if l.Fixed {
			out.Lines[i].Text = clip(plain.Text(l.Text), MostLine)
		} else {
			out.Lines[i].Text = Foreign(l.Text, MostLine)
		}
	}
	out.Also = make([]string, len(m.Also))
	for i, a := range m.Also {
		out.Also[i] = Foreign(a, mostSubject)
	}
	out.Choices = make([]Choice, len(m.Choices))
	for i, c := range m.Choices {
		c.Label = Foreign(c.Label, mostSubject)
		out.Choices[i] = c
	}
	return &out
}

// Heading is the subject of a mail: what is wanted or was, of what, and of which incident. It is one line.
func (m *Message) Heading() string {
	out := m.Subject
	if m.Title != "" && !strings.Contains(out, m.Title) {
		out += " · " + m.Title
	}
	if m.Incident != 0 {
		return clip(out, mostHeading) + fmt.Sprintf(" [%d]", m.Incident)
	}
	return clip(out, mostHeading)
}

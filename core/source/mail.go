package source

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/emersion/go-message"
	_ "github.com/emersion/go-message/charset" // the character sets of old senders
	"github.com/emersion/go-message/mail"
	"golang.org/x/net/html"
)

// MailType is the Content-Type under which a mail is kept.
const MailType = "message/rfc822"

// Limits of a mail: its bytes, its parts, and how deep they nest.
const (
	MaxMail   = 1 << 20
	maxParts  = 100
	maxNested = 10 // each deeper one is read through all around it
)

var (
	// errEnough ends the reading of a mail that has more parts than are read.
	errEnough = errors.New("more parts than are read")
	errNested = fmt.Errorf("the mail nests parts more than %d deep", maxNested)
)

// readMail reads a mail (RFC 5322, MIME). text is its plain text, or what of its HTML is text; attachments are listed
// by name and size.
func (p Payload) readMail() (any, error) {
	if len(p.Body) > MaxMail {
		return nil, fmt.Errorf("the mail has %d bytes, %d are allowed", len(p.Body), MaxMail)
	}
	whole, err := message.Read(bytes.NewReader(p.Body))
	if err != nil && !message.IsUnknownCharset(err) {
		return nil, fmt.Errorf("this is no mail: %s", err)
	}
	out := map[string]any{
		"text":    "",
		"html":    "",
		"at":      "",
		"subject": "",
		"files":   []any{},
		"headers": map[string]any{},
	}
	head(whole.Header, out)
	parts := 0
	err = whole.Walk(func(path []int, part *message.Entity, err error) error {
		switch {
		case err != nil && !message.IsUnknownCharset(err):
			return err
		case len(path) > maxNested:
			return errNested
		}
		if kind, _, err := part.Header.ContentType(); err == nil && strings.HasPrefix(kind, "multipart/") {
			return nil
		}
		if parts++; parts > maxParts {
			return errEnough
		}
		return put(part, out)
	})
	switch {
	case errors.Is(err, errNested):
		return nil, errNested
	case err != nil && !errors.Is(err, errEnough):
		return nil, fmt.Errorf("the mail's parts cannot be read: %s", err)
	}
	if out["text"] == "" {
		out["text"] = textOf(out["html"].(string))
	}
	return out, nil
}

// mailID is what the sender of a mail calls it (Message-ID, RFC 5322); "" where it says nothing.
func mailID(body []byte) string {
	m, err := message.Read(bytes.NewReader(body))
	if err != nil && !message.IsUnknownCharset(err) {
		return ""
	}
	id, err := (&mail.Header{Header: m.Header}).MessageID()
	if err != nil || id == "" {
		return ""
	}
	return clipID("mail " + id)
}

// beneathHead is a mail but for its head, to which each who passes it on adds.
func beneathHead(body []byte) []byte {
	for _, blank := range [][]byte{[]byte("\r\n\r\n"), []byte("\n\n")} {
		if _, rest, ok := bytes.Cut(body, blank); ok {
			return rest
		}
	}
	return nil
}

// head takes what a mail says about itself.
func head(of message.Header, out map[string]any) {
	h := mail.Header{Header: of}
	headers := map[string]any{}
	for f := h.Fields(); f.Next(); {
		name := strings.ToLower(f.Key())
		if text, err := f.Text(); err == nil && headers[name] == nil {
			headers[name] = plainText(text)
		}
	}
	out["headers"] = headers
	if s, err := h.Subject(); err == nil {
		out["subject"] = plainText(s)
	}
	if at, err := h.Date(); err == nil && !at.IsZero() {
		out["at"] = at.UTC().Format(time.RFC3339)
	}
	for _, name := range []string{"from", "to"} {
		out[name] = ""
		if list, err := h.AddressList(name); err == nil && len(list) > 0 {
			out[name] = plainText(list[0].Address)
		}
	}
}

// put takes one part of a mail: its text, or that it is there.
func put(part *message.Entity, out map[string]any) error {
	body, err := io.ReadAll(io.LimitReader(part.Body, MaxMail))
	if err != nil {
		return err
	}
	kind, _, err := part.Header.ContentType()
	disposition, _, _ := part.Header.ContentDisposition() //nolint:errcheck // one that cannot be read is none
	if disposition != "inline" && (disposition == "attachment" || !strings.HasPrefix(kind, "text/")) {
		name, err := (&mail.AttachmentHeader{Header: part.Header}).Filename()
		if err != nil {
			name = ""
		}
		out["files"] = append(out["files"].([]any), map[string]any{"name": plainText(name), "size": int64(len(body))})
		return nil
	}
	switch {
	case err != nil:
	case kind == "text/html" && out["html"] == "":
		out["html"] = plainText(string(body))
	case kind == "text/plain" && out["text"] == "":
		out["text"] = strings.ReplaceAll(strings.TrimSpace(plainText(string(body))), "\r\n", "\n")
	}
	return nil
}

// plainText is text that can be kept: valid, and without NUL.
func plainText(s string) string {
	return strings.ReplaceAll(strings.ToValidUTF8(s, "\ufffd"), "\x00", "\ufffd")
}

// textOf is the text of HTML, a line for each piece of it.
func textOf(page string) string {
	z := html.NewTokenizer(strings.NewReader(page))
	var lines []string
	hidden := 0
	for {
		switch z.Next() {
		case html.ErrorToken:
			return strings.Join(lines, "\n")
		case html.StartTagToken:
			if name, _ := z.TagName(); string(name) == "script" || string(name) == "style" {
				hidden++
			}
		case html.EndTagToken:
			if name, _ := z.TagName(); (string(name) == "script" || string(name) == "style") && hidden > 0 {
				hidden--
			}
		case html.TextToken:
			if t := strings.TrimSpace(string(z.Text())); t != "" && hidden == 0 {
				lines = append(lines, t)
			}
		}
	}
}

package alert

import (
	"bytes"
	"errors"
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
	MaxMail  = 1 << 20
	maxParts = 100
)

// readMail reads a mail (RFC 5322, MIME). text is its plain text, or what of its HTML is text; attachments are listed
// by name and size.
func (p Payload) readMail() (any, error) {
	if len(p.Body) > MaxMail {
		return nil, invalid("the mail has %d bytes, %d are allowed", len(p.Body), MaxMail)
	}
	if deepMail(p.Body) {
		return nil, invalid("the mail nests parts in more than %d parts", maxParts)
	}
	r, err := mail.CreateReader(bytes.NewReader(p.Body))
	if err != nil && !message.IsUnknownCharset(err) {
		return nil, invalid("this is no mail: %s", err)
	}
	out := map[string]any{
		"text":    "",
		"html":    "",
		"at":      "",
		"subject": "",
		"files":   []any{},
		"headers": map[string]any{},
	}
	head(&r.Header, out)
	for n := 0; n < maxParts; n++ {
		part, err := r.NextPart()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil && !message.IsUnknownCharset(err) {
			return nil, invalid("the mail's parts cannot be read: %s", err)
		}
		if err := put(part, out); err != nil {
			return nil, invalid("the mail's parts cannot be read: %s", err)
		}
	}
	if out["text"] == "" {
		out["text"] = textOf(out["html"].(string))
	}
	return out, nil
}

// deepMail bounds the work before anything is parsed: parts nest no deeper than a mail names boundaries.
func deepMail(body []byte) bool {
	return bytes.Count(bytes.ToLower(body), []byte("boundary=")) > maxParts
}

// head takes what a mail says about itself.
func head(h *mail.Header, out map[string]any) {
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
func put(part *mail.Part, out map[string]any) error {
	body, err := io.ReadAll(io.LimitReader(part.Body, MaxMail))
	if err != nil {
		return err
	}
	switch h := part.Header.(type) {
	case *mail.InlineHeader:
		kind, _, err := h.ContentType()
		switch {
		case err != nil, kind != "text/html" && kind != "text/plain":
			return nil
		case kind == "text/html" && out["html"] == "":
			out["html"] = plainText(string(body))
		case kind == "text/plain" && out["text"] == "":
			out["text"] = strings.ReplaceAll(strings.TrimSpace(plainText(string(body))), "\r\n", "\n")
		}
	case *mail.AttachmentHeader:
		name, err := h.Filename()
		if err != nil {
			name = ""
		}
		out["files"] = append(out["files"].([]any), map[string]any{"name": plainText(name), "size": int64(len(body))})
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

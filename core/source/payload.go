package source

import (
	"bytes"
	"cmp"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/url"
	"regexp"
	"strings"
	"time"
	"unicode/utf8"

	htmlcharset "golang.org/x/net/html/charset"

	"urgentis/core/doc"
	"urgentis/core/reading"

	"github.com/clbanning/mxj/v2"
)

// MaxBody bounds the body of a request, in bytes; maxDepth how deep a payload may be nested.
const (
	MaxBody  = 256 << 10
	maxDepth = 64
)

// Payload is what arrived at a source, as it came.
type Payload struct {
	ContentType string            `json:"content_type"`
	Headers     map[string]string `json:"headers,omitempty"` // names in small letters
	Query       map[string]string `json:"query,omitempty"`
	Body        []byte            `json:"body"`
}

// names gives the payload as the expressions of a source see it. Errors are one sentence.
func (p Payload) names(s *Source, now time.Time) (map[string]any, error) {
	var v any
	var err error
	switch s.takes() {
	case Mail:
		v, err = p.readMail()
	case Syslog:
		v, err = p.readSyslog(s.Zone, now)
	case Trap:
		v, err = p.readTrap()
	default:
		if v, err = p.read(); err != nil {
			return nil, err
		}
		return map[string]any{"body": v, "headers": texts(p.Headers), "query": texts(p.Query), "item": nil}, nil
	}
	return map[string]any{s.takes(): v, "item": nil}, err
}

// Request gives a request as the inputs of a start see it: body, headers and query. Errors are one sentence.
func (p Payload) Request() (map[string]any, error) {
	body, err := p.read()
	if err != nil {
		return nil, err
	}
	return map[string]any{"body": body, "headers": texts(p.Headers), "query": texts(p.Query)}, nil
}

// ID is what its sender calls it, so that it counts once: by webhook-id (Standard Webhooks), Idempotency-Key, as an
// event of CloudEvents in the mode whose attributes are headers, or by the Message-ID of a mail; "" where it says
// nothing.
func (p Payload) ID() string {
	if p.ContentType == MailType {
		return mailID(p.Body)
	}
	for _, name := range []string{"webhook-id", "idempotency-key"} {
		if id := p.Headers[name]; id != "" {
			return clipID(name + " " + id)
		}
	}
	if id := p.Headers["ce-id"]; id != "" {
		return clipID("ce " + p.Headers["ce-source"] + " " + id)
	}
	return ""
}

// digest tells what came under an identity from something else under the same.
func (p Payload) digest() string {
	if p.ContentType == MailType {
		return doc.Sum(beneathHead(p.Body))
	}
	return doc.Sum(p.Body)
}

// mostID bounds an identity that is kept, in bytes.
const mostID = 300

// clipID is an identity that can be kept: what is longer is known by its digest.
func clipID(id string) string {
	if id = reading.Plain(id); len(id) <= mostID {
		return id
	}
	return doc.Sum([]byte(id))
}

func texts(m map[string]string) map[string]any {
	out := make(map[string]any, len(m))
	for k, v := range m {
		out[k] = v
	}
	return out
}

// read understands the body by its Content-Type: JSON, XML, a form, or text, which everything else is taken for.
func (p Payload) read() (any, error) {
	media, _, err := mime.ParseMediaType(p.ContentType)
	if err != nil && p.ContentType != "" {
		return nil, errors.New("the Content-Type cannot be read")
	}
	body, err := p.text()
	if err != nil {
		return nil, err
	}
	switch {
	case isJSON(media):
		return readJSON(body)
	case isXML(media):
		return readXML(body)
	case media == "application/x-www-form-urlencoded":
		form, err := url.ParseQuery(string(body))
		if err != nil {
			return nil, fmt.Errorf("the body is not a form: %s", err)
		}
		out := map[string]any{}
		for k, v := range form {
			out[k] = v[0]
		}
		return out, nil
	}
	return string(body), nil
}

func isJSON(media string) bool {
	return media == "application/json" || strings.HasSuffix(media, "+json")
}

func isXML(media string) bool {
	return media == "application/xml" || media == "text/xml" || strings.HasSuffix(media, "+xml")
}

// text is the body as text in UTF-8, in whatever character set it came.
func (p Payload) text() ([]byte, error) {
	if len(p.Body) > MaxUnpacked {
		return nil, fmt.Errorf("the body has %d bytes, %d are allowed", len(p.Body), MaxUnpacked)
	}
	media, params, err := mime.ParseMediaType(p.ContentType)
	if err != nil {
		params = nil
	}
	body, charset := p.Body, params["charset"]
	if isXML(media) {
		body, charset = declared(body, charset)
	}
	return inUTF8(body, charset)
}

var xmlDeclaration = regexp.MustCompile(`^\s*<\?xml\s[^>]*?(?:encoding\s*=\s*["']([A-Za-z0-9._:-]+)["'][^>]*)?\?>`)

// declared takes the declaration off an XML document, and gives the character set that it is in: that of the
// Content-Type before that of the declaration (RFC 7303, 3.2).
func declared(body []byte, charset string) (rest []byte, is string) {
	m := xmlDeclaration.FindSubmatch(body)
	if m == nil {
		return body, charset
	}
	return body[len(m[0]):], cmp.Or(charset, string(m[1]))
}

// inUTF8 gives a body in UTF-8, which it is taken for unless something says otherwise.
func inUTF8(body []byte, label string) ([]byte, error) {
	e, name := htmlcharset.Lookup(cmp.Or(label, "utf-8"))
	if e == nil {
		return nil, fmt.Errorf("the body is in %s, a character set that is not known", label)
	}
	if name == "utf-16le" && bytes.HasPrefix(body, []byte{0xFE, 0xFF}) {
		e, _ = htmlcharset.Lookup("utf-16be") // its own mark says so
	}
	if name != "utf-8" {
		out, err := e.NewDecoder().Bytes(body)
		if err != nil {
			return nil, fmt.Errorf("the body is not in %s: %s", label, err)
		}
		body = out
	}
	body = bytes.TrimPrefix(body, []byte("\ufeff")) // as some senders begin
	if !utf8.Valid(body) {
		return nil, fmt.Errorf("the body is not UTF-8, and nothing says what else it is")
	}
	return withoutNUL(body), nil
}

func readJSON(body []byte) (any, error) {
	if deep(body) {
		return nil, fmt.Errorf("the body is nested more than %d deep", maxDepth)
	}
	dec := json.NewDecoder(bytes.NewReader(body))
	dec.UseNumber()
	var v any
	if err := dec.Decode(&v); err != nil {
		return nil, fmt.Errorf("the body is not JSON: %s", err)
	}
	if _, err := dec.Token(); !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("the body is not JSON: something follows the first value")
	}
	return numbers(v), nil
}

// deep reports whether a JSON text is nested too deeply; brackets in texts count as if they were none.
func deep(body []byte) bool {
	depth, quoted := 0, false
	for i := 0; i < len(body); i++ {
		switch c := body[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '{' || c == '[':
			if depth++; depth > maxDepth {
				return true
			}
		case c == '}' || c == ']':
			depth--
		}
	}
	return false
}

// numbers makes whole numbers int64 and others float64; one that is neither stays text.
func numbers(v any) any {
	switch x := v.(type) {
	case json.Number:
		if n, err := x.Int64(); err == nil {
			return n
		}
		if f, err := x.Float64(); err == nil {
			return f
		}
		return x.String()
	case map[string]any:
		for k := range x {
			x[k] = numbers(x[k])
		}
	case []any:
		for i := range x {
			x[i] = numbers(x[i])
		}
	}
	return v
}

// The library keeps it for the whole program, so that it is said before anything is read.
func init() { mxj.SetAttrPrefix("_") }

// readXML gives an element as an object: its attributes by their names with _ before them, its elements by theirs,
// those of one name as a list, and text beside them as #text. Entities of a document's own are not expanded: one is
// an error.
func readXML(body []byte) (any, error) {
	if err := soundXML(body); err != nil {
		return nil, err
	}
	m, err := mxj.NewMapXml(body)
	if err != nil {
		return nil, fmt.Errorf("the body is not XML: %s", err)
	}
	return map[string]any(m), nil
}

// soundXML refuses what is not well-formed, too deep, or declares entities.
func soundXML(body []byte) error {
	dec := xml.NewDecoder(bytes.NewReader(body))
	depth := 0
	for {
		tok, err := dec.Token()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("the body is not XML: %s", err)
		}
		switch x := tok.(type) {
		case xml.StartElement:
			if depth++; depth > maxDepth {
				return fmt.Errorf("the body is nested more than %d deep", maxDepth)
			}
		case xml.EndElement:
			depth--
		case xml.Directive:
			if bytes.Contains(x, []byte("ENTITY")) {
				return fmt.Errorf("the body declares entities of its own, which are not taken")
			}
		}
	}
}

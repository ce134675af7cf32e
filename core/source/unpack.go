package source

import (
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"strings"
)

// MaxUnpacked bounds what a body that came compressed is, in bytes.
const MaxUnpacked = 1 << 20

// Unpacked is a payload whose body is as its sender meant it: one that came as gzip is unpacked. An error is
// one sentence; the payload is given with it as it came.
func (p Payload) Unpacked() (Payload, error) {
	switch coding := strings.ToLower(strings.TrimSpace(p.Headers["content-encoding"])); coding {
	case "", "identity":
		return p, nil
	case "gzip", "x-gzip":
	default:
		return p, fmt.Errorf("the body comes as %s, which is not read; gzip is", coding)
	}
	in, err := gzip.NewReader(bytes.NewReader(p.Body))
	if err != nil {
		return p, fmt.Errorf("the body is no gzip: %s", err)
	}
	body, err := io.ReadAll(io.LimitReader(in, MaxUnpacked+1))
	switch {
	case errors.Is(err, io.ErrUnexpectedEOF):
		return p, fmt.Errorf("the gzip of the body ends too early")
	case err != nil:
		return p, fmt.Errorf("the body is no gzip: %s", err)
	case len(body) > MaxUnpacked:
		return p, fmt.Errorf("the body has more than %d bytes unpacked", MaxUnpacked)
	}
	out := p
	out.Body, out.Headers = body, map[string]string{}
	for k, v := range p.Headers {
		if k != "content-encoding" && k != "content-length" {
			out.Headers[k] = v
		}
	}
	return out, nil
}

// withoutNUL writes the one character that nothing can keep as the one that stands for what cannot be read, wherever it
// is: as itself, and as its escape in JSON, of which a backslash that is itself escaped begins none.
func withoutNUL(body []byte) []byte {
	const stands = "\uFFFD"
	body = bytes.ReplaceAll(body, []byte{0}, []byte(stands))
	if !bytes.Contains(body, []byte(`\u0000`)) {
		return body
	}
	out := make([]byte, 0, len(body))
	for i := 0; i < len(body); i++ {
		if body[i] != '\\' || i+1 == len(body) {
			out = append(out, body[i])
			continue
		}
		if bytes.HasPrefix(body[i+1:], []byte("u0000")) {
			out = append(out, stands...)
			i += len("u0000")
			continue
		}
		out = append(out, body[i], body[i+1])
		i++
	}
	return out
}

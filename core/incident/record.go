package incident

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/gowebpki/jcs"
)

// Entry is one line of the record.
type Entry struct {
	Incident string    `json:"incident"`
	Seq      int64     `json:"seq"` // from 1, without gaps
	At       time.Time `json:"at"`
	Kind     Kind      `json:"kind"`
	Actor    string    `json:"actor"` // a person's name, or runbook:NAME, source:NAME, urgentis
	Run      string    `json:"run,omitempty"`
	Step     string    `json:"step,omitempty"`
	Title    string    `json:"title"`
	// Content is canonical JSON; nil where it was taken out.
	Content json.RawMessage `json:"content,omitempty"`
	// Digest is the SHA-256 of Content, Prev the hash of the entry before, Hash that of this one's head.
	Digest string `json:"digest"`
	Prev   string `json:"prev"`
	Hash   string `json:"hash"`
}

// domain keeps these hashes apart from all others.
const domain = "urgentis incident entry v1\n"

// Canonical writes a value as canonical JSON (RFC 8785).
func Canonical(v any) ([]byte, error) {
	b, err := json.Marshal(v)
	if err != nil {
		return nil, fmt.Errorf("write as JSON: %w", err)
	}
	return canonical(b)
}

func canonical(b []byte) ([]byte, error) {
	out, err := jcs.Transform(b)
	if err != nil {
		return nil, fmt.Errorf("write as canonical JSON: %w", err)
	}
	return out, nil
}

func digest(b []byte) string {
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// Seal completes an entry that follows the one with hash prev ("" for the first).
func Seal(e *Entry, prev string, content any) error {
	c, err := exactly(content)
	if err != nil {
		return err
	}
	e.Content, e.Digest, e.Prev = c, digest(c), prev
	// What the database keeps: microseconds, UTC.
	e.At = e.At.UTC().Truncate(time.Microsecond)
	e.Hash, err = e.head()
	return err
}

// ContentOf writes a content as entries hold it.
func ContentOf(c Content) (json.RawMessage, error) { return exactly(c) }

// exactly is Canonical of Exact. What has no number of so many digits that it could be rounded is not read again for
// it: that would take longer than all else of an entry.
func exactly(content any) ([]byte, error) {
	b, err := json.Marshal(content)
	if err != nil {
		return nil, fmt.Errorf("write as JSON: %w", err)
	}
	if manyDigits(b) {
		if content, err = Exact(content); err != nil {
			return nil, err
		}
		return Canonical(content)
	}
	return canonical(b)
}

// manyDigits reports whether sixteen digits follow one another, as in each whole number that is greater than maxExact.
func manyDigits(b []byte) bool {
	n := 0
	for _, c := range b {
		if c < '0' || c > '9' {
			n = 0
		} else if n++; n == 16 {
			return true
		}
	}
	return false
}

// maxExact is up to where canonical JSON, whose numbers are IEEE 754 doubles, tells each whole number from the next.
const maxExact = 1 << 53

// Exact gives a value as JSON has it, with the whole numbers as text that canonical JSON would round.
func Exact(content any) (any, error) {
	b, err := json.Marshal(content)
	if err != nil {
		return nil, fmt.Errorf("write as JSON: %w", err)
	}
	d := json.NewDecoder(bytes.NewReader(b))
	d.UseNumber()
	var v any
	if err := d.Decode(&v); err != nil {
		return nil, fmt.Errorf("write as JSON: %w", err)
	}
	return whole(v), nil
}

func whole(v any) any {
	switch x := v.(type) {
	case json.Number:
		n, err := strconv.ParseInt(x.String(), 10, 64)
		if isInt := strings.Trim(x.String(), "-0123456789") == ""; isInt && (err != nil || n > maxExact ||
			n < -maxExact) {
			return x.String()
		}
	case []any:
		for i := range x {
			x[i] = whole(x[i])
		}
	case map[string]any:
		for k := range x {
			x[k] = whole(x[k])
		}
	}
	return v
}

// head is what the hash of an entry is made of.
type head struct {
	Actor    string `json:"actor"`
	At       string `json:"at"`
	Digest   string `json:"digest"`
	Incident string `json:"incident"`
	Kind     Kind   `json:"kind"`
	Prev     string `json:"prev"`
	Run      string `json:"run"`
	Seq      string `json:"seq"`
	Step     string `json:"step"`
	Title    string `json:"title"`
}

// canonical writes it as canonical JSON: as JSON, whose fields stand in their order here, unless something is escaped.
func (h head) canonical() ([]byte, error) {
	b, err := json.Marshal(h)
	if err != nil {
		return nil, fmt.Errorf("write as JSON: %w", err)
	}
	if bytes.IndexByte(b, '\\') < 0 {
		return b, nil
	}
	return canonical(b)
}

// head hashes the entry's head, which covers the entry before and the digest of the content.
func (e *Entry) head() (string, error) {
	b, err := head{
		Incident: e.Incident, Seq: fmt.Sprint(e.Seq), At: e.At.UTC().Format(time.RFC3339Nano), Kind: e.Kind,
		Actor: e.Actor, Run: e.Run, Step: e.Step, Title: e.Title, Digest: e.Digest, Prev: e.Prev,
	}.canonical()
	if err != nil {
		return "", err
	}
	return digest(append([]byte(domain), b...)), nil
}

// Verify reads a whole record in order and reports the first entry that is not as it was written.
// length and last are what the incident itself says of its record, so that a missing end shows.
func Verify(entries []Entry, length int64, last string) error {
	prev := ""
	for i := range entries {
		e := &entries[i]
		if e.Seq != int64(i)+1 {
			return fmt.Errorf("entry %d is missing", i+1)
		}
		if e.Prev != prev {
			return fmt.Errorf("entry %d does not follow the entry before it", e.Seq)
		}
		if e.Content != nil && digest(e.Content) != e.Digest { // it may be written otherwise
			c, err := Canonical(e.Content)
			if err != nil || digest(c) != e.Digest {
				return fmt.Errorf("the content of entry %d was changed", e.Seq)
			}
		}
		h, err := e.head()
		if err != nil || h != e.Hash {
			return fmt.Errorf("entry %d was changed", e.Seq)
		}
		prev = e.Hash
	}
	if int64(len(entries)) != length || prev != last {
		return fmt.Errorf(
			"the record has %d entries, it should have %d: the end is missing or was changed",
			len(entries),
			length,
		)
	}
	return nil
}

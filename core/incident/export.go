package incident

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"
)

// ExportFormat names the form of an exported record; docs/incidents.md tells how to check one.
const ExportFormat = "urgentis-record/1"

// Export is a record as others can check it: a line of JSON for its head, and one for each entry.
type Export struct {
	Head    ExportHead
	Entries []Entry
}

// ExportHead is the first line of an exported record.
type ExportHead struct {
	Format     string    `json:"format"`
	Incident   string    `json:"incident"`
	Title      string    `json:"title"`
	Service    string    `json:"service"`
	Severity   string    `json:"severity"`
	State      string    `json:"state"`
	OpenedAt   time.Time `json:"opened_at"`
	Entries    int64     `json:"entries"`   // how many there must be
	LastHash   string    `json:"last_hash"` // that of the last one
	ExportedAt time.Time `json:"exported_at"`
}

// Write writes a record, a line of JSON for each piece of it.
func (x *Export) Write(w io.Writer) error {
	enc := json.NewEncoder(w)
	enc.SetEscapeHTML(false)
	if err := enc.Encode(x.Head); err != nil {
		return fmt.Errorf("write a record: %w", err)
	}
	for _, e := range x.Entries {
		if err := enc.Encode(e); err != nil {
			return fmt.Errorf("write a record: %w", err)
		}
	}
	return nil
}

// maxExportLine bounds one line of an exported record, in bytes.
const maxExportLine = 4 << 20

// ReadExport reads an exported record.
func ReadExport(r io.Reader) (*Export, error) {
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 64<<10), maxExportLine)
	x := &Export{}
	n := 0
	for lines.Scan() {
		if len(lines.Bytes()) == 0 {
			continue
		}
		if n++; n == 1 {
			if err := json.Unmarshal(lines.Bytes(), &x.Head); err != nil || x.Head.Format != ExportFormat {
				return nil, fmt.Errorf(
					"this is no exported record: its first line must say \"format\": %q",
					ExportFormat,
				)
			}
			continue
		}
		var e Entry
		if err := json.Unmarshal(lines.Bytes(), &e); err != nil {
			return nil, fmt.Errorf("line %d is no entry: %w", n, err)
		}
		x.Entries = append(x.Entries, e)
	}
	if err := lines.Err(); err != nil {
		return nil, fmt.Errorf("read a record: %w", err)
	}
	if n == 0 {
		return nil, errors.New("the file is empty")
	}
	return x, nil
}

// Check reports whether an exported record is as it was written.
func (x *Export) Check() error {
	for _, e := range x.Entries {
		if e.Incident != x.Head.Incident {
			return fmt.Errorf("entry %d is of incident %s, not %s", e.Seq, e.Incident, x.Head.Incident)
		}
	}
	return Verify(x.Entries, x.Head.Entries, x.Head.LastHash)
}

// Missing counts the entries whose content was taken out: that they were is no fault of the chain, and what they said
// is not known.
func (x *Export) Missing() int {
	n := 0
	for _, e := range x.Entries {
		if len(e.Content) == 0 {
			n++
		}
	}
	return n
}

// Says tells in words what the check of a sound record came to, and what it does not reach.
func (x *Export) Says() string {
	says := fmt.Sprintf("the record is whole: %d entries, each sealed to the one before", len(x.Entries))
	if n := x.Missing(); n > 0 {
		says += fmt.Sprintf("; the contents of %d of them are missing, and nobody can tell what they said", n)
	}
	return says
}

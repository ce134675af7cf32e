package store

import (
	"fmt"
	"time"

	"urgentis/core/estate"
	"urgentis/core/source"
)

// Push is one act of configuring.
type Push struct {
	ID                          int64 `gorm:"primaryKey"`
	By, Message, Commit, Origin string
	At                          time.Time
}

// Document is one revision of a document; in lists the newest, or for runbooks theirs.
type Document struct {
	Kind     estate.Kind
	Name     string
	Number   int
	Digest   string
	Text     string
	Origin   string // where it is kept as text; "" for nowhere
	Push     int64
	PushedBy string
	PushedAt time.Time
	Message  string // why it was pushed; known of revisions that are no runbook's
}

// documents are those in use: of runbooks, which have tables of their own, too.
const documents = `(select d.kind, d.name, d.number, v.digest, v.text, d.origin, v.push, v.pushed_by, v.pushed_at
		from document d join document_revision v on v.kind = d.kind and v.name = d.name and v.number = d.number
	union all
	select 'runbook', r.name, r.number, v.revision, v.text, r.origin, 0, v.pushed_by, v.pushed_at
		from runbook r join revision v on v.name = r.name and v.number = r.number) x`

// Documents lists the documents in use by kind and name; kind "" is every kind.
func (tx *Tx) Documents(kind estate.Kind) ([]Document, error) {
	return scan[Document](tx, "select * from "+documents+" where ? = '' or kind = ? order by kind, name", kind, kind)
}

// DocumentsOf lists the documents in use of some kinds, by kind and name.
func (tx *Tx) DocumentsOf(kinds ...estate.Kind) ([]Document, error) {
	names := make([]string, len(kinds))
	for i, k := range kinds {
		names[i] = string(k)
	}
	return scan[Document](tx, "select * from "+documents+" where kind = any (?) order by kind, name", array{names})
}

// Document reads a document in use.
func (tx *Tx) Document(kind estate.Kind, name string) (*Document, error) {
	return only(scan[Document](tx, "select * from "+documents+" where kind = ? and name = ?", kind, name))
}

// revisionsOf are all revisions of documents, of runbooks too.
const revisionsOf = `(select kind, name, number, digest, text, push, pushed_by, pushed_at, p.message
		from document_revision r join push p on p.id = r.push
	union all
	select 'runbook', name, number, revision, text, 0, pushed_by, pushed_at, '' from revision) x
	where kind = ? and name = ?`

// DocumentRevisions lists the revisions of a document, newest first, also of one that was removed.
func (tx *Tx) DocumentRevisions(kind estate.Kind, name string) ([]Document, error) {
	return scan[Document](tx, "select * from "+revisionsOf+" order by number desc", kind, name)
}

// DocumentRevision reads one revision of a document.
func (tx *Tx) DocumentRevision(kind estate.Kind, name string, number int) (*Document, error) {
	return only(scan[Document](tx, "select * from "+revisionsOf+" and number = ?", kind, name, number))
}

// only gives the one row that there is.
func only[T any](rows []T, err error) (*T, error) {
	if err == nil && len(rows) == 0 {
		err = ErrNotFound
	}
	if err != nil {
		return nil, err
	}
	return &rows[0], nil
}

// LockDocuments lets nobody else push until the end of the transaction: what was compared stays so.
func (tx *Tx) LockDocuments() error { return tx.alone(aloneDocuments, "documents") }

// AddPush begins a push.
func (tx *Tx) AddPush(p *Push) error {
	p.At = tx.Time()
	return tx.db.Create(p).Error
}

// PushDocument keeps a text as the next revision of its document. Runbooks are pushed by PushRunbook.
func (tx *Tx) PushDocument(p *Push, d *estate.Document) error {
	number, err := one[int](
		tx,
		"select coalesce(max(number), 0) + 1 from document_revision where kind = ? and name = ?",
		d.Kind,
		d.Name,
	)
	if err != nil {
		return err
	}
	if err := tx.run(`insert into document_revision (kind, name, number, digest, text, push, pushed_by)
		values (?, ?, ?, ?, ?, ?, ?)`, d.Kind, d.Name, number, d.Digest, d.Text, p.ID, p.By); err != nil {
		return fmt.Errorf("keep %s %s: %w", d.Kind, d.Name, err)
	}
	return tx.run(`insert into document (kind, name, number, origin) values (?, ?, ?, ?)
		on conflict (kind, name) do update set number = excluded.number, origin = excluded.origin`,
		d.Kind, d.Name, number, p.Origin)
}

// SetOrigin notes where a document is kept as text.
func (tx *Tx) SetOrigin(kind estate.Kind, name, origin string) error {
	if kind == estate.Runbook {
		return tx.run("update runbook set origin = ? where name = ?", origin, name)
	}
	return tx.run("update document set origin = ? where kind = ? and name = ?", origin, kind, name)
}

// RemoveDocument takes a document out of use; its revisions stay.
func (tx *Tx) RemoveDocument(kind estate.Kind, name string) error {
	return tx.run("delete from document where kind = ? and name = ?", kind, name)
}

// SetSourceText notes what a source's document says. A source that is new has no key yet, and nothing proves itself to
// it.
func (tx *Tx) SetSourceText(name, text string) error {
	return tx.run(`insert into source (name, says) values (?, ?)
		on conflict (name) do update set says = excluded.says`, name, text)
}

// Unparsed is what proved itself and could not be mapped.
type Unparsed struct {
	ID      string `gorm:"primaryKey"`
	Source  string
	At      time.Time
	Finding string
	// Items are the places, from 0, of the items that could not be mapped; none: all of it.
	Items       []int `gorm:"serializer:json"`
	ContentType string
	Headers     map[string]string `gorm:"serializer:json"`
	Query       map[string]string `gorm:"serializer:json"`
	Body        []byte
	ReadAt      *time.Time
	ReadBy      string
}

// Payload is what arrived.
func (u *Unparsed) Payload() source.Payload {
	return source.Payload{ContentType: u.ContentType, Headers: u.Headers, Query: u.Query, Body: u.Body}
}

// AddUnparsed keeps a payload that could not be mapped.
func (tx *Tx) AddUnparsed(u *Unparsed) error {
	u.Headers, u.Query, u.Body = notNull(u.Headers), notNull(u.Query), append([]byte{}, u.Body...)
	return tx.db.Create(u).Error
}

// maxUnparsed bounds a list of payloads.
const maxUnparsed = 100

// MostUnparsed and MostUnparsedBytes bound how many payloads of one source are kept unparsed.
const (
	MostUnparsed      = 10_000
	MostUnparsedBytes = 64 << 20
)

// fullOfUnparsed tells the sources that have as many unparsed payloads as are kept.
const fullOfUnparsed = `select source from unparsed where read_at is null and (? = '' or source = ?) group by source
	having count(*) >= ? or sum(octet_length(body)) >= ?`

// FullOfUnparsed lists the sources that have as many unparsed payloads as are kept; source "" looks at all.
func (tx *Tx) FullOfUnparsed(source string) ([]string, error) {
	return scan[string](tx, fullOfUnparsed, source, source, MostUnparsed, MostUnparsedBytes)
}

// Unparsed lists payloads that nobody has read yet, newest first; source "" is every source.
func (tx *Tx) Unparsed(source string) ([]Unparsed, error) {
	return scan[Unparsed](tx, `select * from unparsed where read_at is null and (? = '' or source = ?)
		order by at desc, id limit ?`, source, source, maxUnparsed)
}

// OneUnparsed reads a payload that could not be mapped.
func (tx *Tx) OneUnparsed(id string) (*Unparsed, error) { return take[Unparsed](tx, "id = ?", id) }

// MarkRead notes that a payload was mapped after all.
func (tx *Tx) MarkRead(id, by string) error {
	return tx.run("update unparsed set read_at = now(), read_by = ? where id = ? and read_at is null", by, id)
}

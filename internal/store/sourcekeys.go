package store

import (
	"time"
)

// The kinds of keys of a source.
const (
	TokenKey   = "token"   // sent with each report: as a bearer, a password, or in the address
	SigningKey = "signing" // never sent: reports are signed with it
	UserKey    = "user"    // a user of SNMP v3 with its pass phrases
)

// SourceKey is one key of a source.
type SourceKey struct {
	ID      string `gorm:"primaryKey"`
	Source  string
	Kind    string
	Hash    []byte // of a token
	Sealed  []byte // a signing secret, or a user of SNMP
	AddedBy string
	AddedAt time.Time
	// EndsAt is when it proves nothing any more; nil: never.
	EndsAt     *time.Time
	LastUsedAt *time.Time
}

// SourceKeys lists the keys of a source that still prove something, newest first.
func (tx *Tx) SourceKeys(source string) ([]SourceKey, error) {
	return list[SourceKey](tx, "added_at desc, id", "source = ? and (ends_at is null or ends_at > now())", source)
}

// Proof is a source with one of its keys; with none where it has none.
type Proof struct {
	Source Source `gorm:"embedded"`
	KeyID  string
	Kind   string
	Hash   []byte
	Sealed []byte
}

// proofs are sources with their keys, in one statement.
const proofs = `select s.*, coalesce(k.id, '') as key_id, coalesce(k.kind, '') as kind, k.hash, k.sealed
	from source s left join source_key k on k.source = s.name and (k.ends_at is null or k.ends_at > now()) `

// Proofs reads a source with its keys: it is read for each report. It gives nothing for a source that is not known.
func (tx *Tx) Proofs(source string) ([]Proof, error) {
	return scan[Proof](tx, proofs+"where s.name = ? order by k.added_at desc", source)
}

// AllProofs reads the sources whose documents say how their reports come in, with their keys, by name.
func (tx *Tx) AllProofs() ([]Proof, error) {
	return scan[Proof](tx, proofs+"where s.says like '%takes:%' order by s.name, k.added_at desc")
}

// AddSourceKey adds a key. Those of its kind that were there end at once, or after keep.
func (tx *Tx) AddSourceKey(k *SourceKey, keep time.Duration) error {
	err := tx.run(`update source_key set ends_at = least(ends_at, now() + ? * interval '1 second')
		where source = ? and kind = ? and (ends_at is null or ends_at > now())`, keep.Seconds(), k.Source, k.Kind)
	if err != nil {
		return err
	}
	return tx.db.Create(k).Error
}

// EndSourceKey ends a key now.
func (tx *Tx) EndSourceKey(source, id string) error {
	n, err := tx.exec(`update source_key set ends_at = now() where source = ? and id = ?
		and (ends_at is null or ends_at > now())`, source, id)
	if err == nil && n == 0 {
		err = ErrNotFound
	}
	return err
}

// MarkKey notes that a key was used, at most once a minute.
func (tx *Tx) MarkKey(id string) error {
	return tx.run(`update source_key set last_used_at = now()
		where id = ? and (last_used_at is null or last_used_at < now() - interval '1 minute')`, id)
}

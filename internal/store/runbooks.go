package store

import (
	"context"

	"urgentis/core/access"
	"urgentis/core/runbook"
)

// PushRunbook checks and stores a text in a transaction of its own. Findings that hold an error are returned as the
// error.
func (s *Store) PushRunbook(ctx context.Context, text, by string) (out *Revision, found runbook.Findings, err error) {
	b, found := runbook.Parse([]byte(text))
	if b == nil {
		return nil, found, found
	}
	err = s.Tx(ctx, func(tx *Tx) error {
		out, err = tx.PushRunbook(b, text, by)
		return err
	})
	return out, found, err
}

// PushRunbook stores a text as the next revision of its runbook; the same text again is no new revision.
func (tx *Tx) PushRunbook(b *runbook.Book, text, by string) (*Revision, error) {
	// Two who push at once follow one another.
	if err := tx.run("insert into runbook (name, number) values (?, 0) on conflict do nothing", b.Name); err != nil {
		return nil, err
	}
	current, err := one[int](tx, "select number from runbook where name = ? for update", b.Name)
	if err != nil {
		return nil, err
	}
	// One that was taken out of use goes on with its numbers.
	number, err := one[int](tx, "select coalesce(max(number), 0) from revision where name = ?", b.Name)
	if err != nil {
		return nil, err
	}
	if current > 0 {
		now, err := take[Revision](tx, "name = ? and number = ?", b.Name, number)
		if err != nil || now.Revision == b.Revision {
			return now, err
		}
	}
	tags := b.Tags
	if tags == nil {
		tags = []string{}
	}
	out := &Revision{
		Name: b.Name, Number: number + 1, Revision: b.Revision, Text: text, Title: b.Title, Owner: b.Owner,
		Service: b.Service, About: b.About, Tags: tags, PushedBy: by, PushedAt: tx.Time(),
	}
	if err := tx.db.Create(out).Error; err != nil {
		return nil, err
	}
	if err := tx.run("update runbook set number = ? where name = ?", out.Number, b.Name); err != nil {
		return nil, err
	}
	if err := tx.Audit(by, "runbook.push", b.Name, out.Revision[:12]); err != nil {
		return nil, err
	}
	r := NewRecordWriter(tx)
	r.Changed(Feed{Topic: "runbook", Ref: b.Name, Service: b.Service})
	return out, r.Flush()
}

// RemoveRunbook takes a runbook out of use; ErrNotFound where there is none. Its revisions stay.
func (tx *Tx) RemoveRunbook(name, service string) error {
	n, err := tx.exec("delete from runbook where name = ?", name)
	if err == nil && n == 0 {
		return ErrNotFound
	}
	if err != nil {
		return err
	}
	r := NewRecordWriter(tx)
	r.Changed(Feed{Topic: "runbook", Ref: name, Service: service})
	return r.Flush()
}

// Revisions lists the revisions of a runbook, newest first, also of one that was removed.
func (tx *Tx) Revisions(name string) ([]Revision, error) {
	return list[Revision](tx, "number desc", "name = ?", name)
}

// RevisionOf reads one revision of a runbook.
func (tx *Tx) RevisionOf(name string, number int) (*Revision, error) {
	return take[Revision](tx, "name = ? and number = ?", name, number)
}

// newest joins each runbook with its newest revision.
const newest = "from runbook r join revision v on v.name = r.name and v.number = r.number"

// Newest gives the newest revision of a runbook.
func (tx *Tx) Newest(name string) (*Revision, error) {
	found, err := scan[Revision](tx, "select v.* "+newest+" where r.name = ?", name)
	if err == nil && len(found) == 0 {
		return nil, ErrNotFound
	}
	if err != nil {
		return nil, err
	}
	return &found[0], nil
}

// Runbooks lists the newest revision of each runbook, by name.
func (tx *Tx) Runbooks(s access.Scope) ([]Revision, error) {
	where, args := within(s, "true", nil)
	return scan[Revision](tx, "select v.* "+newest+" where "+where+" order by r.name", args...)
}

// Current names the newest revision of each runbook, by name: what starts is among them.
func (tx *Tx) Current() ([]Revision, error) {
	return scan[Revision](tx, "select v.name, v.revision "+newest+" order by r.name")
}

// RevisionBy reads a revision by its digest, or the text of one of whose changes was tried alone, which has no number.
func (tx *Tx) RevisionBy(revision string) (*Revision, error) {
	return only(scan[Revision](tx, `select name, number, revision, text, pushed_by, pushed_at from revision
		where revision = ?
		union all select name, 0, revision, text, pushed_by, made_at from alone where revision = ? limit 1`,
		revision, revision))
}

// Alone is the text of a runbook of which one change was tried alone, and of which revision it was made.
type Alone struct{ Text, Of string }

// Alone reads one by its digest; nil where there is none.
func (tx *Tx) Alone(revision string) (*Alone, error) {
	list, err := scan[Alone](tx, "select text, of from alone where revision = ?", revision)
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

// KeepAlone keeps the text of a runbook of which one change is tried alone. Whoever pushed the whole counts as its
// author.
func (tx *Tx) KeepAlone(b *runbook.Book, of, step string) error {
	return tx.run(`insert into alone (revision, name, text, of, step, pushed_by)
		select ?, ?, ?, ?, ?, pushed_by from revision where revision = ? limit 1 on conflict do nothing`,
		b.Revision, b.Name, string(b.Source), of, step, of)
}

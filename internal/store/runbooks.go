package store

import (
	"context"
	"time"

	"gorm.io/gorm"

	"urgentis/core/runbook"
)

// PushRunbook checks and stores a text; the same text again is no new revision. Findings that hold an
// error are returned as the error.
func (s *Store) PushRunbook(ctx context.Context, text, by string) (*Revision, runbook.Findings, error) {
	b, findings := runbook.Parse([]byte(text))
	if b == nil {
		return nil, findings, findings
	}
	var out Revision
	err := s.Tx(ctx, func(tx *gorm.DB) error {
		// Two who push at once follow one another.
		if err := tx.Exec("insert into runbook (name, number) values (?, 0) on conflict do nothing", b.Name).Error; err != nil {
			return err
		}
		var number int
		if err := tx.Raw("select number from runbook where name = ? for update", b.Name).Scan(&number).Error; err != nil {
			return err
		}
		if number > 0 {
			if err := tx.Where("name = ? and number = ?", b.Name, number).Take(&out).Error; err != nil {
				return err
			}
			if out.Revision == b.Revision {
				return nil
			}
		}
		tags := b.Tags
		if tags == nil {
			tags = []string{}
		}
		out = Revision{Name: b.Name, Number: number + 1, Revision: b.Revision, Text: text, Title: b.Title, Owner: b.Owner, Service: b.Service,
			About: b.About, Tags: tags, PushedBy: by, PushedAt: time.Now().UTC()}
		if err := tx.Create(&out).Error; err != nil {
			return err
		}
		if err := tx.Exec("update runbook set number = ? where name = ?", out.Number, b.Name).Error; err != nil {
			return err
		}
		if err := Audit(tx, by, "runbook.push", b.Name, out.Revision[:12]); err != nil {
			return err
		}
		r := NewRecord(tx)
		r.Changed(Feed{Topic: "runbook", Ref: b.Name})
		return r.Flush()
	})
	return &out, findings, err
}

// Newest gives the newest revision of a runbook.
func (s *Store) Newest(ctx context.Context, name string) (*Revision, error) {
	var r Revision
	err := s.In(ctx).Raw("select v.* from runbook r join revision v on v.name = r.name and v.number = r.number where r.name = ?", name).Scan(&r).Error
	if err == nil && r.Name == "" {
		return nil, ErrNotFound
	}
	return &r, err
}

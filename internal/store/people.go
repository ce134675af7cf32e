package store

import (
	"errors"
)

// ErrNameTaken says that a token has the name of a person, or the other way round: records could not tell them apart.
var ErrNameTaken = errors.New("a person and a token cannot have the same name")

// People lists those who sign in, by name.
func (tx *Tx) People() ([]Person, error) { return list[Person](tx, "name", "true") }

// Person reads somebody who signs in; nil where nobody has the name.
func (tx *Tx) Person(name string) (*Person, error) {
	found, err := list[Person](tx, "name", "name = ?", name)
	if err != nil || len(found) == 0 {
		return nil, err
	}
	return &found[0], nil
}

// AnyPeople reports whether anybody signs in here yet.
func (tx *Tx) AnyPeople() (bool, error) { return one[bool](tx, "select exists (select 1 from person)") }

// LockPeople keeps everybody else from adding people until the end of the transaction.
func (tx *Tx) LockPeople() error { return tx.run("lock table person in share row exclusive mode") }

// AddPerson adds somebody; it fails where the name is taken.
func (tx *Tx) AddPerson(p *Person) error { return tx.db.Create(p).Error }

// SetPerson adds somebody, or sets the password and roles of one, whose sessions end. ErrNameTaken: a token has the
// name.
func (tx *Tx) SetPerson(p *Person) error {
	if err := tx.freeName(&Token{}, p.Name); err != nil {
		return err
	}
	if err := tx.Save(p); err != nil {
		return err
	}
	return tx.EndSessionsOf(p.Name)
}

// freeName makes sure that no row of the other kind has a name, until the end of the transaction.
func (tx *Tx) freeName(other any, name string) error {
	if err := tx.alone(alonePrincipal, "name "+name); err != nil {
		return err
	}
	var n int64
	if err := tx.db.Model(other).Where("name = ?", name).Count(&n).Error; err != nil {
		return err
	}
	if n > 0 {
		return ErrNameTaken
	}
	return nil
}

// RemovePerson removes somebody, with their sessions and the tokens that they answer for. It tells how many those were.
func (tx *Tx) RemovePerson(name string) (tokens int, err error) {
	if err := tx.Remove(&Person{}, name); err != nil {
		return 0, err
	}
	if err := tx.EndSessionsOf(name); err != nil {
		return 0, err
	}
	n, err := tx.exec("delete from token where made_by = ?", name)
	return int(n), err
}

// EndSessionsOf ends all sessions of a person.
func (tx *Tx) EndSessionsOf(name string) error {
	return tx.run("delete from session where person = ?", name)
}

// EndSession ends one session.
func (tx *Tx) EndSession(hash []byte) error {
	return tx.run("delete from session where hash = ?", hash)
}

// PasswordHash reads what is kept of a person's password, and keeps it from being changed until the end of the
// transaction; "" where the person is gone.
func (tx *Tx) PasswordHash(name string) (string, error) {
	return one[string](tx, "select password_hash from person where name = ? for share", name)
}

// AddSession begins a session.
func (tx *Tx) AddSession(s *Session) error { return tx.db.Create(s).Error }

// SignedIn finds whose session it is; nil for nobody's.
func (tx *Tx) SignedIn(hash []byte) (*Person, error) {
	found, err := scan[Person](tx, `select p.* from session s join person p on p.name = s.person
		where s.hash = ? and s.expires_at > now()`, hash)
	if err != nil || len(found) == 0 {
		return nil, err
	}
	return &found[0], nil
}

// TokenHolder is a token with the roles of the person who answers for it; nil: that person is not known here.
type TokenHolder struct {
	Token
	Makers *string // the roles of whoever answers for it; nil: made on the machine by nobody who signs in
}

// TokenBy finds a token that has not run out and whose maker is still there, by what is kept of it, and notes that it
// was used; nil for none.
func (tx *Tx) TokenBy(hash []byte) (*TokenHolder, error) {
	found, err := scan[TokenHolder](tx, `with t as (select * from token where hash = ? and expires_at > now()),
		u as (update token set last_used_at = now() where name in (select name from t)
			and (last_used_at is null or last_used_at < now() - interval '1 minute'))
		select t.*, p.roles as makers from t left join person p on p.name = t.made_by
		where t.on_machine or p.name is not null`, hash)
	if err != nil || len(found) == 0 {
		return nil, err
	}
	return &found[0], nil
}

// Tokens lists the tokens by name.
func (tx *Tx) Tokens() ([]Token, error) { return list[Token](tx, "name", "true") }

// AddToken adds a token. ErrNameTaken: a person has the name. ErrNotFound: whoever it is of is gone; they cannot go
// before the transaction is over.
func (tx *Tx) AddToken(t *Token) error {
	if err := tx.freeName(&Person{}, t.Name); err != nil {
		return err
	}
	maker, err := scan[string](tx, "select name from person where name = ? for key share", t.MadeBy)
	if err == nil && len(maker) == 0 && !t.OnMachine {
		err = ErrNotFound
	}
	if err != nil {
		return err
	}
	return tx.db.Create(t).Error
}

// Acts lists lines of the audit log, newest first, those of an actor ("": of all) before an id; 0: from the newest.
func (tx *Tx) Acts(actor string, before int64, most int) ([]Act, error) {
	if before == 0 {
		before = int64(^uint64(0) >> 1)
	}
	var out []Act
	where, args := and("id < ?", []any{before}, "actor", actor)
	err := tx.db.Order("id desc").Where(where, args...).Limit(most).Find(&out).Error
	return out, err
}

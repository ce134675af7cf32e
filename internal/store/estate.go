package store

import (
	"errors"
	"fmt"
)

// Services lists the services by name.
func (tx *Tx) Services() ([]Service, error) { return list[Service](tx, "name", "true") }

// Service reads a service; nil where it is not known, which is no error: a runbook may name one that nobody set up.
func (tx *Tx) Service(name string) (*Service, error) {
	found, err := list[Service](tx, "name", "name = ?", name)
	if err != nil || len(found) == 0 {
		return nil, err
	}
	return &found[0], nil
}

// Targets lists all targets by name.
func (tx *Tx) Targets() ([]Target, error) { return list[Target](tx, "name", "true") }

// TargetsOf lists the targets of a service by name.
func (tx *Tx) TargetsOf(service string) ([]Target, error) {
	return list[Target](tx, "name", "service = ?", service)
}

// Target reads a target.
func (tx *Tx) Target(name string) (*Target, error) { return take[Target](tx, "name = ?", name) }

// Sources lists the alert sources by name.
func (tx *Tx) Sources() ([]Source, error) { return list[Source](tx, "name", "true") }

// Source reads an alert source; nil where it is not known.
func (tx *Tx) Source(name string) (*Source, error) {
	found, err := list[Source](tx, "name", "name = ?", name)
	if err != nil || len(found) == 0 {
		return nil, err
	}
	return &found[0], nil
}

// SetCallBack notes where a source is told what became of its alerts; "" leaves it as it is.
func (tx *Tx) SetCallBack(name, callBack string) error {
	return tx.run("update source set call_back = ? where name = ? and ? <> ''", callBack, name, callBack)
}

// OurSource is the source of alerts that the service raises itself. Nobody else may have its name.
const OurSource = "urgentis"

// Heard is how long nothing was heard of a source, in seconds: since it last reported, or since its document was
// pushed.
type Heard struct {
	Name, Says string
	Quiet      float64
}

// Heard lists all sources.
func (tx *Tx) Heard() ([]Heard, error) {
	return scan[Heard](tx, `select s.name, s.says, extract(epoch from now() - greatest(s.last_alert_at, s.added_at,
		(select max(pushed_at) from document_revision r where r.kind = 'source' and r.name = s.name))) as quiet
		from source s order by s.name`)
}

// MarkSource notes that an alert of a source just came, at most once a second.
func (tx *Tx) MarkSource(name string) error {
	return tx.run(`update source set last_alert_at = now()
		where name = ? and (last_alert_at is null or last_alert_at < now() - interval '1 second')`, name)
}

// Alter reads the row of a name into row, so that nobody else alters it until the end of the transaction, and reports
// whether there is one. Two that add it at once come one after the other, too.
func Alter[R any](tx *Tx, noun, name string, row *R) (bool, error) {
	if err := tx.alone(aloneSetting, noun+" "+name); err != nil {
		return false, err
	}
	found, err := takeLocked[R](tx, "name = ?", name)
	if errors.Is(err, ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, fmt.Errorf("read %s %s: %w", noun, name, err)
	}
	*row = *found
	return true, nil
}

// Save writes a row by its key, new or not.
func (tx *Tx) Save(row any) error { return tx.db.Save(row).Error }

// Remove deletes the row of a name; ErrNotFound where there is none. row is an empty row of its kind.
func (tx *Tx) Remove(row any, name string) error {
	res := tx.db.Where("name = ?", name).Delete(row)
	if res.Error == nil && res.RowsAffected == 0 {
		return ErrNotFound
	}
	return res.Error
}

// ConfigVersion rises with every change of runbooks, services, targets and connections.
func (tx *Tx) ConfigVersion() (int64, error) {
	v, err := one[int64](tx, "select version from config")
	if err != nil {
		return 0, fmt.Errorf("read the version of the configuration: %w", err)
	}
	return v, nil
}

package store

import (
	"errors"
	"fmt"
	"strconv"
	"strings"

	"urgentis/core/device"
	"urgentis/core/estate"
	"urgentis/core/task"
)

// Facts reads what is known of targets now, in the order of the names; those that are gone are left out.
// The name "" stands for the host of the service.
func (tx *Tx) Facts(names []string) ([]task.Facts, error) {
	var rows []Target
	if err := tx.db.Where("name in ?", names).Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("read targets: %w", err)
	}
	return tx.factsOf(rows, names)
}

// FactsToLook is what is known of a target now, with the account that it has for looking, where it has one.
func (tx *Tx) FactsToLook(target string) (task.Facts, error) {
	var rows []Target
	if err := tx.db.Where("name = ?", target).Find(&rows).Error; err != nil {
		return task.Facts{}, fmt.Errorf("read the target %s: %w", target, err)
	}
	if len(rows) == 0 {
		return task.Facts{}, ErrNotFound
	}
	if t := &rows[0]; t.LookAccount != "" {
		t.Account = t.LookAccount
		if t.LookSecret != "" {
			t.Secret = t.LookSecret
		}
	}
	facts, err := tx.factsOf(rows, []string{target})
	if err != nil {
		return task.Facts{}, err
	}
	return facts[0], nil
}

// LookCannotWrite reports whether an account is the one by which a target is looked at, and it was said of it that it
// cannot write there.
func (tx *Tx) LookCannotWrite(target, account string) (bool, error) {
	return one[bool](tx, `select exists (select from target where name = ? and look_cannot_write
		and coalesce(nullif(look_account, ''), account) = ?)`, target, account)
}

func (tx *Tx) factsOf(rows []Target, names []string) ([]task.Facts, error) {
	versions, err := tx.secretVersions(rows)
	if err != nil {
		return nil, err
	}
	kinds, err := tx.deviceKinds(rows)
	if err != nil {
		return nil, err
	}
	byName := map[string]Target{}
	for _, r := range rows {
		byName[r.Name] = r
	}
	out := []task.Facts{}
	for _, n := range names {
		r, ok := byName[n]
		if !ok {
			if n == "" {
				out = append(out, task.Facts{})
			}
			continue
		}
		f := task.Facts{Name: r.Name, Address: r.Address, Port: r.Port, Account: r.Account, HostKey: r.HostKey}
		if r.Secret != "" {
			f.Secret = fmt.Sprintf("%s@%d", r.Secret, versions[r.Secret])
		}
		if k := kinds[r.Device]; r.Device != "" {
			f.Device, f.DeviceSecret = k.name, k.secret
		}
		out = append(out, f)
	}
	return out, nil
}

// deviceKind is a kind of devices as it is now: KIND@REVISION, and its secret as name@version.
type deviceKind struct{ name, secret string }

// deviceKinds reads the kinds of devices that targets are. One that is gone is KIND@0, which nobody can speak with.
func (tx *Tx) deviceKinds(targets []Target) (map[string]deviceKind, error) {
	out := map[string]deviceKind{}
	for _, t := range targets {
		if _, known := out[t.Device]; known || t.Device == "" {
			continue
		}
		out[t.Device] = deviceKind{name: t.Device + "@0"}
		d, err := tx.Document(estate.Device, t.Device)
		if errors.Is(err, ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, err
		}
		k := deviceKind{name: fmt.Sprintf("%s@%d", t.Device, d.Number)}
		kind, err := d.device()
		if err != nil {
			return nil, err
		}
		if kind.Secret != "" {
			versions, err := tx.SecretVersions([]string{kind.Secret})
			if err != nil {
				return nil, err
			}
			k.secret = fmt.Sprintf("%s@%d", kind.Secret, versions[kind.Secret])
		}
		out[t.Device] = k
	}
	return out, nil
}

// DeviceKind reads how devices of a kind are spoken with, by KIND@REVISION.
func (tx *Tx) DeviceKind(kind string) (*device.Kind, error) {
	name, number, _ := strings.Cut(kind, "@")
	n, err := strconv.Atoi(number)
	if err != nil || n == 0 {
		return nil, fmt.Errorf("there is no kind of device %s", name)
	}
	d, err := tx.DocumentRevision(estate.Device, name, n)
	if err != nil {
		return nil, fmt.Errorf("the kind of device %s: %w", name, err)
	}
	return d.device()
}

// device reads what a document says of a kind of devices.
func (d *Document) device() (*device.Kind, error) {
	docs, found := estate.Parse([]estate.File{{Name: d.Name, Text: d.Text}})
	if len(docs) != 1 || docs[0].Device == nil {
		return nil, fmt.Errorf("the kind of device %s is not sound under this program: %v", d.Name, found)
	}
	return docs[0].Device, nil
}

func (tx *Tx) secretVersions(targets []Target) (map[string]int, error) {
	var names []string
	for _, t := range targets {
		if t.Secret != "" {
			names = append(names, t.Secret)
		}
	}
	return tx.SecretVersions(names)
}

// SecretVersions gives the newest version of each secret; those that are not set are left out.
func (tx *Tx) SecretVersions(names []string) (map[string]int, error) {
	out := map[string]int{}
	if len(names) == 0 {
		return out, nil
	}
	var rows []struct {
		Name    string
		Version int
	}
	if err := tx.db.Raw("select name, max(version) as version from secret where name in ? "+
		"and removed_at is null group by "+
		"name", names).Scan(&rows).Error; err != nil {
		return nil, fmt.Errorf("read secrets: %w", err)
	}
	for _, r := range rows {
		out[r.Name] = r.Version
	}
	return out, nil
}

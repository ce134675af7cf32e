package store

import (
	"fmt"

	"gorm.io/gorm"

	"urgentis/core/leave"
)

// Facts reads what is known of targets now, in the order of the names; those that are gone are left out.
// The name "" stands for the host of the service.
func Facts(tx *gorm.DB, names []string) ([]leave.Facts, error) {
	var rows []Target
	if err := tx.Where("name in ?", names).Find(&rows).Error; err != nil {
		return nil, fmt.Errorf("read targets: %w", err)
	}
	versions, err := secretVersions(tx, rows)
	if err != nil {
		return nil, err
	}
	byName := map[string]Target{}
	for _, r := range rows {
		byName[r.Name] = r
	}
	out := []leave.Facts{}
	for _, n := range names {
		r, ok := byName[n]
		if !ok {
			if n == "" {
				out = append(out, leave.Facts{})
			}
			continue
		}
		f := leave.Facts{Name: r.Name, Address: r.Address, Port: r.Port, Account: r.Account, HostKey: r.HostKey}
		if r.Secret != "" {
			f.Secret = fmt.Sprintf("%s@%d", r.Secret, versions[r.Secret])
		}
		out = append(out, f)
	}
	return out, nil
}

func secretVersions(tx *gorm.DB, targets []Target) (map[string]int, error) {
	var names []string
	for _, t := range targets {
		if t.Secret != "" {
			names = append(names, t.Secret)
		}
	}
	out := map[string]int{}
	if len(names) == 0 {
		return out, nil
	}
	var rows []struct {
		Name    string
		Version int
	}
	if err := tx.Raw("select name, max(version) as version from secret where name in ? group by name", names).Scan(&rows).Error; err != nil {
		return nil, fmt.Errorf("read secrets: %w", err)
	}
	for _, r := range rows {
		out[r.Name] = r.Version
	}
	return out, nil
}

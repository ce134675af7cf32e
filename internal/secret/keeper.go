package secret

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"urgentis/core/expr"
	"urgentis/core/task"
	"urgentis/internal/store"
)

// Keeper keeps sealed secrets in the store.
type Keeper struct {
	Store *store.Store
	Box   *Box
}

// Set seals a value as the next version of a name.
func (k *Keeper) Set(tx *store.Tx, name, kind string, value []byte, by string) (*store.Secret, error) {
	sealed, err := k.Box.Seal(value)
	if err != nil {
		return nil, err
	}
	s := &store.Secret{Name: name, Kind: kind, Sealed: sealed, SetBy: by, SetAt: tx.Time()}
	if err := tx.AddSecret(s); err != nil {
		return nil, err
	}
	return s, tx.Audit(by, "secret.set", name, "version "+strconv.Itoa(s.Version))
}

// Credential opens what a target is signed in to with.
func (k *Keeper) Credential(ctx context.Context, f task.Facts) (kind string, value []byte, err error) {
	name, version, ok := strings.Cut(f.Secret, "@")
	if !ok {
		return "", nil, errors.New("no secret is set for it")
	}
	row, err := k.Store.In(ctx).Secret(name, version)
	if err != nil {
		return "", nil, fmt.Errorf("read its secret: %w", err)
	}
	if row == nil {
		return "", nil, fmt.Errorf("there is no secret %s", name)
	}
	value, err = k.Box.Unseal(row.Sealed)
	return row.Kind, value, err
}

// Value opens the newest version of a secret by its name.
func (k *Keeper) Value(ctx context.Context, name string) (string, error) {
	versions, err := k.Store.In(ctx).SecretVersions([]string{name})
	if err != nil {
		return "", err
	}
	_, v, err := k.Credential(ctx, task.Facts{Secret: fmt.Sprintf("%s@%d", name, versions[name])})
	return strings.TrimRight(string(v), "\r\n"), err
}

// Known gives what must be masked in what a target prints: the value that opens it, those of secrets by their names, in
// every version, and those of sealed readings by their marks. What cannot be opened is left out, for it could not be
// used either; where the database cannot be asked, that is an error: nothing may be printed then.
func (k *Keeper) Known(ctx context.Context, f task.Facts, names, marks []string) ([]string, error) {
	for _, opens := range []string{f.Secret, f.DeviceSecret} {
		if name, _, ok := strings.Cut(opens, "@"); ok {
			names = append(slices.Clone(names), name)
		}
	}
	var out []string
	rows, err := k.Store.In(ctx).SecretsNamed(names)
	if err != nil {
		return nil, fmt.Errorf("read the secrets that are to be masked: %w", err)
	}
	for _, r := range rows {
		if v, err := k.Box.Unseal(r.Sealed); err == nil {
			out = append(out, string(v))
		}
	}
	for _, m := range marks {
		_, err := expr.FillSecrets(m, func(kind, name string) (string, error) {
			if raw, err := base64.StdEncoding.DecodeString(name); err == nil && kind == "sealed" {
				if v, err := k.Box.Unseal(raw); err == nil {
					out = append(out, string(v))
				}
			}
			return "", nil
		})
		if err != nil {
			continue
		}
	}
	return out, nil
}

// Fill puts the values of secrets and sealed readings in the place of their marks. It returns them, to be masked.
func (k *Keeper) Fill(ctx context.Context, r task.Request) (task.Request, []string, error) {
	var values []string
	open := func(kind, name string) (string, error) {
		var v []byte
		var err error
		if kind == "sealed" {
			var raw []byte
			if raw, err = base64.StdEncoding.DecodeString(name); err == nil {
				v, err = k.Box.Unseal(raw)
			}
		} else {
			version, ok := r.Secrets[name]
			if !ok {
				versions, failed := k.Store.In(ctx).SecretVersions([]string{name})
				if failed != nil {
					return "", failed
				}
				version = versions[name]
			}
			_, v, err = k.Credential(ctx, task.Facts{Secret: fmt.Sprintf("%s@%d", name, version)})
		}
		if err != nil {
			return "", err
		}
		text := strings.TrimRight(string(v), "\r\n")
		values = append(values, text)
		return text, nil
	}
	fill := func(m map[string]string) (map[string]string, error) {
		if m == nil {
			return nil, nil
		}
		out := make(map[string]string, len(m))
		for key, text := range m {
			var err error
			if out[key], err = expr.FillSecrets(text, open); err != nil {
				return nil, err
			}
		}
		return out, nil
	}
	for name, text := range r.Env {
		if strings.Contains(text, expr.SecretMark("")[:3]) {
			r.Hidden = append(r.Hidden, name)
		}
	}
	var err error
	if r.Env, err = fill(r.Env); err != nil {
		return r, nil, err
	}
	if r.Headers, err = fill(r.Headers); err != nil {
		return r, nil, err
	}
	if r.Job != nil {
		if r.Job, err = filledJob(*r.Job, fill); err != nil {
			return r, nil, err
		}
	}
	if r.SQL != nil {
		q := *r.SQL
		if q.Password, err = expr.FillSecrets(q.Password, open); err != nil {
			return r, nil, err
		}
		r.SQL = &q
	}
	return r, values, nil
}

// filledJob fills the headers of a job's requests.
func filledJob(j task.Job, fill func(map[string]string) (map[string]string, error)) (*task.Job, error) {
	for _, c := range []*task.Call{&j.Start, &j.Follow} {
		var err error
		if c.Headers, err = fill(c.Headers); err != nil {
			return nil, err
		}
	}
	for _, c := range []**task.Call{&j.Log, &j.Stop} {
		if *c == nil {
			continue
		}
		x := **c
		var err error
		if x.Headers, err = fill(x.Headers); err != nil {
			return nil, err
		}
		*c = &x
	}
	return &j, nil
}

// Seal gives the mark under which a value stands in a run's log.
func (k *Keeper) Seal(text string) (string, error) {
	sealed, err := k.Box.Seal([]byte(text))
	if err != nil {
		return "", err
	}
	return expr.SealedMark(base64.StdEncoding.EncodeToString(sealed)), nil
}

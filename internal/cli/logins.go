package cli

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"
)

// kept is what a login leaves behind.
type kept struct {
	Server  string `yaml:"server"`
	Token   string `yaml:"token,omitempty"`
	Session string `yaml:"session,omitempty"`
	Name    string `yaml:"name,omitempty"`
}

// is reports whether two logins are of the same name at the same service.
func (k kept) is(other kept) bool { return k.Server == other.Server && k.Name == other.Name }

// logins are those of this account, the newest first.
type logins struct {
	Logins []kept `yaml:"logins"`
}

func loginFile() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", errors.New("this account has no home directory; give --server and --token")
	}
	return filepath.Join(dir, "urgentis", "login.yaml"), nil
}

func readLogins() ([]kept, error) {
	file, err := loginFile()
	if err != nil {
		return nil, err
	}
	b, err := os.ReadFile(file)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var all logins
	if err := yaml.Unmarshal(b, &all); err != nil {
		return nil, usage("%s cannot be read: remove it, and sign in again", file)
	}
	return all.Logins, nil
}

func writeLogins(list []kept) error {
	file, err := loginFile()
	if err != nil {
		return err
	}
	b, err := yaml.Marshal(logins{Logins: list})
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	// Written beside it and moved: two commands at once leave one of them whole.
	beside, err := os.CreateTemp(filepath.Dir(file), "login-*")
	if err != nil {
		return err
	}
	defer os.Remove(beside.Name()) //nolint:errcheck // it was moved
	_, err = beside.Write(b)
	if err = errors.Join(err, beside.Close()); err != nil {
		return err
	}
	return os.Rename(beside.Name(), file)
}

// keepLogin keeps a login as the newest.
func keepLogin(k kept) error {
	list, err := readLogins()
	if err != nil {
		return err
	}
	return writeLogins(append([]kept{k}, slices.DeleteFunc(list, k.is)...))
}

func forgetLogin(k kept) error {
	list, err := readLogins()
	if err != nil {
		return err
	}
	return writeLogins(slices.DeleteFunc(list, k.is))
}

// loginOf is the login that a command uses: the newest, or the one that --as and --server name. Without one it is
// empty, but for the address that was given.
func (a *app) loginOf() (kept, error) {
	as := a.v.GetString("as")
	server := strings.TrimRight(a.v.GetString("server"), "/")
	list, err := readLogins()
	if err != nil && server == "" {
		return kept{}, err
	}
	var names []string
	for _, k := range list {
		if server != "" && k.Server != server {
			continue
		}
		if as == "" || k.Name == as {
			return k, nil
		}
		names = append(names, k.Name)
	}
	if as != "" {
		signedIn := "nobody is"
		if len(names) > 0 {
			signedIn = strings.Join(names, ", ") + " can be named"
		}
		return kept{}, &failure{code: exitRefused, err: errors.New(
			as + " is not signed in here (" + signedIn + "); urgentis login ADDRESS --name " + as)}
	}
	return kept{Server: server}, nil
}

// Package secret seals keys and passwords with age (https://age-encryption.org/v1). The key is a file
// outside the database, so that a copy of the database alone opens nothing.
package secret

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"filippo.io/age"
)

// Box seals and opens.
type Box struct{ id *age.X25519Identity }

// Open reads the key file, or makes it the first time, readable by this account only.
func Open(path string) (*Box, error) {
	b, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		id, err := age.GenerateX25519Identity()
		if err != nil {
			return nil, err
		}
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return nil, fmt.Errorf("make the key file: %w", err)
		}
		f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		if err != nil {
			return nil, fmt.Errorf("make the key file: %w", err)
		}
		if _, err := f.WriteString(id.String() + "\n"); err != nil {
			return nil, fmt.Errorf("write the key file: %w", err)
		}
		return &Box{id}, f.Close()
	}
	if err != nil {
		return nil, fmt.Errorf("read the key file: %w", err)
	}
	id, err := age.ParseX25519Identity(strings.TrimSpace(string(b)))
	if err != nil {
		return nil, fmt.Errorf("the key file %s holds no key", path)
	}
	return &Box{id}, nil
}

// Seal encrypts a value.
func (b *Box) Seal(value []byte) ([]byte, error) {
	var out bytes.Buffer
	w, err := age.Encrypt(&out, b.id.Recipient())
	if err != nil {
		return nil, fmt.Errorf("seal: %w", err)
	}
	if _, err := w.Write(value); err != nil {
		return nil, fmt.Errorf("seal: %w", err)
	}
	if err := w.Close(); err != nil {
		return nil, fmt.Errorf("seal: %w", err)
	}
	return out.Bytes(), nil
}

// Unseal decrypts a value.
func (b *Box) Unseal(sealed []byte) ([]byte, error) {
	r, err := age.Decrypt(bytes.NewReader(sealed), b.id)
	if err != nil {
		return nil, errors.New("the secret cannot be opened with this installation's key")
	}
	return io.ReadAll(r)
}

// minMasked is the length below which a value is not searched for: it would stand everywhere.
const minMasked = 6

// Mask replaces every appearance of the values in text.
func Mask(text string, values ...string) string {
	for _, v := range values {
		// A key has many lines; whoever prints one of them prints a part of it.
		for _, line := range append(strings.Split(v, "\n"), v) {
			if line = strings.TrimSpace(line); len(line) >= minMasked {
				text = strings.ReplaceAll(text, line, "•••")
			}
		}
	}
	return text
}

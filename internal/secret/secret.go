// Package secret seals keys and passwords with age (https://age-encryption.org/v1). The key is a file
// outside the database, so that a copy of the database alone opens nothing.
package secret

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
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

// ID names the key without giving it away.
func (b *Box) ID() string {
	sum := sha256.Sum256([]byte("urgentis/seal-key " + b.id.Recipient().String()))
	return hex.EncodeToString(sum[:8])
}

// ErrNoKey says that there is no key file, and that none may be made.
var ErrNoKey = errors.New("there is no key file")

// Open reads the key file. Where there is none and make is set, it makes one, readable by this account only.
func Open(path string, make bool) (*Box, error) {
	b, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) && !make {
		return nil, ErrNoKey
	}
	if info, failed := os.Stat(path); err == nil && failed == nil && info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("the key file %s can be read by others; close it with: chmod 600 %s", path, path)
	}
	if errors.Is(err, os.ErrNotExist) {
		id, err := age.GenerateX25519Identity()
		if err != nil {
			return nil, err
		}
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return nil, fmt.Errorf("make the key file: %w", err)
		}
		err = write(path, id.String()+"\n")
		if errors.Is(err, os.ErrExist) {
			return Open(path, false) // another instance was quicker
		}
		return &Box{id}, err
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

// write makes a file that is there whole or not at all, and is never written over.
func write(path, text string) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".seal-*") // readable by this account only
	if err != nil {
		return fmt.Errorf("make the key file: %w", err)
	}
	defer os.Remove(f.Name())
	_, err = f.WriteString(text)
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return fmt.Errorf("write the key file: %w", err)
	}
	if err := os.Link(f.Name(), path); err != nil {
		return fmt.Errorf("make the key file: %w", err)
	}
	return nil
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

package secret

import (
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSealAndUnseal(t *testing.T) {
	path := filepath.Join(t.TempDir(), "seal.key")
	b, err := Open(path, true)
	require.NoError(t, err)
	i, err := os.Stat(path)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), i.Mode().Perm())
	sealed, err := b.Seal([]byte("canary-7781"))
	require.NoError(t, err)
	assert.NotContains(t, string(sealed), "canary")

	again, err := Open(path, true)
	require.NoError(t, err)
	v, err := again.Unseal(sealed)
	require.NoError(t, err)
	assert.Equal(t, "canary-7781", string(v))

	other, err := Open(filepath.Join(t.TempDir(), "seal.key"), true)
	require.NoError(t, err)
	_, err = other.Unseal(sealed)
	assert.ErrorContains(t, err, "cannot be opened")
	require.NoError(t, os.WriteFile(path, []byte("x"), 0o600))
	_, err = Open(path, true)
	assert.ErrorContains(t, err, "holds no key")
}

func TestMask(t *testing.T) {
	assert.Equal(t, "a ••• b •••", Mask("a hunter22 b hunter22", "hunter22"))
	assert.Equal(t, "abc", Mask("abc", "b", ""))
	assert.Equal(t, "line •••", Mask("line AAAAB3Nza", "-----\nAAAAB3Nza\n-----"))
}

// Instances that start at once on one data directory end up with one key.
func TestManyMakeOneKey(t *testing.T) {
	path := filepath.Join(t.TempDir(), "seal.key")
	ids := make([]string, 20)
	var wg sync.WaitGroup
	for i := range ids {
		wg.Go(func() {
			b, err := Open(path, true)
			if assert.NoError(t, err) {
				ids[i] = b.ID()
			}
		})
	}
	wg.Wait()
	for _, id := range ids {
		assert.Equal(t, ids[0], id)
	}
	left, err := os.ReadDir(filepath.Dir(path))
	require.NoError(t, err)
	assert.Len(t, left, 1)
}

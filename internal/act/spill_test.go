package act

import (
	"bytes"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Of what is much, little is in memory, and nothing of it stands on the disk as it is.
func TestMuchIsNotInMemory(t *testing.T) {
	t.Setenv("TMPDIR", t.TempDir())
	secret := []byte("correct horse battery staple\n")
	all := bytes.Repeat(secret, 2*KeptOutput/len(secret))
	stdout, _ := Streams(Job{})
	for piece := all; len(piece) > 0; {
		n := min(10_007, len(piece))
		stdout.Write(piece[:n]) //nolint:errcheck // it takes everything
		piece = piece[n:]
	}
	c := stdout.Taken()
	assert.Len(t, c.Kept, headOutput)
	assert.Equal(t, KeptOutput, c.Len())
	assert.True(t, c.Cut())
	assert.True(t, bytes.Equal(all[:KeptOutput], c.Bytes()))
	assert.True(t, bytes.Equal(all[:KeptOutput], c.Bytes()), "twice")

	onDisk := make([]byte, KeptOutput-headOutput)
	_, err := c.rest.f.ReadAt(onDisk, 0)
	require.NoError(t, err)
	assert.False(t, bytes.Contains(onDisk, secret[:12]))
	names, err := os.ReadDir(os.Getenv("TMPDIR"))
	require.NoError(t, err)
	assert.Empty(t, names)

	c.Free()
	assert.Len(t, c.Bytes(), headOutput, "what cannot be read is not there")
	assert.True(t, c.Cut())
}

func TestWithoutAPlaceItStaysInMemory(t *testing.T) {
	t.Setenv("TMPDIR", "/nowhere/at/all")
	all := bytes.Repeat([]byte("0123456789"), 30_000)
	stdout, _ := Streams(Job{})
	stdout.Write(all) //nolint:errcheck // it takes everything
	c := stdout.Taken()
	assert.True(t, bytes.Equal(all, c.Bytes()))
	assert.False(t, c.Cut())
}

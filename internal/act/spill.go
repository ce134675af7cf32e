package act

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"errors"
	"io"
	"os"
)

// headOutput is how much of each stream is kept in memory, in bytes. What comes after it, up to KeptOutput, lies in a
// file without a name, encrypted with a key that is nowhere but in memory: it may hold secrets, and many targets may
// print at once.
const headOutput = 64 << 10

// spill is such a file.
type spill struct {
	f     *os.File
	key   [32]byte
	write cipher.Stream
	size  int
	lost  bool // it cannot be read any more
}

// newSpill makes an empty one: where TMPDIR says, else in /var/tmp, which unlike /tmp is on a disk.
func newSpill() (*spill, error) {
	dir := os.Getenv("TMPDIR")
	if _, err := os.Stat("/var/tmp"); dir == "" && err == nil {
		dir = "/var/tmp"
	}
	f, err := os.CreateTemp(dir, "urgentis-")
	if err != nil {
		return nil, err
	}
	s := &spill{f: f}
	if _, err := rand.Read(s.key[:]); err != nil {
		return nil, errors.Join(err, f.Close(), os.Remove(f.Name()))
	}
	if err := os.Remove(f.Name()); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	s.write = s.stream()
	return s, nil
}

// stream encrypts, or decrypts, from the beginning. Each file has a key of its own, so that none is used twice.
func (s *spill) stream() cipher.Stream {
	block, err := aes.NewCipher(s.key[:])
	if err != nil {
		panic(err) // the key has a length that there is
	}
	return cipher.NewCTR(block, make([]byte, aes.BlockSize))
}

func (s *spill) add(piece []byte) error {
	hidden := make([]byte, len(piece))
	s.write.XORKeyStream(hidden, piece)
	n, err := s.f.Write(hidden)
	s.size += n
	return err
}

// read gives the first bytes of what was added.
func (s *spill) read(to []byte) error {
	if _, err := io.ReadFull(io.NewSectionReader(s.f, 0, int64(len(to))), to); err != nil {
		return err
	}
	s.stream().XORKeyStream(to, to)
	return nil
}

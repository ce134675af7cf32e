package store

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
)

// StoredFile is the kind of attachment that is put to no record but to the installation's store of files.
const StoredFile = "stored"

// StoredFiles lists the files of the store, the newest of each name.
func (tx *Tx) StoredFiles() ([]Attachment, error) {
	return scan[Attachment](tx, `select distinct on (name) * from attachment where kind = ? and size >= 0
		order by name, added_at desc, id desc`, StoredFile)
}

// StoredNamed finds the newest file of a name.
func (tx *Tx) StoredNamed(name string) (*Attachment, error) {
	return only(scan[Attachment](tx, `select * from attachment where kind = ? and size >= 0 and name = ?
		order by added_at desc, id desc limit 1`, StoredFile, name))
}

// Stored finds a file of the store by its SHA-256.
func (tx *Tx) Stored(digest string) (*Attachment, error) {
	return only(scan[Attachment](tx, `select * from attachment where kind = ? and size >= 0 and digest = ?
		order by added_at desc, id desc limit 1`, StoredFile, digest))
}

// StoredAs gives, for each name that is in the store, what an approval is bound to: its SHA-256 and its size.
func (tx *Tx) StoredAs(names []string) (map[string]string, error) {
	out := map[string]string{}
	for _, n := range names {
		f, err := tx.StoredNamed(n)
		if errors.Is(err, ErrNotFound) {
			continue
		}
		if err != nil {
			return nil, err
		}
		out[n] = fmt.Sprintf("%s %d", f.Digest, f.Size)
	}
	return out, nil
}

// RemoveStored takes a file out of the store, with all that was put there under its name.
func (tx *Tx) RemoveStored(name string) error {
	if _, err := tx.StoredNamed(name); err != nil {
		return err
	}
	return tx.run("delete from attachment where kind = ? and name = ?", StoredFile, name)
}

// OnlyNewest takes out what was put under a name before.
func (tx *Tx) OnlyNewest(a *Attachment) error {
	return tx.run(
		`delete from attachment where kind = ? and name = ? and id <> ? and size >= 0`,
		StoredFile,
		a.Name,
		a.ID,
	)
}

// Pieces reads a file piece by piece.
func (tx *Tx) Pieces(file string) io.Reader { return &pieces{tx: tx, file: file} }

type pieces struct {
	tx   *Tx
	file string
	n    int64
	rest []byte
	done bool
}

// Read implements io.Reader.
func (p *pieces) Read(b []byte) (int, error) {
	for len(p.rest) == 0 {
		if p.done {
			return 0, io.EOF
		}
		body, err := p.tx.Piece(p.file, p.n)
		if err != nil {
			return 0, err
		}
		p.n++
		p.rest, p.done = body, body == nil
	}
	n := copy(b, p.rest)
	p.rest = p.rest[n:]
	return n, nil
}

// MaxFile bounds one file, in bytes; pieceSize is how much of one is in memory at a time.
const (
	MaxFile   = 256 << 20
	pieceSize = 1 << 20
)

// ErrTooLarge says that a file is larger than MaxFile.
var ErrTooLarge = errors.New("a file may have 256 MB")

// MaxFiles and MaxFileBytes bound the files of the store in all, and those of one record.
const (
	MaxFiles     = 500
	MaxFileBytes = 20 << 30
)

// ErrFilesFull says that no more files are kept.
var ErrFilesFull = errors.New("500 files or 20 GB are kept there already")

// FileWriter keeps a file piece by piece as it comes. Until Done nobody sees it.
type FileWriter struct {
	tx   *Tx
	row  Attachment
	sum  hash.Hash
	buf  []byte
	n    int64
	size int64
	// failed is why a piece could not be kept.
	failed error
}

// NewFile begins a file; row says what is known of it beforehand. ErrFilesFull: there are too many where it would be.
func (tx *Tx) NewFile(row Attachment) (*FileWriter, error) {
	full, err := one[bool](tx, `select count(*) >= ? or coalesce(sum(size), 0) >= ? from attachment
		where kind = ? and incident = ? and not (kind = ? and name = ?)`,
		MaxFiles, int64(MaxFileBytes), row.Kind, row.Incident, StoredFile, row.Name)
	if err != nil {
		return nil, err
	}
	if full {
		return nil, ErrFilesFull
	}
	row.Size = -1
	if err := tx.AddAttachment(&row); err != nil {
		return nil, err
	}
	return &FileWriter{tx: tx, row: row, sum: sha256.New(), buf: make([]byte, 0, pieceSize)}, nil
}

// Write implements io.Writer. It gives ErrTooLarge for a file that is too large.
func (f *FileWriter) Write(p []byte) (int, error) {
	if f.size += int64(len(p)); f.size > MaxFile {
		return 0, ErrTooLarge
	}
	f.sum.Write(p) //nolint:errcheck // it never fails
	for rest := p; len(rest) > 0; {
		n := min(len(rest), pieceSize-len(f.buf))
		f.buf, rest = append(f.buf, rest[:n]...), rest[n:]
		if len(f.buf) == pieceSize {
			if err := f.flush(); err != nil {
				return 0, err
			}
		}
	}
	return len(p), nil
}

func (f *FileWriter) flush() error {
	if len(f.buf) == 0 {
		return nil
	}
	f.failed = f.tx.AddPiece(f.row.ID, f.n, f.buf)
	f.n, f.buf = f.n+1, f.buf[:0]
	return f.failed
}

// Failed says why a piece could not be kept; nil where all were.
func (f *FileWriter) Failed() error { return f.failed }

// Done gives the file as it is to be saved, with its size and hash, once all of it has come.
func (f *FileWriter) Done() (*Attachment, error) {
	if err := f.flush(); err != nil {
		return nil, err
	}
	whole := f.row
	whole.Size, whole.Digest = f.size, hex.EncodeToString(f.sum.Sum(nil))
	return &whole, nil
}

// Drop takes back what did not come in whole.
func (f *FileWriter) Drop() error { return f.tx.DropAttachment(f.row.ID) }

package listen

import (
	"bufio"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// maxSegment is after how many bytes a spool begins another file at the latest.
const maxSegment = 4 << 20

// maxGiven bounds what is read at once, in bytes.
const maxGiven = 8 << 20

// headSize is what stands before each record: its length and its CRC-32 (Castagnoli).
const headSize = 8

// errFull says that a spool has no room.
var errFull = errors.New("the spool is full")

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// spool is a queue of records on disk, first in, first out, bounded in bytes. What Append returned for survives the end
// of the process, and after Sync that of the machine. What was read and not said to be done is read again by whoever
// opens it next: records are given at least once.
//
// Files are named by their numbers; the file read holds how far the reader is: the number, and an offset.
type spool struct {
	dir     string
	id      string // what it is called, of which there is no other
	most    int64
	segment int64 // after how many bytes it begins another file
	// fsync has a file survive the end of the machine; one caller at a time, by syncing.
	fsync   func(*os.File) error
	syncing sync.Mutex

	mu    sync.Mutex
	write *os.File
	last  int64 // the number of the file that is written
	size  int64
	sizes map[int64]int64 // of all files
	total int64
	dirty bool

	// at is how far Done was said, next how far was read; each a file and an offset.
	at, next Place
	// more is a bell for the reader.
	more chan struct{}
	// unreadable counts bytes that were left out because they were damaged.
	unreadable int64
}

// Place is how far a spool is read or taken: a file of it, and an offset in bytes.
type Place struct{ File, Offset int64 }

// openSpool opens the spool of a folder, which is made where it is missing. What a crash left half-written at its end
// is cut off.
func openSpool(dir string, most int64) (*spool, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("make a spool: %w", err)
	}
	s := &spool{
		dir:     dir,
		most:    most,
		segment: min(maxSegment, most/4),
		fsync:   (*os.File).Sync,
		sizes:   map[int64]int64{},
		more:    make(chan struct{}, 1),
	}
	if err := s.name(); err != nil {
		return nil, err
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, fmt.Errorf("open a spool: %w", err)
	}
	var numbers []int64
	for _, e := range entries {
		if n, ok := strings.CutSuffix(e.Name(), ".seg"); ok {
			number, err := strconv.ParseInt(n, 10, 64)
			if err != nil {
				continue
			}
			info, err := e.Info()
			if err != nil {
				return nil, fmt.Errorf("open a spool: %w", err)
			}
			numbers = append(numbers, number)
			s.sizes[number] = info.Size()
			s.total += info.Size()
		}
	}
	slices.Sort(numbers)
	s.at = Place{File: int64(1)}
	if len(numbers) > 0 {
		s.at.File, s.last = numbers[0], numbers[len(numbers)-1]
		if err := s.mend(s.last); err != nil {
			return nil, err
		}
	}
	s.readPlace()
	s.next = s.at
	if err := s.begin(s.last + 1); err != nil {
		return nil, err
	}
	s.ring()
	return s, nil
}

func (s *spool) path(number int64) string {
	return filepath.Join(s.dir, fmt.Sprintf("%08d.seg", number))
}

// name takes up what the spool is called, or calls it something: a folder that is made anew is another spool.
func (s *spool) name() error {
	path := filepath.Join(s.dir, "id")
	b, err := os.ReadFile(path)
	if err == nil && len(b) == len(rand.Text()) {
		s.id = string(b)
		return nil
	}
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("open a spool: %w", err)
	}
	s.id = rand.Text()
	if err := os.WriteFile(path+".new", []byte(s.id), 0o600); err != nil {
		return fmt.Errorf("make a spool: %w", err)
	}
	if err := os.Rename(path+".new", path); err != nil {
		return fmt.Errorf("make a spool: %w", err)
	}
	return syncFolder(s.dir)
}

// readPlace takes up how far the last reader was; a place that cannot be read is the beginning.
func (s *spool) readPlace() {
	b, err := os.ReadFile(filepath.Join(s.dir, "read"))
	if err != nil || len(b) != 16 {
		return
	}
	// As Done wrote it.
	p := Place{int64(binary.BigEndian.Uint64(b)), int64(binary.BigEndian.Uint64(b[8:]))} //nolint:gosec // as written
	if size, ok := s.sizes[p.File]; ok && p.File >= s.at.File && p.Offset <= size {
		s.at = p
	}
}

// mend cuts off what is not whole at the end of a file.
func (s *spool) mend(number int64) error {
	f, err := os.OpenFile(s.path(number), os.O_RDWR, 0)
	if err != nil {
		return fmt.Errorf("open a spool: %w", err)
	}
	defer f.Close() //nolint:errcheck // what was cut is cut
	good := int64(0)
	for {
		_, n, err := record(f)
		if err != nil {
			break
		}
		good += n
	}
	if lost := s.sizes[number] - good; lost > 0 {
		s.unreadable += lost
		s.total -= lost
		s.sizes[number] = good
		return f.Truncate(good)
	}
	return nil
}

// record reads the next record and tells how long it is with its head.
func record(r io.Reader) ([]byte, int64, error) {
	var head [headSize]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return nil, 0, err
	}
	size := binary.BigEndian.Uint32(head[:4])
	if size > maxRecord {
		return nil, 0, errDamaged
	}
	body := make([]byte, size)
	if _, err := io.ReadFull(r, body); err != nil {
		return nil, 0, errDamaged
	}
	if crc32.Checksum(body, castagnoli) != binary.BigEndian.Uint32(head[4:]) {
		return nil, 0, errDamaged
	}
	return body, int64(size) + headSize, nil
}

// maxRecord bounds one record, in bytes.
const maxRecord = 1 << 20

var errDamaged = errors.New("a record is damaged")

// begin begins another file.
func (s *spool) begin(number int64) error {
	f, err := os.OpenFile(s.path(number), os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return fmt.Errorf("write a spool: %w", err)
	}
	if s.write != nil {
		if err := errors.Join(s.write.Sync(), s.write.Close()); err != nil {
			return errors.Join(fmt.Errorf("write a spool: %w", err), f.Close())
		}
	}
	s.write, s.last, s.size, s.sizes[number] = f, number, 0, 0
	return syncFolder(s.dir)
}

// syncFolder sees to it that a new file's name survives the end of the machine.
func syncFolder(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return fmt.Errorf("write a spool: %w", err)
	}
	return errors.Join(d.Sync(), d.Close())
}

// Append keeps records in their order, as many as there is room for, and tells how many those are. errFull says that
// there was no room for the rest.
func (s *spool) Append(records [][]byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	var buf []byte
	n := 0
	full := false
	for _, r := range records {
		if len(r) > maxRecord || s.total+int64(len(buf)+len(r)+headSize) > s.most {
			full = true
			break
		}
		buf = binary.BigEndian.AppendUint32(buf, uint32(len(r))) //nolint:gosec // bounded above
		buf = binary.BigEndian.AppendUint32(buf, crc32.Checksum(r, castagnoli))
		buf = append(buf, r...)
		n++
	}
	if n > 0 {
		if err := s.put(buf); err != nil {
			return 0, err
		}
		s.ring()
	}
	if full {
		return n, errFull
	}
	return n, nil
}

func (s *spool) put(buf []byte) error {
	if s.size >= s.segment {
		if err := s.begin(s.last + 1); err != nil {
			return err
		}
	}
	if _, err := s.write.Write(buf); err != nil {
		// Half of it may be there: nothing may follow that.
		return errors.Join(fmt.Errorf("write a spool: %w", err), s.write.Truncate(s.size), s.seekEnd())
	}
	s.size += int64(len(buf))
	s.total += int64(len(buf))
	s.sizes[s.last] = s.size
	s.dirty = true
	return nil
}

func (s *spool) seekEnd() error {
	_, err := s.write.Seek(s.size, io.SeekStart)
	return err
}

func (s *spool) ring() {
	select {
	case s.more <- struct{}{}:
	default:
	}
}

// given is a record that was read, and the place after it.
type given struct {
	body []byte
	end  Place
}

// Next gives up to most records that were not given yet, and the place after them for Done; none where there are none.
// One reader at a time.
func (s *spool) Next(most int) ([]given, Place, error) {
	var out []given
	for {
		s.mu.Lock()
		from, size, last := s.next, s.sizes[s.next.File], s.last
		s.mu.Unlock()
		if from.Offset >= size {
			if from.File >= last || len(out) > 0 {
				return out, from, nil
			}
			s.setNext(s.after(from.File, last))
			continue
		}
		got, end, err := s.read(from, size, most)
		s.setNext(end)
		if err != nil {
			return got, end, err
		}
		return got, end, nil
	}
}

// after is the beginning of the file after one; files that are gone are passed over.
func (s *spool) after(file, last int64) Place {
	s.mu.Lock()
	defer s.mu.Unlock()
	for n := file + 1; n <= last; n++ {
		if _, ok := s.sizes[n]; ok {
			return Place{File: int64(n)}
		}
	}
	return Place{File: int64(last)}
}

func (s *spool) setNext(p Place) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.next = p
}

// read reads records of one file. What is damaged ends the file: the rest of it is left out, and counted.
func (s *spool) read(from Place, size int64, most int) ([]given, Place, error) {
	f, err := os.Open(s.path(from.File))
	if err != nil {
		return nil, from, fmt.Errorf("read a spool: %w", err)
	}
	defer f.Close() //nolint:errcheck // it was only read
	r := io.NewSectionReader(f, from.Offset, size-from.Offset)
	buffered := bufio.NewReaderSize(r, 1<<16)
	var out []given
	for begun := from.Offset; len(out) < most && from.Offset < min(size, begun+maxGiven); {
		body, n, err := record(buffered)
		if err != nil {
			s.mu.Lock()
			s.unreadable += size - from.Offset
			s.mu.Unlock()
			from.Offset = size
			break
		}
		from.Offset += n
		out = append(out, given{body, from})
	}
	return out, from, nil
}

// Done says that all before a place is taken care of: it is not given again.
func (s *spool) Done(p Place) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	for n, size := range s.sizes {
		if n < p.File || n == p.File && n != s.last && p.Offset >= size {
			if err := os.Remove(s.path(n)); err != nil && !errors.Is(err, os.ErrNotExist) {
				return fmt.Errorf("clear a spool: %w", err)
			}
			s.total -= size
			delete(s.sizes, n)
		}
	}
	s.at = p
	b := binary.BigEndian.AppendUint64(nil, uint64(p.File))        //nolint:gosec // it counts from 1
	b = binary.BigEndian.AppendUint64(b, uint64(max(0, p.Offset))) //nolint:gosec // it is none below 0
	if err := os.WriteFile(filepath.Join(s.dir, "read.new"), b, 0o600); err != nil {
		return fmt.Errorf("clear a spool: %w", err)
	}
	return os.Rename(filepath.Join(s.dir, "read.new"), filepath.Join(s.dir, "read"))
}

// Seek goes on at a place up to which all is taken, whatever was read or said to be done, and gives it as the spool has
// it: where its file is gone, the beginning of the first that is there after it. It reports false, and begins with what
// was not said to be done, where the spool holds nothing so far.
func (s *spool) Seek(p Place) (Place, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.next = s.at
	if size, ok := s.sizes[p.File]; ok && p.Offset <= size {
		s.next = p
		return p, true
	}
	first := s.last + 1
	for n := range s.sizes {
		if n > p.File {
			first = min(first, n)
		}
	}
	if first > s.last {
		return s.at, false
	}
	s.next = Place{File: first}
	return s.next, true
}

// At is how far it was said to be done.
func (s *spool) At() Place {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.at
}

// Sync sees to it that what was kept survives the end of the machine.
func (s *spool) Sync() error {
	s.syncing.Lock() // what another keeps at this moment is kept only when that ends
	defer s.syncing.Unlock()
	s.mu.Lock()
	f, dirty := s.write, s.dirty
	s.dirty = false
	s.mu.Unlock()
	if !dirty {
		return nil
	}
	if err := s.fsync(f); err != nil && !errors.Is(err, os.ErrClosed) { // another file was begun: that one is synced
		s.mu.Lock()
		s.dirty = true // whoever asks next is not told that it is kept
		s.mu.Unlock()
		return fmt.Errorf("keep a spool: %w", err)
	}
	return nil
}

// Waiting is how many bytes are kept that were not said to be done.
func (s *spool) Waiting() int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.total - min(s.at.Offset, s.sizes[s.at.File])
}

// Unreadable is how many bytes were left out because they were damaged.
func (s *spool) Unreadable() int64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.unreadable
}

func (s *spool) Close() error {
	err := s.Sync()
	s.mu.Lock()
	defer s.mu.Unlock()
	return errors.Join(err, s.write.Close())
}

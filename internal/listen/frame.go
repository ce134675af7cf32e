package listen

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"os"
	"time"

	"urgentis/core/source"
)

// How a stream of syslog is damaged.
const (
	wrongCount = "the length before a message is wrong"
	cutShort   = "a message ends before its length"
	tooLong    = "a message is too long"
	strayText  = "text between messages is no message"
)

// damages are the kinds of damage as monitors see them.
var damages = map[string]string{wrongCount: "length", cutShort: "cut", tooLong: "long", strayText: "stray"}

const (
	// restOfMessage is how long the rest of a message is waited for.
	restOfMessage = 30 * time.Second
	// restOfHead is how long is waited for what follows a message whose length may be wrong: one that ends in a digit,
	// too.
	restOfHead = 200 * time.Millisecond
	// maxHead is how long a length with the begin of its message may be: ten digits, a blank, "<191>".
	maxHead = 16
)

// framer takes a stream of syslog apart by RFC 6587: messages with their length before them, or ended by a line feed.
// Nobody can ask its sender anything, so that it finds its way again after damage: where a length is wrong it goes on
// at the next "LENGTH <PRIORITY>" that it sees, loses no more than what is damaged, and says so.
type framer struct {
	r *bufio.Reader
	// damaged is told of each damage.
	damaged func(kind string)
	// within bounds how long is read; 0: as long as it takes. nil where reading never waits.
	within func(time.Duration)
	// counted says that a length was seen: text ends at the next one, too.
	counted bool
	// after says that nothing but the last message's bytes was read since.
	after bool
}

func newFramer(r io.Reader, damaged func(kind string), within func(time.Duration)) *framer {
	if within == nil {
		within = func(time.Duration) {}
	}
	return &framer{r: bufio.NewReaderSize(r, 2*source.MaxSyslog), damaged: damaged, within: within}
}

// next gives the next message. At the end of the stream it gives what is left with the error, which may be nothing.
func (f *framer) next() ([]byte, error) {
	for {
		if err := f.skip(); err != nil {
			return nil, err
		}
		size, length := f.head()
		switch {
		case length > 0:
			f.counted, f.after = true, true
			body, err := f.frame(size, length)
			if len(body) > 0 || err != nil {
				return body, err
			}
		case f.after:
			f.damaged(strayText)
			f.after = false
			if _, err := f.text(); err != nil {
				return nil, err
			}
		default:
			return f.text()
		}
	}
}

// skip passes over what may stand between messages.
func (f *framer) skip() error {
	for {
		b, err := f.r.ReadByte()
		switch {
		case err != nil:
			return err
		case between(b):
			f.after = false
		default:
			return f.r.UnreadByte()
		}
	}
}

// head reads ahead whether a length and the begin of its message stand here. length is that of the digits and
// the blank; 0 where there is none.
func (f *framer) head() (size int64, length int) {
	for n := 1; n <= maxHead; n++ {
		seen, err := f.r.Peek(n)
		size, length, whole := headOf(seen)
		if whole || err != nil {
			return size, length
		}
	}
	return 0, 0
}

// headOf reads a length and the begin of its message at the begin of some bytes. whole: more of them would not change
// what it says.
func headOf(b []byte) (size int64, length int, whole bool) {
	i := 0
	for i < len(b) && b[i] >= '0' && b[i] <= '9' {
		if i == 0 && b[i] == '0' || i == 10 {
			return 0, 0, true
		}
		size = size*10 + int64(b[i]-'0')
		i++
	}
	switch {
	case i == len(b):
		return 0, 0, false
	case i == 0 || b[i] != ' ':
		return 0, 0, true
	}
	length = i + 1
	if length == len(b) {
		return 0, 0, false
	}
	if b[length] != '<' {
		return 0, 0, true
	}
	i = length + 1
	for i < len(b) && b[i] >= '0' && b[i] <= '9' && i <= length+3 {
		i++
	}
	if i == len(b) {
		return 0, 0, false
	}
	if i == length+1 || b[i] != '>' {
		return 0, 0, true
	}
	return size, length, true
}

// firstHead is where in some bytes a length with the begin of its message stands, after the first byte and before
// another place; -1 without one. Of several, as its digits may be taken for more or fewer, it is the first that
// another one follows as its length says.
func firstHead(b []byte, before int) int {
	first := -1
	for i := 1; i < before; i++ {
		size, length, _ := headOf(b[i:])
		if length == 0 {
			continue
		}
		if end := int64(i+length) + size; end <= int64(len(b)) && begins(b[end:]) {
			return i
		}
		if first < 0 {
			first = i
		}
	}
	return first
}

// frame reads a message whose length is told.
func (f *framer) frame(size int64, length int) ([]byte, error) {
	f.r.Discard(length) //nolint:errcheck // it was seen
	if size > source.MaxSyslog {
		f.damaged(tooLong)
		f.after = false
		return f.text()
	}
	f.within(restOfMessage)
	defer f.within(0)
	n := int(size)
	seen, err := f.r.Peek(n)
	if err != nil { // it comes again where it is more than patience
		f.damaged(cutShort)
		if inside := firstHead(seen, len(seen)); inside >= 0 {
			f.after = false
			return f.take(inside), nil
		}
		return f.take(len(seen)), nil
	}
	ahead := f.ahead(n)
	inside := -1
	if begins(ahead[n:]) {
		if inside = filledFrom(ahead, n); inside < 0 {
			return f.take(n), nil
		}
	} else {
		f.within(restOfHead)
		f.r.Peek(2 * source.MaxSyslog)      //nolint:errcheck // what there is counts
		ahead, _ = f.r.Peek(f.r.Buffered()) //nolint:errcheck // it is there
		inside = firstHead(ahead, n)
	}
	f.damaged(wrongCount)
	f.after = false
	if inside >= 0 {
		return f.take(inside), nil
	}
	body := f.take(n)
	rest, err := f.text()
	if errors.Is(err, os.ErrDeadlineExceeded) {
		err = nil // what there is of it was read
	}
	body = append(body, rest...)
	return body[:min(len(body), source.MaxSyslog)], err
}

// take reads bytes that were seen.
func (f *framer) take(n int) []byte {
	seen, _ := f.r.Peek(n) //nolint:errcheck // they are there
	body := bytes.TrimRight(bytes.Clone(seen), "\r\n\x00")
	f.r.Discard(n) //nolint:errcheck // they are there
	return body
}

// filledFrom is where within the first n bytes other messages with their lengths begin that fill the rest of the n,
// which no message does by chance; -1 where none do: a length that is wrong by just as much as those that follow are
// long, and perhaps by the begin of one more.
func filledFrom(b []byte, n int) int {
	if n == 0 || !bytes.Contains(b[1:n], []byte(" <")) {
		return -1
	}
	fills, at := make([]bool, n+1), -1
	fills[n] = true
	for i := n - 1; i > 0; i-- {
		size, length, whole := headOf(b[i:n])
		switch {
		case !whole:
			fills[i] = true
		case length > 0 && size <= int64(n-i-length):
			end := i + length + int(size)
			for end < n && between(b[end]) {
				end++
			}
			if fills[i] = fills[end]; fills[i] {
				at = i
			}
		}
	}
	return at
}

// between reports whether a byte may stand between messages.
func between(b byte) bool { return b == '\n' || b == '\r' || b == 0 }

// ahead gives the first n bytes, which are there, and what there is after them. That is waited for only where the n
// look as if another message began in them.
func (f *framer) ahead(n int) []byte {
	seen, _ := f.r.Peek(f.r.Buffered()) //nolint:errcheck // it is there
	if len(seen) < n+maxHead && (firstHead(seen, n) >= 0 || endsInHead(seen[:n])) {
		f.within(restOfHead)
		f.r.Peek(n + maxHead)              //nolint:errcheck // what there is counts
		seen, _ = f.r.Peek(f.r.Buffered()) //nolint:errcheck // it is there
	}
	return seen
}

// endsInHead reports whether the end of some bytes could be the begin of a length with its message.
func endsInHead(b []byte) bool {
	for i := max(1, len(b)-maxHead); i < len(b); i++ {
		if _, _, whole := headOf(b[i:]); !whole {
			return true
		}
	}
	return false
}

// begins reports whether what follows a message may be the begin of the next one.
func begins(b []byte) bool {
	if len(b) == 0 || between(b[0]) {
		return true
	}
	_, length, whole := headOf(b)
	return length > 0 || !whole
}

// text reads up to a line feed, or up to a length with the begin of its message, once one was seen. What is longer
// than a message may be is cut.
func (f *framer) text() ([]byte, error) {
	var out []byte
	long := false
	defer func() {
		if long {
			f.damaged(tooLong)
		}
	}()
	for {
		b, err := f.r.ReadByte()
		if err != nil || b == '\n' {
			return bytes.TrimRight(out, "\r\x00"), err
		}
		if f.counted && b >= '1' && b <= '9' && len(out) > 0 {
			f.r.UnreadByte() //nolint:errcheck // it was just read
			if _, length := f.head(); length > 0 {
				return bytes.TrimRight(out, "\r\x00"), nil
			}
			f.r.ReadByte() //nolint:errcheck // it is there
		}
		if len(out) < source.MaxSyslog {
			out = append(out, b)
		} else {
			long = true
		}
	}
}

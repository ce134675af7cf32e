package server

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"urgentis/core/access"
)

// Bounds of what is kept of bodies while they come in. What somebody sends at once and is small needs no room: most of
// what is sent is. The rest shares room, so that those who hold bodies back fill no memory, and of each network only a
// part of it, so that they keep nobody else out.
const (
	freeBody    = 16 << 10  // of each body
	unknownBody = 64 << 10  // all of one by somebody who is not known yet
	roomForAll  = 128 << 20 // of all bodies beyond that
	roomForEach = 32 << 20  // of one network: an address of IPv4, or 64 bits of one of IPv6
	roomTime    = 5 * time.Second
)

// room is what bodies share.
type room struct {
	mu    sync.Mutex
	used  int64
	by    map[netip.Prefix]int64
	freed chan struct{} // closed, and made anew, as something is given back
}

func newRoom() *room { return &room{by: map[netip.Prefix]int64{}, freed: make(chan struct{})} }

// take takes room for so many bytes, waiting for it for a while; false where there is none.
func (r *room) take(ctx context.Context, of netip.Prefix, n int64) bool {
	ctx, cancel := context.WithTimeout(ctx, roomTime)
	defer cancel()
	for {
		r.mu.Lock()
		if r.used+n <= roomForAll && r.by[of]+n <= roomForEach {
			r.used, r.by[of] = r.used+n, r.by[of]+n
			r.mu.Unlock()
			return true
		}
		freed := r.freed
		r.mu.Unlock()
		select {
		case <-freed:
		case <-ctx.Done():
			return false
		}
	}
}

func (r *room) giveBack(of netip.Prefix, n int64) {
	if n == 0 {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.used -= n
	if r.by[of] -= n; r.by[of] == 0 {
		delete(r.by, of)
	}
	close(r.freed)
	r.freed = make(chan struct{})
}

// networkOf is where a request comes from, as far as one sender is told from another.
func networkOf(c *gin.Context) netip.Prefix {
	a, err := netip.ParseAddr(c.ClientIP())
	if err != nil {
		return netip.Prefix{}
	}
	bits := 64
	if a = a.Unmap(); a.Is4() {
		bits = 32
	}
	p, _ := a.Prefix(bits) // the bits fit
	return p
}

var errNoRoom = errors.New("the service has no room for it at the moment")

// readBody reads a body of at most so many bytes. given is how much room it took, which is to be given back.
func (s *Server) readBody(c *gin.Context, most int64) (body []byte, given int64, err error) {
	said := c.Request.ContentLength // -1 where it is not
	if said > most {
		return nil, 0, &http.MaxBytesError{Limit: most}
	}
	in := http.MaxBytesReader(c.Writer, c.Request.Body, most)
	var buf bytes.Buffer
	if said > 0 {
		buf.Grow(int(min(said, freeBody)) + bytes.MinRead)
	}
	n, err := io.CopyN(&buf, in, freeBody)
	if errors.Is(err, io.EOF) {
		return buf.Bytes(), 0, nil
	}
	if err != nil || n == said {
		return buf.Bytes(), 0, err
	}
	if given = most; said > 0 {
		given = said
	}
	if !s.room.take(c.Request.Context(), networkOf(c), given) {
		return nil, 0, errNoRoom
	}
	buf.Grow(int(given-n) + bytes.MinRead)
	_, err = buf.ReadFrom(in)
	return buf.Bytes(), given, err
}

// bodies reads what a request carries, once it is known whose it is, and refuses the one character that the database
// cannot keep, wherever in a request it stands. A file is read as it comes in, and not before.
func (s *Server) bodies(c *gin.Context) {
	conn := http.NewResponseController(c.Writer)
	if c.Request.Body == nil || c.Request.ContentLength == 0 {
		return
	}
	if isFile(c.Request) {
		conn.SetReadDeadline(time.Now().Add(fileTime))  //nolint:errcheck // a recorder in a test has no connection
		conn.SetWriteDeadline(time.Now().Add(fileTime)) //nolint:errcheck // a recorder in a test has no connection
		c.Request.Body = http.MaxBytesReader(c.Writer, c.Request.Body, bodyLimit(c.Request))
		return
	}
	most := bodyLimit(c.Request)
	if p, _ := c.Request.Context().Value(principalKey{}).(*access.Principal); p == nil &&
		strings.HasPrefix(c.Request.URL.Path, "/api/") {
		most = unknownBody
	}
	body, given, err := s.readBody(c, most)
	defer s.room.giveBack(networkOf(c), given) // once the request is over
	if err != nil {
		refuseBody(c, err, most)
		return
	}
	conn.SetReadDeadline(time.Time{}) //nolint:errcheck // see above
	if !ofSender(c.Request) && (bytes.IndexByte(body, 0) >= 0 || writtenNUL(body)) {
		problem(c, bad("nul", "the body holds the NUL character, which cannot be kept"))
		return
	}
	c.Set(rawBody, body)
	c.Request.Body = io.NopCloser(bytes.NewReader(body))
	c.Next()
}

// ofSender reports whether a request is of a source or a start address, whose bytes are kept whatever they are.
func ofSender(r *http.Request) bool {
	return strings.HasPrefix(r.URL.Path, "/in/") || strings.HasPrefix(r.URL.Path, "/start/")
}

func refuseBody(c *gin.Context, err error, most int64) {
	c.Header("Connection", "close")
	var large *http.MaxBytesError
	switch {
	case errors.As(err, &large):
		problem(c, &Problem{http.StatusRequestEntityTooLarge, "too-large",
			fmt.Sprintf("the body is larger than %d kB", most>>10), nil})
	case errors.Is(err, errNoRoom):
		c.Header("Retry-After", "5")
		problem(c, &Problem{http.StatusServiceUnavailable, "busy",
			err.Error() + "; send it again in a few seconds", nil})
	default:
		problem(c, &Problem{http.StatusRequestTimeout, "body",
			fmt.Sprintf("the body did not come whole within %s", bodyTime), nil})
	}
}

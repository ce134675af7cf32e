package server

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"urgentis/internal/access"
	"urgentis/internal/engine"
	"urgentis/internal/store"
)

// Stream passes on what changes to all who listen. It reads the feed in commit order, twenty times a second.
type Stream struct {
	store     *store.Store
	log       *slog.Logger
	mu        sync.Mutex
	listeners map[chan message]struct{}
	ctx       context.Context
	cancel    context.CancelFunc
	done      sync.WaitGroup
}

type message struct {
	id, event, data string
}

// NewStream begins to read the feed.
func NewStream(s *store.Store, log *slog.Logger) *Stream {
	st := &Stream{store: s, log: log, listeners: map[chan message]struct{}{}}
	st.ctx, st.cancel = context.WithCancel(context.Background())
	st.done.Add(1)
	go st.read()
	return st
}

// Stop ends the reading and all listening.
func (s *Stream) Stop() {
	s.cancel()
	s.done.Wait()
}

// Output passes on what a command prints.
func (s *Stream) Output(o engine.Output) {
	data, err := json.Marshal(o)
	if err != nil {
		return
	}
	s.send(message{event: "output", data: string(data)})
}

func (s *Stream) send(m message) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for l := range s.listeners {
		select {
		case l <- m:
		default:
			// Too slow: it is told to read everything anew when it can take something again.
			delete(s.listeners, l)
			close(l)
		}
	}
}

func (s *Stream) listen() chan message {
	l := make(chan message, 256)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.listeners[l] = struct{}{}
	return l
}

func (s *Stream) forget(l chan message) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if _, ok := s.listeners[l]; ok {
		delete(s.listeners, l)
		close(l)
	}
}

// pause is how often the feed is read while nothing says that it has grown. Reading it is one index
// probe, cheaper than a notice in every commit, which would take a lock over all commits.
const pause = 50 * time.Millisecond

func (s *Stream) read() {
	defer s.done.Done()
	xid, id, err := s.store.FeedEnd(s.ctx)
	for err != nil && s.ctx.Err() == nil {
		time.Sleep(pause)
		xid, id, err = s.store.FeedEnd(s.ctx)
	}
	for {
		select {
		case <-s.ctx.Done():
			return
		case <-time.After(pause):
		}
		rows, err := s.store.FeedAfter(s.ctx, xid, id)
		if err != nil {
			continue
		}
		for _, r := range rows {
			xid, id = r.Xid, r.ID
			s.send(line(r))
		}
	}
}

func line(r store.Feed) message {
	data, _ := json.Marshal(map[string]any{"topic": r.Topic, "id": r.Ref, "incident": r.Incident})
	return message{id: fmt.Sprintf("%s-%d", r.Xid, r.ID), event: "changed", data: string(data)}
}

// recheck is how often a stream makes sure that its reader may still read it.
const recheck = 3 * time.Second

// getStream is GET /api/v1/stream.
func (s *Server) getStream(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("X-Accel-Buffering", "no")
	conn := http.NewResponseController(c.Writer)
	l := s.Stream.listen()
	defer s.Stream.forget(l)
	write := func(m message) bool {
		var b strings.Builder
		if m.id != "" {
			b.WriteString("id: " + m.id + "\n")
		}
		b.WriteString("event: " + m.event + "\ndata: " + m.data + "\n\n")
		conn.SetWriteDeadline(time.Now().Add(15 * time.Second)) //nolint:errcheck // a recorder in a test has no connection
		_, err := c.Writer.WriteString(b.String())
		c.Writer.Flush()
		return err == nil
	}
	if !s.resume(c, write) {
		return
	}
	beat := time.NewTicker(15 * time.Second)
	defer beat.Stop()
	// Who signed out, was removed or lost their roles hears no more.
	still := time.NewTicker(recheck)
	defer still.Stop()
	for {
		select {
		case m, ok := <-l:
			if !ok {
				write(message{event: "behind", data: "{}"})
				return
			}
			if !write(m) {
				return
			}
		case <-beat.C:
			if !write(message{event: "beat", data: "{}"}) {
				return
			}
		case <-still.C:
			p, err := s.principal(c)
			if err == nil && !p.May(string(access.Viewer)) {
				write(message{event: "signed-out", data: "{}"})
				return
			}
		case <-c.Request.Context().Done():
			return
		case <-s.Stream.ctx.Done():
			return
		}
	}
}

// resume repeats what was missed since Last-Event-ID; what both it and the live part say is said twice.
func (s *Server) resume(c *gin.Context, write func(message) bool) bool {
	if !write(message{event: "hello", data: "{}"}) {
		return false
	}
	xid, rest, ok := strings.Cut(c.GetHeader("Last-Event-ID"), "-")
	id, err := strconv.ParseInt(rest, 10, 64)
	if _, bad := strconv.ParseUint(xid, 10, 64); !ok || err != nil || bad != nil {
		return true
	}
	rows, err := s.Store.FeedAfter(c.Request.Context(), xid, id)
	if err != nil || len(rows) >= 1000 {
		return write(message{event: "behind", data: "{}"})
	}
	for _, r := range rows {
		if !write(line(r)) {
			return false
		}
	}
	return true
}

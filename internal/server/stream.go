package server

import (
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"urgentis/core/access"
	"urgentis/internal/app"
)

// message is one server-sent event.
type message struct {
	id, event, data string
}

// messageOf is how something that changed, or was printed, is told.
func messageOf(n app.News) message {
	if n.Output != nil {
		data, _ := json.Marshal(n.Output) // it is made of texts
		return message{event: "output", data: string(data)}
	}
	r := n.Changed
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
	l := s.Feed.Listen()
	defer s.Feed.Forget(l)
	write := func(m message) bool {
		var b strings.Builder
		if m.id != "" {
			b.WriteString("id: " + m.id + "\n")
		}
		b.WriteString("event: " + m.event + "\ndata: " + m.data + "\n\n")
		conn.SetWriteDeadline(
			time.Now().Add(15 * time.Second),
		) //nolint:errcheck // a recorder in a test has no connection
		_, err := c.Writer.WriteString(b.String())
		c.Writer.Flush()
		return err == nil
	}
	if !s.resume(c, write) {
		return
	}
	reader := who(c.Request.Context())
	beat := time.NewTicker(15 * time.Second)
	defer beat.Stop()
	// Who signed out, was removed or lost their roles hears no more.
	still := time.NewTicker(recheck)
	defer still.Stop()
	for {
		select {
		case n, ok := <-l:
			if !ok {
				write(message{event: "behind", data: "{}"})
				return
			}
			if n.Changed != nil && !app.Hears(reader, n.Changed) {
				continue
			}
			if !write(messageOf(n)) {
				return
			}
		case <-beat.C:
			if !write(message{event: "beat", data: "{}"}) {
				return
			}
		case <-still.C:
			p, err := s.principal(c)
			if err == nil {
				reader = p
			}
			if err == nil && access.Can(p, access.See, access.Installation) != nil {
				write(message{event: "signed-out", data: "{}"})
				return
			}
		case <-c.Request.Context().Done():
			return
		case <-s.Feed.Stopped():
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
	rows, ok := s.Feed.Missed(c.Request.Context(), xid, id)
	if !ok {
		return write(message{event: "behind", data: "{}"})
	}
	reader := who(c.Request.Context())
	for i := range rows {
		if app.Hears(reader, &rows[i]) && !write(messageOf(app.News{Changed: &rows[i]})) {
			return false
		}
	}
	return true
}

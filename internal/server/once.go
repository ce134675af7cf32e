package server

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/gin-gonic/gin"

	"urgentis/internal/app"
)

// onceHeader carries the identity of what is asked for (IETF draft idempotency-key-header).
const onceHeader = "Idempotency-Key"

// Bounds of an identity, and of an answer that is kept, in bytes.
const (
	maxOnceID     = 200
	maxOnceAnswer = 256 << 10
)

// onceOperations reads which operations are done once under an identity (x-once).
func onceOperations(doc *openapi3.T) map[string]bool {
	out := map[string]bool{}
	for path, item := range doc.Paths.Map() {
		for method, op := range item.Operations() {
			if once, _ := op.Extensions["x-once"].(bool); once {
				out[method+" "+ginPath(path)] = true
			}
		}
	}
	return out
}

// keptAnswer is an answer as it is given again.
type keptAnswer struct {
	Status int             `json:"status"`
	Body   json.RawMessage `json:"body"`
}

// onceOnly does what is asked for under an identity once, and answers the same to whoever asks again: a client whose
// connection dropped after the request cannot know whether it was heard.
func (s *Server) onceOnly(c *gin.Context) {
	id := c.GetHeader(onceHeader)
	if id == "" || !s.once[c.Request.Method+" "+c.FullPath()] {
		return
	}
	if len(id) > maxOnceID || strings.ContainsFunc(id, func(r rune) bool { return r < ' ' || r > '~' }) {
		problem(c, bad("identity", "%s has up to %d printable characters", onceHeader, maxOnceID))
		return
	}
	body, _ := c.Get(rawBody)
	raw, _ := body.([]byte)
	what := append([]byte(c.Request.Method+" "+c.Request.URL.RequestURI()+"\n"), raw...)
	// It is noted and done, though whoever asked for it is gone: they ask again, and hear what came of it. Were it
	// noted as somebody leaves, and not done, nobody would know.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(c.Request.Context()), answerTime)
	defer cancel()
	once, before, err := s.App.Asked(ctx, who(ctx), id, what)
	if err != nil {
		s.problem(c, err)
		return
	}
	if before != nil {
		s.answerAgain(c, *before)
		return
	}
	c.Request = c.Request.WithContext(ctx)
	w := &listening{ResponseWriter: c.Writer}
	c.Writer = w
	c.Next()
	s.noteAnswer(c, once, w)
}

// answerAgain gives the answer that was given before.
func (s *Server) answerAgain(c *gin.Context, before string) {
	var kept keptAnswer
	if err := json.Unmarshal([]byte(before), &kept); err != nil {
		s.problem(c, err)
		return
	}
	c.Header("Idempotent-Replayed", "true")
	c.Abort()
	if len(kept.Body) == 0 || string(kept.Body) == "null" {
		c.Status(kept.Status)
		return
	}
	c.Data(kept.Status, "application/json; charset=utf-8", kept.Body)
}

// noteAnswer keeps what was answered. What was refused may be asked for again; what the service failed at stays without
// an answer, as nobody knows how far it came.
func (s *Server) noteAnswer(c *gin.Context, once *app.Once, w *listening) {
	var err error
	switch status := w.Status(); {
	case status >= http.StatusInternalServerError:
	case status >= http.StatusBadRequest:
		err = once.Refused(c)
	default:
		kept := keptAnswer{Status: status}
		if json.Valid(w.said.Bytes()) {
			kept.Body = bytes.Clone(w.said.Bytes())
		}
		var b []byte
		if b, err = json.Marshal(kept); err == nil {
			err = once.Answered(c, string(b))
		}
	}
	if err != nil {
		s.Log.Warn("note what was answered", "error", err)
	}
}

// listening is a writer of answers that hears what is written, up to a bound.
type listening struct {
	gin.ResponseWriter
	said bytes.Buffer
}

func (w *listening) Write(b []byte) (int, error) {
	if w.said.Len()+len(b) <= maxOnceAnswer {
		w.said.Write(b)
	}
	return w.ResponseWriter.Write(b)
}

func (w *listening) WriteString(s string) (int, error) { return w.Write([]byte(s)) }

package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"
	"github.com/jackc/pgx/v5/pgconn"

	"urgentis/api"
	"urgentis/core/access"
	"urgentis/core/doc"
	"urgentis/core/leave"
	"urgentis/internal/app"
	"urgentis/internal/engine"
	"urgentis/internal/intake"
	"urgentis/internal/signin"
	"urgentis/internal/store"
)

// Problem is an error as it is answered (RFC 9457).
type Problem struct {
	Status   int
	Code     string // stable, for programs
	Detail   string // one sentence for people
	Findings []api.Finding
}

func (p *Problem) Error() string { return p.Detail }

func bad(code, format string, args ...any) *Problem {
	return &Problem{http.StatusBadRequest, code, fmt.Sprintf(format, args...), nil}
}

// retryAfter is in how many seconds a refused report is worth another try.
var retryAfter = map[string]string{"rate": "1", "busy": "1", "uncertain": "5", "unavailable": "5", "unparsed": "60"}

// problem answers with one.
func problem(c *gin.Context, p *Problem) {
	c.Abort()
	if c.Writer.Written() {
		return
	}
	c.Header("Content-Type", "application/problem+json")
	if wait, ok := retryAfter[p.Code]; ok {
		c.Header("Retry-After", wait)
	}
	c.JSON(
		p.Status,
		api.Problem{
			Type:     "about:blank",
			Title:    http.StatusText(p.Status),
			Status:   p.Status,
			Code:     p.Code,
			Detail:   p.Detail,
			Findings: findings(p.Findings),
		},
	)
}

// findings gives nil where there are none.
func findings(list []api.Finding) []api.Finding {
	if len(list) == 0 {
		return nil
	}
	return list
}

func apiFinding(x doc.Finding) api.Finding {
	return api.Finding{Line: x.Line, Column: x.Column, Warning: x.Warning, Message: x.Message, Meant: x.Meant}
}

// whole stands for all the words of an error.
const whole = "whole"

// known are errors that a person can do something about.
var known = []struct {
	is     error
	status int
	code   string
	detail string // "" for the error's own words
}{
	{store.ErrNotFound, http.StatusNotFound, "not-found", "there is no such thing here"},
	{store.ErrExists, http.StatusConflict, "exists", "there is one with that name already"},
	{signin.ErrWrong, http.StatusUnauthorized, "sign-in", ""},
	{signin.ErrThrottle, http.StatusTooManyRequests, "throttled", ""},
	{signin.ErrSetup, http.StatusForbidden, "setup", ""},
	{engine.ErrNotOpen, http.StatusConflict, "not-open", whole},
	{engine.ErrOtherDigest, http.StatusConflict, "other-digest", ""},
	{store.ErrNameTaken, http.StatusConflict, "name-taken", ""},
	{leave.ErrOnlyAuthor, http.StatusForbidden, "only-author", ""},
	{leave.ErrOwnRequest, http.StatusForbidden, "own-request", ""},
	{leave.ErrNoComment, http.StatusBadRequest, "comment-needed", ""},
	{engine.ErrNoChoice, http.StatusBadRequest, "no-choice", ""},
	{leave.ErrTwice, http.StatusConflict, "twice", ""},
	{engine.ErrTooLate, http.StatusBadRequest, "too-late", ""},
	{engine.ErrNoRight, http.StatusForbidden, "role", ""},
	{engine.ErrNotQuarantined, http.StatusConflict, "not-quarantined", ""},
	{engine.ErrMayBegin, http.StatusConflict, "may-begin", whole},
	{engine.ErrField, http.StatusBadRequest, "field", whole},
	{intake.ErrRefused, http.StatusUnprocessableEntity, "refused", ""},
	{intake.ErrUncertain, http.StatusServiceUnavailable, "uncertain", ""},
	{intake.ErrBusy, http.StatusTooManyRequests, "busy", ""},
}

// statuses are how the kinds of refusals are answered.
var statuses = map[app.Kind]int{
	app.Invalid: http.StatusBadRequest, app.Missing: http.StatusNotFound, app.Conflict: http.StatusConflict,
	app.Stale: http.StatusPreconditionFailed, app.Unsound: http.StatusUnprocessableEntity,
	app.Denied: http.StatusForbidden,
	app.Nobody: http.StatusUnauthorized,
	app.Full:   http.StatusTooManyRequests,
}

// refused is how a refusal is answered; nil for what is none.
func refused(err error) *Problem {
	var p *Problem
	var e *app.Error
	var no *access.Refusal
	switch {
	case errors.As(err, &p):
		return p
	case errors.As(err, &e):
		return &Problem{statuses[e.Kind], e.Code, e.Says,
			append(mapped(e.Findings, apiFinding), mapped(e.Found, apiFound)...)}
	case errors.As(err, &no) && no.Nobody:
		return &Problem{http.StatusUnauthorized, "sign-in", no.Error(), nil}
	case errors.As(err, &no):
		return &Problem{http.StatusForbidden, "role", no.Error(), nil}
	}
	return nil
}

// problem answers an error: what is known in its own words, what is not goes to the log.
func (s *Server) problem(c *gin.Context, err error) {
	if p := refused(err); p != nil {
		problem(c, p)
		return
	}
	for _, k := range known {
		if errors.Is(err, k.is) {
			detail := k.detail
			switch detail {
			case "":
				detail = k.is.Error()
			case whole:
				detail = err.Error()
			}
			problem(c, &Problem{k.status, k.code, detail, nil})
			return
		}
	}
	var pg *pgconn.PgError
	if errors.As(err, &pg) && strings.HasPrefix(pg.Code, "22") {
		// A value that passed our own checks and that the database refuses (SQLSTATE class 22).
		problem(c, bad("value", "a value cannot be kept: %s", pg.Message))
		return
	}
	if errors.Is(err, context.Canceled) {
		c.Abort()
		return
	}
	if store.Transient(err) {
		s.Log.Warn("a request could not be answered now", "path", loggedPath(c), "error", err)
		problem(c, &Problem{http.StatusServiceUnavailable, "unavailable",
			"the service cannot do this now; its log says more. Try again in a few seconds", nil})
		return
	}
	s.Log.Error("a request failed", "method", c.Request.Method, "path", loggedPath(c), "error", err)
	problem(c, &Problem{http.StatusInternalServerError, "internal", "the service failed; its log says more", nil})
}

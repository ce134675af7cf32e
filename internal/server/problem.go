package server

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"
	"github.com/jackc/pgx/v5/pgconn"
	"gorm.io/gorm"

	"urgentis/api"
	"urgentis/core/runbook"
	"urgentis/internal/access"
	"urgentis/internal/engine"
	"urgentis/internal/intake"
	"urgentis/internal/store"
)

// Problem is an error as it is answered (RFC 9457).
type Problem struct {
	Status   int
	Code     string // stable, for programs
	Detail   string // one sentence for people
	Findings runbook.Findings
}

func (p *Problem) Error() string { return p.Detail }

func bad(code, format string, args ...any) *Problem {
	return &Problem{http.StatusBadRequest, code, fmt.Sprintf(format, args...), nil}
}

func problem(c *gin.Context, p *Problem) {
	c.Abort()
	if c.Writer.Written() {
		return
	}
	c.Header("Content-Type", "application/problem+json")
	c.JSON(p.Status, api.Problem{Type: "about:blank", Title: http.StatusText(p.Status), Status: p.Status, Code: p.Code, Detail: p.Detail, Findings: findings(p.Findings)})
}

func findings(f runbook.Findings) []api.Finding {
	out := make([]api.Finding, len(f))
	for i, x := range f {
		out[i] = api.Finding{Line: x.Line, Column: x.Column, Warning: x.Warning, Message: x.Message, Meant: x.Meant}
	}
	if len(out) == 0 {
		return nil
	}
	return out
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
	{gorm.ErrDuplicatedKey, http.StatusConflict, "exists", "there is one with that name already"},
	{access.ErrWrong, http.StatusUnauthorized, "sign-in", ""},
	{access.ErrThrottle, http.StatusTooManyRequests, "throttled", ""},
	{access.ErrSetup, http.StatusForbidden, "setup", ""},
	{engine.ErrNotOpen, http.StatusConflict, "not-open", ""},
	{engine.ErrOtherDigest, http.StatusConflict, "other-digest", ""},
	{access.ErrNameTaken, http.StatusConflict, "name-taken", ""},
	{engine.ErrOnlyAuthor, http.StatusForbidden, "only-author", ""},
	{engine.ErrOwnRequest, http.StatusForbidden, "own-request", ""},
	{engine.ErrNoComment, http.StatusBadRequest, "comment-wanted", ""},
	{engine.ErrNoChoice, http.StatusBadRequest, "no-choice", ""},
	{engine.ErrTwice, http.StatusConflict, "twice", ""},
	{engine.ErrTooLate, http.StatusBadRequest, "too-late", ""},
	{engine.ErrNoRight, http.StatusForbidden, "role", ""},
	{engine.ErrNotAside, http.StatusConflict, "not-aside", ""},
	{engine.ErrMayBegin, http.StatusConflict, "may-begin", whole},
	{engine.ErrField, http.StatusBadRequest, "field", whole},
	{intake.ErrRefused, http.StatusUnprocessableEntity, "refused", ""},
	{intake.ErrUncertain, http.StatusServiceUnavailable, "uncertain", ""},
}

// problem answers an error: what is known in its own words, what is not goes to the log.
func (s *Server) problem(c *gin.Context, err error) {
	var p *Problem
	if errors.As(err, &p) {
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
	s.Log.Error("a request failed", "method", c.Request.Method, "path", c.Request.URL.Path, "error", err)
	problem(c, &Problem{http.StatusInternalServerError, "internal", "the service failed; its log says more", nil})
}

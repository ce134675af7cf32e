package server

import (
	"context"
	"errors"
	"net/http"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"
	"github.com/gin-gonic/gin"

	"urgentis/core/access"
)

// cookie is the name of the session's cookie.
const cookie = "urgentis_session"

type principalKey struct{}

// who is the principal of a request; nil for nobody.
func who(ctx context.Context) *access.Principal {
	p, _ := ctx.Value(principalKey{}).(*access.Principal)
	return p
}

func bearer(c *gin.Context) string {
	t, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer ")
	if !ok {
		return ""
	}
	return t
}

// authorize finds out who asks and whether the operation's rule lets them.
func (s *Server) authorize(c *gin.Context) {
	rule, ok := s.rules[c.Request.Method+" "+c.FullPath()]
	if !ok {
		problem(c, &Problem{http.StatusForbidden, "no-rule", "this operation has no rule", nil})
		return
	}
	p, err := s.principal(c)
	if err == nil {
		err = admits(p, rule)
	}
	if err != nil {
		if c.Request.ContentLength != 0 {
			c.Header("Connection", "close") // nobody waits for what comes after
		}
		s.problem(c, err)
		return
	}
	c.Request = c.Request.WithContext(context.WithValue(c.Request.Context(), principalKey{}, p))
}

// Rules of operations that are no roles.
const (
	anybody  = "anybody"
	signedIn = "signed-in"
	bySource = "source" // the token of an alert source, which the operation itself looks at
)

// admits is the first door: whether somebody may use an operation at all. What they may do to which object is asked
// again where the object is at hand.
func admits(p *access.Principal, rule string) error {
	switch {
	case rule == anybody, rule == bySource:
		return nil
	case rule == signedIn && p != nil:
		return nil
	}
	return access.CanAs(p, access.Role(rule), access.Verb(rule), access.Installation)
}

func (s *Server) principal(c *gin.Context) (*access.Principal, error) {
	session, _ := c.Cookie(cookie) // without one it is ""
	return s.App.Who(c.Request.Context(), bearer(c), session)
}

// validator checks requests against the contract.
func validator(doc *openapi3.T) (gin.HandlerFunc, error) {
	router, err := gorillamux.NewRouter(doc)
	if err != nil {
		return nil, err
	}
	whole := &openapi3filter.Options{AuthenticationFunc: openapi3filter.NoopAuthenticationFunc}
	// A file is read as it comes in, and not before.
	head := &openapi3filter.Options{AuthenticationFunc: openapi3filter.NoopAuthenticationFunc, ExcludeRequestBody: true}
	return func(c *gin.Context) {
		options := whole
		if isFile(c.Request) {
			options = head
		}
		route, params, err := router.FindRoute(c.Request)
		if err != nil {
			if errors.Is(err, routers.ErrPathNotFound) {
				problem(c, &Problem{http.StatusNotFound, "not-found", "there is no such address", nil})
				return
			}
			problem(c, bad("bad-request", "%s", err))
			return
		}
		in := &openapi3filter.RequestValidationInput{
			Request:    c.Request,
			PathParams: params,
			Route:      route,
			Options:    options,
		}
		if err := openapi3filter.ValidateRequest(c.Request.Context(), in); err != nil {
			var big *http.MaxBytesError
			if errors.As(err, &big) {
				problem(c, &Problem{http.StatusRequestEntityTooLarge, "too-large", "the body is larger than 1 MB", nil})
				return
			}
			problem(c, bad("bad-request", "%s", plainly(err)))
		}
	}, nil
}

// plainly makes one sentence of the validator's report.
func plainly(err error) string {
	var re *openapi3filter.RequestError
	if !errors.As(err, &re) {
		return strings.SplitN(err.Error(), "\n", 2)[0]
	}
	where := "the body"
	if re.Parameter != nil {
		where = re.Parameter.Name
	}
	var se *openapi3.SchemaError
	if errors.As(re.Err, &se) {
		if p := se.JSONPointer(); len(p) > 0 {
			where = strings.Join(p, ".")
		}
		return where + ": " + se.Reason
	}
	if re.Err != nil {
		return where + ": " + re.Err.Error()
	}
	return where + ": " + re.Reason
}

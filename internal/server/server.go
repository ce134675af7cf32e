package server

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/gin-gonic/gin"

	"urgentis/api"
	"urgentis/core/access"
	"urgentis/internal/app"
	"urgentis/internal/need"
	"urgentis/internal/store"
)

// Config is what a server works with.
type Config struct {
	App  *app.App  `need:"yes"`
	Feed *app.Feed `need:"yes"`
	// Console are the console's files; nil where it was not built in.
	Console fs.FS
	Log     *slog.Logger `need:"yes"`
	// Link is the address under which people reach this installation, without a slash at the end.
	Link string `need:"yes"`
	// TrustedProxies are the networks whose word about where a request came from is taken; none: nobody's.
	TrustedProxies []string
	// Metrics says who may read /metrics; "" is MetricsOpen.
	Metrics string
}

// Who may read /metrics.
const (
	MetricsOpen     = "open"
	MetricsSignedIn = "signed-in" // a person or a token with the role viewer
	MetricsOff      = "off"
)

// Server serves one instance.
type Server struct {
	Config
	http *http.Server
	// rules tells the rule of each operation, by method and path as Gin writes it.
	rules map[string]string
	// once are the operations that are done once under an identity, in the same form.
	once map[string]bool
	room *room
}

// Limits of requests.
const (
	maxBody    = 1 << 20
	fileTime   = 30 * time.Minute // for a file that comes in
	maxPush    = 16 << 20         // a folder of documents
	bodyTime   = 30 * time.Second
	headerTime = 10 * time.Second
	// answerTime bounds how long a client may take to read an answer.
	answerTime = 2 * time.Minute
)

// New makes a server. It refuses a configuration in which something is missing, and a contract in which an operation
// has no rule.
func New(c Config) (*Server, error) {
	if err := need.All("a server", c); err != nil {
		return nil, err
	}
	if all := []string{"", MetricsOpen, MetricsSignedIn, MetricsOff}; !slices.Contains(all, c.Metrics) {
		return nil, fmt.Errorf("metrics are %s, not %q", strings.Join(all[1:], ", "), c.Metrics)
	}
	s := &Server{Config: c, room: newRoom()}
	doc, err := openapi3.NewLoader().LoadFromData(api.Document)
	if err != nil {
		return nil, fmt.Errorf("read the API document: %w", err)
	}
	if s.rules, err = rules(doc); err != nil {
		return nil, err
	}
	s.once = onceOperations(doc)
	h, err := s.handler(doc)
	if err != nil {
		return nil, err
	}
	s.http = &http.Server{
		Handler:           h,
		ReadHeaderTimeout: headerTime,
		IdleTimeout:       2 * time.Minute,
		MaxHeaderBytes:    64 << 10,
	}
	return s, nil
}

// bodyLimit is how large the body of a request may be, in bytes.
func bodyLimit(r *http.Request) int64 {
	switch {
	case r.URL.Path == "/api/v1/push":
		return maxPush
	case isFile(r):
		return store.MaxFile + 1
	}
	return maxBody
}

// isFile reports whether the body of a request is a file.
func isFile(r *http.Request) bool {
	return r.Method == http.MethodPost && strings.HasPrefix(r.URL.Path, "/api/v1/incidents/") &&
		strings.HasSuffix(r.URL.Path, "/files") ||
		r.Method == http.MethodPut && strings.HasPrefix(r.URL.Path, "/api/v1/files/")
}

// loggedPath is the path of a request without the key of a source that may stand in it.
func loggedPath(c *gin.Context) string {
	if key := c.Param("key"); key != "" {
		return strings.Replace(c.Request.URL.Path, key, "…", 1)
	}
	return c.Request.URL.Path
}

// rules reads x-role of every operation.
func rules(doc *openapi3.T) (map[string]string, error) {
	out := map[string]string{}
	for path, item := range doc.Paths.Map() {
		for method, op := range item.Operations() {
			rule, _ := op.Extensions["x-role"].(string)
			if rule == "" {
				return nil, fmt.Errorf("%s %s has no x-role", method, path)
			}
			out[method+" "+ginPath(path)] = rule
		}
	}
	return out, nil
}

func ginPath(p string) string {
	return strings.NewReplacer("{", ":", "}", "").Replace(p)
}

func (s *Server) handler(doc *openapi3.T) (http.Handler, error) {
	gin.SetMode(gin.ReleaseMode)
	g := gin.New()
	g.ContextWithFallback = true // what is copied for a handler ends with its request
	g.HandleMethodNotAllowed = true
	if err := g.SetTrustedProxies(s.TrustedProxies); err != nil {
		return nil, err
	}
	g.Use(s.recovered, s.headers, s.begins)
	g.GET("/healthz", s.health)
	g.GET("/readyz", s.ready)
	switch s.Metrics {
	case "", MetricsOpen:
		g.GET("/metrics", s.metrics())
	case MetricsSignedIn:
		s.rules["GET /metrics"] = string(access.Viewer)
		g.GET("/metrics", s.authorize, s.metrics())
	case MetricsOff:
		g.GET("/metrics", func(c *gin.Context) {
			problem(c, &Problem{http.StatusNotFound, "not-found", "metrics are switched off", nil})
		})
	default:
		return nil, fmt.Errorf(
			"metrics must be %s, %s or %s, not %q",
			MetricsOpen,
			MetricsSignedIn,
			MetricsOff,
			s.Metrics,
		)
	}
	g.GET("/openapi.yaml", func(c *gin.Context) { c.Data(http.StatusOK, "application/yaml", api.Document) })
	g.GET("/api", s.reference(doc))
	g.POST("/in/:source", s.bodies, s.postAlert)
	g.POST("/in/:source/:key", s.bodies, s.postAlert)
	g.POST("/start/:key", s.bodies, s.postStart)
	g.GET("/start/:key", s.getStart)
	g.POST("/back/:connection", s.bodies, s.postBack)

	check, err := validator(doc)
	if err != nil {
		return nil, err
	}
	v1 := g.Group("", s.authorize, s.bodies, s.onceOnly)
	v1.GET("/api/v1/stream", s.getStream)
	options := api.StrictGinServerOptions{
		RequestErrorHandlerFunc:  func(c *gin.Context, err error) { problem(c, bad("bad-request", "%s", err)) },
		HandlerErrorFunc:         func(c *gin.Context, err error) { s.problem(c, err) },
		ResponseErrorHandlerFunc: func(c *gin.Context, err error) { s.Log.Warn("write an answer", "error", err) },
	}
	strict := api.NewStrictHandlerWithOptions(s, []api.StrictMiddlewareFunc{ofItsOwn}, options)
	api.RegisterHandlersWithOptions(v1, strict, api.GinServerOptions{
		Middlewares: []api.MiddlewareFunc{api.MiddlewareFunc(check)},
		ErrorHandler: func(c *gin.Context, err error, status int) {
			problem(c, &Problem{status, "bad-request", err.Error(), nil})
		},
	})
	g.NoRoute(s.console)
	g.NoMethod(func(c *gin.Context) {
		problem(c, &Problem{http.StatusMethodNotAllowed, "method", "that cannot be done to this address", nil})
	})
	// A page of another site cannot make a signed-in browser act: the standard library's protection.
	protect := http.NewCrossOriginProtection()
	protect.SetDenyHandler(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/problem+json")
		w.WriteHeader(http.StatusForbidden)
		fmt.Fprint(
			w,
			`{"title":"Forbidden","status":403,"code":"cross-origin",`+
				`"detail":"the request comes from a page of another site"}`,
		)
	}))
	return protect.Handler(g), nil
}

// ofItsOwn gives a handler a context of its own: Gin uses the one of the request again for others, while
// the database may still wait on it.
func ofItsOwn(f api.StrictHandlerFunc, _ string) api.StrictHandlerFunc {
	return func(c *gin.Context, request any) (any, error) { return f(c.Copy(), request) }
}

// Serve answers on a listener until Stop.
func (s *Server) Serve(l net.Listener) error {
	if err := s.http.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// Handler is for tests that need no network.
func (s *Server) Handler() http.Handler { return s.http.Handler }

// Stop lets requests under way end, and ends the live streams.
func (s *Server) Stop() {
	s.Feed.Stop()
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	if err := s.http.Shutdown(ctx); err != nil {
		s.http.Close() //nolint:errcheck // there is nothing left to do
	}
}

func (s *Server) recovered(c *gin.Context) {
	defer func() {
		if r := recover(); r != nil {
			if r == http.ErrAbortHandler {
				panic(r)
			}
			s.Log.Error("a request failed", "path", loggedPath(c), "panic", r)
			problem(
				c,
				&Problem{http.StatusInternalServerError, "internal", "the service failed; its log says more", nil},
			)
		}
	}()
	c.Next()
}

// headers sets what browsers are to keep to.
func (s *Server) headers(c *gin.Context) {
	h := c.Writer.Header()
	h.Set(
		"Content-Security-Policy",
		"default-src 'none'; script-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src "+
			"'self'; connect-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'",
	)
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("X-Frame-Options", "DENY")
	h.Set("Cross-Origin-Opener-Policy", "same-origin")
	if strings.HasPrefix(c.Request.URL.Path, "/api/") {
		h.Set("Cache-Control", "no-store")
	}
}

// rawBody is where bodies keeps a request's body as it came: a merge tells what is null from what is not given.
const rawBody = "body as it came"

// begins refuses an address that cannot be kept, and bounds how long a request takes to come in and an answer to leave.
func (s *Server) begins(c *gin.Context) {
	if strings.ContainsRune(c.Request.URL.Path, 0) || strings.Contains(c.Request.URL.RawQuery, "%00") {
		problem(c, bad("nul", "the address holds the NUL character, which cannot be kept"))
		return
	}
	conn := http.NewResponseController(c.Writer)
	conn.SetWriteDeadline(time.Now().Add(answerTime)) //nolint:errcheck // a recorder in a test has no connection
	if c.Request.Body != nil && c.Request.ContentLength != 0 {
		conn.SetReadDeadline(time.Now().Add(bodyTime)) //nolint:errcheck // a recorder in a test has no connection
	}
}

// writtenNUL finds the escape of NUL in JSON; a backslash that is itself escaped begins none.
func writtenNUL(body []byte) bool {
	for i := 0; i+5 < len(body); i++ {
		if body[i] != '\\' {
			continue
		}
		if string(body[i+1:i+6]) == "u0000" {
			return true
		}
		i++
	}
	return false
}

// stuck is how long an instance may do nothing at all before it no longer calls itself alive. That its database does
// not answer is said by ready: to begin the program anew would not help.
const stuck = 15 * time.Second

// health says whether this instance is at work: it is not where it has not beaten for a while.
func (s *Server) health(c *gin.Context) {
	if still := s.App.Stuck(); still > stuck {
		c.String(http.StatusServiceUnavailable, "this instance has done nothing for %s\n", still.Round(time.Second))
		return
	}
	c.String(http.StatusOK, "ok\n")
}

func (s *Server) ready(c *gin.Context) {
	if err := s.App.Ready(c.Request.Context()); err != nil {
		c.String(http.StatusServiceUnavailable, "%s\n", err)
		return
	}
	c.String(http.StatusOK, "ready\n")
}

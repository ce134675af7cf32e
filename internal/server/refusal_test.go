package server

import (
	"net/http"
	"net/http/httptest"
	"testing"

	"github.com/gin-gonic/gin"
	"github.com/stretchr/testify/assert"
)

func TestTheEscapeOfNULIsFoundAndNothingElse(t *testing.T) {
	for body, is := range map[string]bool{
		`{"a":"x\u0000"}`: true, `"\u0000"`: true, `"\\\u0000"`: true,
		`"\\u0000"`: false, `"\u0001"`: false, `"\u00`: false, `"\\\\u0000"`: false, ``: false,
	} {
		assert.Equal(t, is, writtenNUL([]byte(body)), body)
	}
}

// A NUL in an address is refused, also where the rest of it cannot be read.
func TestNoAddressHoldsANUL(t *testing.T) {
	g := gin.New()
	g.Use((&Server{}).begins)
	g.GET("/at/:name", func(c *gin.Context) { c.Status(http.StatusOK) })
	for path, want := range map[string]int{
		"/at/a?x=1": http.StatusOK, "/at/a?x=%2500": http.StatusOK, "/at/a%00": http.StatusBadRequest,
		"/at/a?x=%00": http.StatusBadRequest, "/at/a?x=%00&y=%zz": http.StatusBadRequest,
	} {
		w := httptest.NewRecorder()
		g.ServeHTTP(w, httptest.NewRequest(http.MethodGet, path, nil))
		assert.Equal(t, want, w.Code, path)
	}
}

// The key of a source that reports by its address is in no log.
func TestAKeyInAnAddressIsNotLogged(t *testing.T) {
	g := gin.New()
	var logged string
	g.POST("/in/:source/:key", func(c *gin.Context) { logged = loggedPath(c) })
	g.POST("/in/:source", func(c *gin.Context) { logged = loggedPath(c) })
	for path, want := range map[string]string{"/in/panel/urs_secret": "/in/panel/…", "/in/panel": "/in/panel"} {
		g.ServeHTTP(httptest.NewRecorder(), httptest.NewRequest(http.MethodPost, path, nil))
		assert.Equal(t, want, logged)
	}
}

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

// Package testapi holds every answer of the service, in tests, against the API document.
package testapi

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers"
	"github.com/getkin/kin-openapi/routers/gorillamux"

	"urgentis/api"
)

// router finds the operation of a request in the API document.
var router = sync.OnceValue(func() routers.Router {
	doc, err := openapi3.NewLoader().LoadFromData(api.Document)
	if err != nil {
		panic(err)
	}
	doc.Servers = nil
	r, err := gorillamux.NewRouter(doc)
	if err != nil {
		panic(err)
	}
	return r
})

// Checked is a transport that gives an error for an answer that is not as documented.
type Checked struct{ Next http.RoundTripper }

// RoundTrip implements http.RoundTripper.
func (c Checked) RoundTrip(req *http.Request) (*http.Response, error) {
	res, err := c.Next.RoundTrip(req)
	if err != nil || !strings.HasPrefix(req.URL.Path, "/api/v1/") ||
		!strings.Contains(res.Header.Get("Content-Type"), "json") {
		return res, err
	}
	route, params, err := router().FindRoute(req)
	if err != nil {
		return res, nil // what is no operation has no document
	}
	body, err := io.ReadAll(res.Body)
	res.Body.Close() //nolint:errcheck // it is read
	if err != nil {
		return nil, err
	}
	res.Body = io.NopCloser(bytes.NewReader(body))
	in := &openapi3filter.RequestValidationInput{Request: req, PathParams: params, Route: route}
	err = openapi3filter.ValidateResponse(
		context.Background(),
		&openapi3filter.ResponseValidationInput{RequestValidationInput: in, Status: res.StatusCode, Header: res.Header,
			Body: io.NopCloser(bytes.NewReader(body)), Options: &openapi3filter.Options{IncludeResponseStatus: true}},
	)
	if err != nil {
		return nil, fmt.Errorf(
			"%s %s answers %d, not as documented: %w: %s",
			req.Method,
			req.URL.Path,
			res.StatusCode,
			err,
			body,
		)
	}
	return res, nil
}

// Check makes http.DefaultClient, and all that uses its transport, check answers.
func Check() { http.DefaultTransport = Checked{http.DefaultTransport} }

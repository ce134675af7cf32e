// Package api is the contract between the service and all who speak to it, generated from openapi.yaml.
package api

import (
	"context"
	_ "embed" // for Document
	"net/http"
)

//go:generate go tool oapi-codegen -config config.yaml openapi.yaml

// Document is the OpenAPI document as it is served.
//
//go:embed openapi.yaml
var Document []byte

// OnlyWhatIsSet is a RequestEditorFn that takes out query parameters that were left at their zero value.
func OnlyWhatIsSet(_ context.Context, r *http.Request) error {
	q := r.URL.Query()
	for k := range q {
		if v := q.Get(k); v == "" || v == "0" && (k == "limit" || k == "incident") {
			q.Del(k)
		}
	}
	r.URL.RawQuery = q.Encode()
	return nil
}

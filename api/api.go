// Package api is the contract between the service and all who speak to it, generated from openapi.yaml.
package api

import _ "embed"

//go:generate go tool oapi-codegen -config config.yaml openapi.yaml

// Document is the OpenAPI document as it is served.
//
//go:embed openapi.yaml
var Document []byte

// Package api holds the contract of the HTTP interface, as it is served.
package api

import _ "embed"

// Contract is the OpenAPI document.
//
//go:embed openapi.yaml
var Contract []byte

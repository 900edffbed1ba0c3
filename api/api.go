// Package api holds the contract of the gate's HTTP interface.
package api

import _ "embed"

// Spec is the contract, an OpenAPI 3.0 document in YAML.
//
//go:embed openapi.yaml
var Spec []byte

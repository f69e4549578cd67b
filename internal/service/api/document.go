package api

import _ "embed"

// document is the OpenAPI 3.1 description of what this package serves. The
// tests hold the running service to it, and the console's types are generated
// from it.
//
//go:embed openapi.json
var document []byte

package decl

import _ "embed"

// JSONSchema is the JSON Schema (draft 7) of all files that declarations are
// in. It refuses nothing that [Load] takes; what takes knowledge of other
// files or of names is left to Load.
//
//go:embed schema.json
var JSONSchema []byte

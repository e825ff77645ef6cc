// Package schema holds the JSON Schemas of the files that people write.
package schema

import _ "embed"

// Layout is the schema of layouts.
//
//go:embed layout.json
var Layout string

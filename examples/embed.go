// Package examples holds the demo's estate and runbooks, as files that a user can read and copy.
package examples

import "embed"

// Ferry is the Merrow Line's folder.
//
//go:embed ferry
var Ferry embed.FS

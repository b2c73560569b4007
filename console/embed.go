// Package console holds the built console, so that the service can serve it
// from its own binary. Until the console is built, only .gitkeep is in it.
package console

import "embed"

// Dist is the folder that the console's build writes.
//
//go:embed all:dist
var Dist embed.FS

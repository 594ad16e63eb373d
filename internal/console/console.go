// Package console holds the built web console, to be served by the service.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files returns the built console. Before the first build it is empty.
func Files() fs.FS {
	sub, _ := fs.Sub(dist, "dist") // the folder is embedded, so it is there
	return sub
}

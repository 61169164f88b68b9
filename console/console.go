// Package console holds the built web console, for the service to serve. Its
// sources are in src/; `make build` builds it into dist/.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Phone are the built files of the page for a phone's browser, with phone.html at the top.
func Phone() (fs.FS, error) { return fs.Sub(dist, "dist/phone") }

// Files are the built files, with index.html at the top; only a marker file
// when the console was not built.
func Files() (fs.FS, error) { return fs.Sub(dist, "dist") }

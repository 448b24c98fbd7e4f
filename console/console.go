// Package console holds the built web console; npm run build in this folder makes dist.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files is the built console, with index.html at its root.
func Files() fs.FS {
	files, err := fs.Sub(dist, "dist")
	if err != nil { // only an invalid path fails
		panic(err)
	}
	return files
}

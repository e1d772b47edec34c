// Package field carries the built files of the field app. They are made from this folder by make field; without them the
// service says that the app is not built.
package field

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files are the app's files, index.html among them.
func Files() fs.FS {
	files, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // the folder is part of the program
	}
	return files
}

// Package web carries the built console.
package web

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var files embed.FS

// Dist is the built console; it has no index.html if the console was not built.
func Dist() fs.FS {
	sub, err := fs.Sub(files, "dist")
	if err != nil {
		panic(err) // the folder is part of the program
	}
	return sub
}

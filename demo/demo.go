// Package demo has the rulebook of Skerry Line, a made-up ferry operator, that the demo walks through.
package demo

import (
	"embed"
	"io/fs"
)

//go:embed all:skerry-line
var files embed.FS

// SkerryLine is the folder of the demo rulebook.
func SkerryLine() fs.FS {
	sub, err := fs.Sub(files, "skerry-line")
	if err != nil {
		panic(err) // the folder is embedded
	}
	return sub
}

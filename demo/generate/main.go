// Generate writes the parts of the demo rulebook that are too many to be written by hand: a
// small MaxMind DB of where addresses are, and four weeks of sign-ons. The same seed writes
// the same files. Run it in the repository's top folder: go run ./demo/generate
package main

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"os"
	"path/filepath"
)

// folder is that of the demo rulebook.
const folder = "demo/skerry-line"

func main() {
	files, err := generate(os.DirFS(folder))
	for name, data := range files {
		if err != nil {
			break
		}
		err = write(filepath.Join(folder, filepath.FromSlash(name)), data)
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// write writes a file, packed if its name ends in .gz.
func write(name string, data []byte) error {
	if filepath.Ext(name) == ".gz" {
		var b bytes.Buffer
		z, err := gzip.NewWriterLevel(&b, gzip.BestCompression)
		if err != nil {
			return err
		}
		if _, err := z.Write(data); err != nil {
			return err
		}
		if err := z.Close(); err != nil {
			return err
		}
		data = b.Bytes()
	}
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	return os.WriteFile(name, data, 0o644)
}

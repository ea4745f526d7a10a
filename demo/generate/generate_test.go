package main

import (
	"bytes"
	"compress/gzip"
	"io"
	"io/fs"
	"os"
	"path"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestGeneratedFilesAreCurrent makes the files anew and holds those in the repository against them.
func TestGeneratedFilesAreCurrent(t *testing.T) {
	rules := os.DirFS("../skerry-line")
	files, err := generate(rules)
	require.NoError(t, err)
	signOns, err := fs.Glob(rules, "signons/*")
	require.NoError(t, err)
	require.Len(t, files, len(signOns)+1, "no file too many")
	for name, want := range files {
		data, err := fs.ReadFile(rules, name)
		require.NoError(t, err)
		if path.Ext(name) == ".gz" {
			z, err := gzip.NewReader(bytes.NewReader(data))
			require.NoError(t, err)
			data, err = io.ReadAll(z)
			require.NoError(t, err)
		}
		require.True(t, bytes.Equal(want, data), "%s is not what go run ./demo/generate writes", name)
	}
}

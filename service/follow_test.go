package service_test

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/service"
	"briskwarden.example/briskwarden/store/sqlite"
)

// TestFolderIsFollowed: a change counts within 3 s of stillness, however the folder is changed.
func TestFolderIsFollowed(t *testing.T) {
	write := func(t *testing.T, dir string, n int) string {
		require.NoError(t, os.MkdirAll(dir, 0o755))
		file := filepath.Join(dir, "rulebook.warden")
		require.NoError(t, os.WriteFile(file, fmt.Appendf(nil, "rulebook r%d { }\n", n), 0o644))
		return file
	}
	rename := func(t *testing.T, from, to string) { require.NoError(t, os.Rename(from, to)) }
	link := func(t *testing.T, to, name string) {
		require.NoError(t, os.Symlink(to, name+".new"))
		rename(t, name+".new", name)
	}
	for name, layout := range map[string]struct {
		begin  func(t *testing.T, at string) // makes the folder "at" with the rulebook r0
		change func(t *testing.T, at string, n int)
	}{
		"a file is written": {func(t *testing.T, at string) { write(t, at, 0) }, func(t *testing.T, at string, n int) { write(t, at, n) }},
		"a file is replaced, of the same size and time": {func(t *testing.T, at string) { write(t, at, 0) }, func(t *testing.T, at string, n int) {
			file := filepath.Join(at, "rulebook.warden")
			before, err := os.Stat(file)
			require.NoError(t, err)
			next := write(t, at+".next", n)
			require.NoError(t, os.Chtimes(next, before.ModTime(), before.ModTime()))
			rename(t, next, file)
		}},
		"the folder is moved away, and another to its place": {func(t *testing.T, at string) { write(t, at, 0) }, func(t *testing.T, at string, n int) {
			write(t, at+".next", n)
			rename(t, at, fmt.Sprintf("%s.old%d", at, n))
			rename(t, at+".next", at)
		}},
		"the folder is a link": {func(t *testing.T, at string) { write(t, at+".v0", 0); link(t, at+".v0", at) }, func(t *testing.T, at string, n int) {
			write(t, fmt.Sprintf("%s.v%d", at, n), n)
			link(t, fmt.Sprintf("%s.v%d", at, n), at)
		}},
		"files are links through ..data": {func(t *testing.T, at string) {
			write(t, filepath.Join(at, "..v0"), 0)
			link(t, "..v0", filepath.Join(at, "..data"))
			link(t, filepath.Join("..data", "rulebook.warden"), filepath.Join(at, "rulebook.warden"))
		}, func(t *testing.T, at string, n int) {
			version := fmt.Sprintf("..v%d", n)
			write(t, filepath.Join(at, version), n)
			link(t, version, filepath.Join(at, "..data"))
			require.NoError(t, os.RemoveAll(filepath.Join(at, fmt.Sprintf("..v%d", n-1))))
		}},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			at := filepath.Join(t.TempDir(), "rules")
			layout.begin(t, at)
			live, err := briskwarden.OpenLive(at)
			require.NoError(t, err)
			store, err := sqlite.Open(filepath.Join(t.TempDir(), "brisk.state"))
			require.NoError(t, err)
			defer store.Close()
			s := &served{TB: t, Service: service.New(live, store, service.Options{})}
			defer s.Close()
			require.NoError(t, s.Follow(t.Context(), live, at))
			for n := 1; n <= 2; n++ {
				layout.change(t, at, n)
				require.Eventually(t, func() bool { return live.Rulebook().Name() == fmt.Sprintf("r%d", n) }, 5*time.Second, 20*time.Millisecond, "change %d", n)
			}
			rename(t, at, at+".gone")
			require.Eventually(t, func() bool { return s.watching() != "" }, 3*time.Second, 20*time.Millisecond)
			rename(t, at+".gone", at)
			require.Eventually(t, func() bool { return s.watching() == "" }, 3*time.Second, 20*time.Millisecond)
			require.Equal(t, "r2", live.Rulebook().Name())
		})
	}
}

// watching is why the folder cannot be watched, as /readyz says.
func (s *served) watching() string {
	var is struct {
		Watching string `json:"watching"`
	}
	require.NoError(s, json.Unmarshal(s.operation("/readyz").Body.Bytes(), &is))
	return is.Watching
}

package sqlite_test

import (
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/service/state"
	"briskwarden.example/briskwarden/service/state/statetest"
	"briskwarden.example/briskwarden/store/sqlite"
)

func TestItems(t *testing.T) {
	var name string
	again := func(t *testing.T) state.Store {
		s, err := sqlite.Open(name)
		require.NoError(t, err)
		t.Cleanup(func() { s.Close() })
		return s
	}
	statetest.TestStore(t, func(t *testing.T) state.Store {
		name = filepath.Join(t.TempDir(), "brisk.state")
		return again(t)
	}, again)
}

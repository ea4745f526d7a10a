package state_test

import (
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/service/state"
	"briskwarden.example/briskwarden/store/sqlite"
)

// TestFormats: a version goes on beside those that can read it, and refuses what needs a later one.
func TestFormats(t *testing.T) {
	s, err := sqlite.Open(filepath.Join(t.TempDir(), "brisk.state"))
	require.NoError(t, err)
	defer s.Close()
	item := func() state.Item {
		r, err := s.Read(t.Context(), []state.Key{{Kind: state.Format}})
		require.NoError(t, err)
		return r.Items[0]
	}
	set := func(value string) {
		require.NoError(t, s.Write(t.Context(), []state.Change{{Key: state.Key{Kind: state.Format}, If: item().Version, Value: []byte(value)}})[0])
	}
	require.NoError(t, state.Admits(t.Context(), s))
	require.Zero(t, item().Version, "to look changes nothing")
	require.NoError(t, state.Begin(t.Context(), s))
	require.JSONEq(t, `{"format":2,"readable_from":1}`, string(item().Value))
	set(`{"format":9,"readable_from":2,"more":1}`)
	require.NoError(t, state.Begin(t.Context(), s))
	require.JSONEq(t, `{"format":9,"readable_from":2,"more":1}`, string(item().Value), "a later one's word stays")
	for _, wrong := range []string{`{"format":9,"readable_from":3}`, `{"format":"x"}`, `[]`} {
		set(wrong)
		require.Error(t, state.Admits(t.Context(), s))
		require.Error(t, state.Begin(t.Context(), s))
		require.Equal(t, strings.Contains(wrong, "9"), strings.Contains(state.Begin(t.Context(), s).Error(), state.ErrNewer.Error()))
	}
}

package memory

import (
	"bytes"
	"fmt"
	"log/slog"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/service/state"
	"briskwarden.example/briskwarden/store/sqlite"
)

// TestJournalOfRisks has many raise and settle at once: no entry is lost, each follows the one before, and what other hands change
// is found.
func TestJournalOfRisks(t *testing.T) {
	store, err := sqlite.Open(t.TempDir() + "/state")
	require.NoError(t, err)
	defer store.Close()
	nodes := []*Memory{New(store, slog.New(slog.DiscardHandler), time.Now), New(store, slog.New(slog.DiscardHandler), time.Now)}
	var all sync.WaitGroup
	for i := range 20 {
		all.Go(func() {
			m := nodes[i%2]
			user := fmt.Sprint("user", i%3)
			if i%4 == 0 {
				require.NoError(t, m.Settle(t.Context(), Entry{User: user, By: "b", Because: fmt.Sprint(i)}))
			} else {
				require.NoError(t, m.Raise(t.Context(), Entry{User: user, By: "b", Because: fmt.Sprint(i)}))
			}
		})
	}
	all.Wait()
	journal := func() (list []*Entry, err error) {
		for e, failed := range Journal(t.Context(), store) {
			if failed != nil {
				return list, failed
			}
			list = append(list, e)
		}
		return list, nil
	}
	list, err := journal()
	require.NoError(t, err)
	require.Len(t, list, 20)
	last := map[string]*Entry{}
	for _, e := range list {
		last[e.User] = e
	}
	risky, err := nodes[0].AtRisk(t.Context(), nil)
	require.NoError(t, err)
	is := map[string]bool{}
	for _, a := range risky {
		is[a.User] = true
		require.Equal(t, last[a.User].Because, a.Reasons[0].Because)
	}
	for user, e := range last {
		require.Equal(t, e.What == Raise, is[user], "what the journal says last of %s is so", user)
	}

	change := func(key state.Key, to func([]byte) []byte) {
		r, err := store.Read(t.Context(), []state.Key{key})
		require.NoError(t, err)
		require.NoError(t, store.Write(t.Context(), []state.Change{{Key: key, If: r.Items[0].Version, Value: to(r.Items[0].Value)}})[0])
	}
	var kept []byte
	change(entryKey(7), func(v []byte) []byte { kept = v; return bytes.Replace(v, []byte(`"by":"b"`), []byte(`"by":"x"`), 1) })
	list, err = journal()
	require.ErrorContains(t, err, "changed by other hands, at entry 7")
	require.Len(t, list, 6)
	change(entryKey(7), func([]byte) []byte { return kept })
	_, err = journal()
	require.NoError(t, err)
	change(entryKey(20), func([]byte) []byte { return nil })
	_, err = journal()
	require.ErrorContains(t, err, "lost entries after entry 19")
}

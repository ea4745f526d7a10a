package consent_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/internal/spell"
)

// TestClientsThatLookAlike compares each client with each other one: ids and names that look alike, whichever of the two they are.
func TestClientsThatLookAlike(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	words := []string{"notes", "n0tes", "Notes", "tide", "t1de", "Tide", "crew", "pier"}
	most := 0
	for range 40 {
		b := newBench(t, consent.NewMemory(), rules)
		var clients []*consent.Client
		for i := range 1 + r.IntN(30) {
			c := &consent.Client{ID: words[r.IntN(len(words))], Name: words[r.IntN(len(words))]}
			if slices.ContainsFunc(clients, func(o *consent.Client) bool { return o.ID == c.ID }) {
				c.ID = fmt.Sprint("client-", i)
			}
			if r.IntN(4) == 0 {
				c.Name = ""
			}
			clients = append(clients, c)
		}
		_, err := b.Import(t.Context(), clients, nil, "test")
		require.NoError(t, err)
		looks := func(c *consent.Client) (list []string) {
			for _, text := range []string{c.ID, c.Name} {
				if text != "" {
					list = append(list, spell.Skeleton(text))
				}
			}
			return list
		}
		for _, c := range clients {
			var want []string
			for _, o := range clients {
				if o.ID != c.ID && slices.ContainsFunc(looks(o), func(s string) bool { return slices.Contains(looks(c), s) }) {
					want = append(want, o.ID)
				}
			}
			slices.Sort(want)
			f, err := b.File(t.Context(), c.ID)
			require.NoError(t, err)
			var got []string
			for _, o := range f.LookAlike {
				got = append(got, o.ID)
			}
			require.Equal(t, len(want), f.AllAlike, "%v among %v", c, clients)
			require.Equal(t, want[:min(len(want), consent.MostAlike)], got, "%v", c)
			most = max(most, len(want))
		}
	}
	require.Greater(t, most, consent.MostAlike)
}

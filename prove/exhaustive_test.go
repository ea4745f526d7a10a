package prove

import (
	"context"
	"flag"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/possible/possibletest"
)

var rulebooks = flag.Int("rulebooks", 100, "how many random rulebooks are held against lists of all their sign-ons")

type broke struct{ user, app string }

// TestProofsAgreeWithAllSignOns lists all sign-ons of small rulebooks, decides each, and holds what is proved against it.
func TestProofsAgreeWithAllSignOns(t *testing.T) {
	const shards = 4
	for shard := range uint64(shards) {
		t.Run(fmt.Sprint(shard), func(t *testing.T) {
			t.Parallel()
			brokenOnes, compared := 0, 0
			for seed := shard; compared < *rulebooks/shards; seed += shards {
				if s := possibletest.New(seed); s.Few() {
					brokenOnes += agree(t, seed, s)
					compared++
				}
			}
			require.Greater(t, brokenOnes, compared/2)
		})
	}
}

// agree holds the proofs about one rulebook against all its sign-ons, and tells how many promises were broken.
func agree(t *testing.T, seed uint64, s *possibletest.Small) (brokenOnes int) {
	text := s.Text()
	rules, err := briskwarden.OpenFS(s.Files, briskwarden.WithClock(func() time.Time { return possibletest.Start }))
	require.NoError(t, err, "%s", text)
	m := newModel(rules)
	m.watched = seed%3 == 0
	s.Each(possibletest.Users, possibletest.Apps, m.consider)
	report, err := Promises(context.Background(), rules, Span{Until: possibletest.Start.AddDate(0, 0, 4), AsEnforced: m.watched})
	require.NoError(t, err, "seed %d\n%s", seed, text)
	for i := range report.Promises {
		p := &report.Promises[i]
		got := map[broke]bool{}
		for k := range p.Broken {
			w := &p.Broken[k]
			for _, u := range w.People {
				for _, a := range w.Apps {
					got[broke{u, a}] = true
				}
			}
			m.checkWay(t, i, w, fmt.Sprintf("seed %d %s\n%s", seed, p.Promise, text))
		}
		require.Equal(t, m.brokenOf(i), got, "seed %d %s\n%s", seed, p.Promise, text)
		want := Holds
		if len(got) > 0 {
			brokenOnes++
			want = Broken
		}
		require.Equal(t, want, p.Answer)
		require.Equal(t, m.empty(i), p.Empty, "seed %d %s\n%s", seed, p.Promise, text)
	}
	return brokenOnes
}

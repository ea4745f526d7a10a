//go:build !race

package briskwarden_test

// With the race detector memory that serves again is dropped at random, so that nothing can be counted.

import (
	"testing"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/signon"
)

func TestLeanDecisionHardlyAllocates(t *testing.T) {
	rules, list := openHarbour(t), sample()
	var d signon.Decision
	n := testing.AllocsPerRun(50, func() {
		for _, s := range list {
			_ = rules.DecideInto(t.Context(), s, &d)
		}
	})
	require.Less(t, n/float64(len(list)), 2.0, "allocations for each decision")
}

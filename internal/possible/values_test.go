package possible

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestNumbersBetween: between any two neighbours of the bounds there is a number, or they are adjacent; and beyond them, unless they are
// the extremes.
func TestNumbersBetween(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	special := []float64{0, 1, -1, 0.5, 1 << 53, 1<<53 + 2, -(1 << 53), 1e300, math.MaxFloat64, -math.MaxFloat64, math.SmallestNonzeroFloat64, 2 * math.SmallestNonzeroFloat64,
		-math.SmallestNonzeroFloat64, 99, 100, 1_000_000}
	one := func() float64 {
		if x := special[r.IntN(len(special))]; r.IntN(2) == 0 {
			return x
		} else if r.IntN(2) == 0 {
			return math.Nextafter(x, math.Inf(1))
		}
		return (r.Float64() - 0.5) * math.Pow(10, float64(r.IntN(40)-10))
	}
	for range 20_000 {
		var bounds []float64
		for range 1 + r.IntN(5) {
			if x := one(); !math.IsInf(x, 0) {
				bounds = append(bounds, x)
			}
		}
		if bounds == nil {
			continue
		}
		list := between(slices.Clone(bounds))
		require.True(t, slices.IsSorted(list), "%v", list)
		require.Len(t, slices.Compact(slices.Clone(list)), len(list))
		bounds = append(bounds, math.Inf(-1), math.Inf(1))
		slices.Sort(bounds)
		bounds = slices.Compact(bounds)
		for i := 1; i < len(bounds); i++ {
			a, b := bounds[i-1], bounds[i]
			adjacent := math.Nextafter(a, b) == b || math.Nextafter(b, a) == a
			require.True(t, adjacent || slices.ContainsFunc(list, func(x float64) bool { return a < x && x < b }), "between %v and %v: %v", a, b, list)
			require.True(t, math.IsInf(b, 0) || slices.Contains(list, b))
		}
	}
}

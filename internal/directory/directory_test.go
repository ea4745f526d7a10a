package directory_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/directory"
)

// TestClosureIsReachability holds the closure of random graphs against walking them.
func TestClosureIsReachability(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	for range 200 {
		n := 2 + r.IntN(12)
		g := directory.NewGroups()
		within := make([][]bool, n) // inner, outer
		for i := range n {
			require.Equal(t, int32(i), g.Add(fmt.Sprint("g", i)))
			within[i] = make([]bool, n)
			within[i][i] = true
		}
		for range r.IntN(2 * n) {
			inner := r.IntN(n - 1)
			outer := inner + 1 + r.IntN(n-inner-1) // never a circle
			g.Nest(int32(outer), int32(inner))
			within[inner][outer] = true
		}
		for range n {
			for a := range n {
				for b := range n {
					for c := range n {
						within[a][c] = within[a][c] || within[a][b] && within[b][c]
					}
				}
			}
		}
		require.Nil(t, g.Circle())
		g.Close()
		direct := []int32{int32(r.IntN(n)), int32(r.IntN(n))}
		var want []int32
		for outer := range n {
			if within[direct[0]][outer] || within[direct[1]][outer] {
				want = append(want, int32(outer))
			}
		}
		require.Equal(t, want, g.Closure(direct))
		require.Equal(t, []int32{int32(n)}, g.Closure([]int32{g.Add("late")}), "a group that comes late is in itself alone")
	}
}

func TestCirclesAreFoundAndNamed(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 8))
	for range 200 {
		n := 3 + r.IntN(40)
		g := directory.NewGroups()
		contains := map[[2]string]bool{}
		nest := func(outer, inner int) {
			o, i := fmt.Sprint("g", outer), fmt.Sprint("g", inner)
			g.Nest(g.Add(o), g.Add(i))
			contains[[2]string{i, o}] = true
		}
		for i := range n - 1 {
			nest(i+1, i)
		}
		require.Nil(t, g.Circle())
		low := r.IntN(n - 1)
		nest(low, low+1+r.IntN(n-low-1))
		circle := g.Circle()
		require.GreaterOrEqual(t, len(circle), 3)
		require.Equal(t, circle[0], circle[len(circle)-1])
		for i := range len(circle) - 1 {
			require.True(t, contains[[2]string{circle[i], circle[i+1]}], "%v", circle)
		}
		require.Len(t, slices.Compact(slices.Sorted(slices.Values(circle))), len(circle)-1, "no group twice")
	}
}

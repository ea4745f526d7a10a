package demand_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/demand"
)

// TestGiven holds the sets of methods that a token's values can come from against all sets.
func TestGiven(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	several := 0
	for range 3000 {
		var list []demand.Method
		for i := range 1 + r.IntN(8) {
			m := demand.Method{Name: fmt.Sprint("m", i)}
			for range r.IntN(4) {
				m.AMR = append(m.AMR, fmt.Sprint(r.IntN(6)))
			}
			list = append(list, m)
		}
		table, err := demand.NewMethods(list)
		require.NoError(t, err)
		var amr []string
		for range r.IntN(7) {
			amr = append(amr, fmt.Sprint(r.IntN(7)))
		}
		tells := map[string]bool{} // the values that some method explains
		fits := make([]bool, len(list))
		for i, m := range list {
			fits[i] = len(m.AMR) > 0 && !slices.ContainsFunc(m.AMR, func(v string) bool { return !slices.Contains(amr, v) })
			for _, v := range m.AMR {
				tells[v] = tells[v] || fits[i]
			}
		}
		explains := func(s int) bool {
			left := map[string]bool{}
			for v, is := range tells {
				left[v] = is
			}
			for i, m := range list {
				if s>>i&1 == 1 && !fits[i] {
					return false
				}
				for _, v := range m.AMR {
					if s>>i&1 == 1 {
						left[v] = false
					}
				}
			}
			for _, is := range left {
				if is {
					return false
				}
			}
			return s > 0
		}
		var want []demand.Set
		for s := range 1 << len(list) {
			smallest := explains(s)
			for i := range list {
				smallest = smallest && (s>>i&1 == 0 || !explains(s&^(1<<i)))
			}
			if smallest {
				want = append(want, demand.Set(s))
			}
		}
		if len(want) > 1 {
			several++
		}
		require.Equal(t, want, table.Given(amr), "%v of %v", amr, list)
	}
	require.Greater(t, several, 100)
}

// TestGivenIsBounded: what could come from too many sets of methods, or has too many values, tells nothing.
func TestGivenIsBounded(t *testing.T) {
	pairs := func(n, each int) (list []demand.Method, amr []string) {
		for i := range n {
			amr = append(amr, fmt.Sprint(i))
			for k := range each {
				list = append(list, demand.Method{Name: fmt.Sprint("m", i, "-", k), AMR: amr[i:]})
			}
		}
		return list, amr
	}
	for _, c := range []struct{ values, each, sets int }{{16, 1, 1}, {17, 1, 0}, {6, 2, 64}, {7, 2, 0}, {12, 5, 0}} {
		list, amr := pairs(c.values, c.each)
		table, err := demand.NewMethods(list)
		require.NoError(t, err)
		require.Len(t, table.Given(amr), c.sets, "%+v", c)
	}
}

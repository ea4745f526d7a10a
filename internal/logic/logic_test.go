package logic

import (
	"context"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestSolverAgreesWithAllValues holds the solver against trying all values, over questions that follow
// each other, with clauses added in between.
func TestSolverAgreesWithAllValues(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	answers := map[Answer]int{}
	for range 1500 {
		f := NewFormula()
		f.most = 3 // so that clauses are forgotten
		n := 3 + r.IntN(8)
		for range n {
			f.Variable()
		}
		some := func() Lit { return Lit(2 + r.IntN(2*n)) }
		var clauses [][]Lit
		for range 3 {
			for range r.IntN(3 * n) {
				c := []Lit{some(), some(), some()}[:1+r.IntN(3)]
				clauses = append(clauses, c)
				f.Require(c...)
			}
			var assumed []Lit
			for range r.IntN(4) {
				assumed = append(assumed, some())
			}
			want := Impossible
			for values := range 1 << n {
				if holdsAll(clauses, values) && holdsEach(assumed, values) {
					want = Possible
				}
			}
			got := f.Solve(context.Background(), assumed...)
			require.Equal(t, want, got)
			if got == Possible {
				values := 0
				for v := range n {
					if f.Holds(Lit(2*v + 2)) {
						values |= 1 << v
					}
				}
				require.True(t, holdsAll(clauses, values) && holdsEach(assumed, values))
			}
			answers[got]++
		}
	}
	require.Greater(t, answers[Possible], 500)
	require.Greater(t, answers[Impossible], 500)
}

func holds(l Lit, values int) bool { return values>>(l.variable()-1)&1 == int(l&1^1) }

func holdsEach(lits []Lit, values int) bool {
	for _, l := range lits {
		if !holds(l, values) {
			return false
		}
	}
	return true
}

func holdsAll(clauses [][]Lit, values int) bool {
	for _, c := range clauses {
		some := false
		for _, l := range c {
			some = some || holds(l, values)
		}
		if !some {
			return false
		}
	}
	return true
}

// TestSumsAddUp holds the sums against adding up, for all values.
func TestSumsAddUp(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for range 100 {
		f := NewFormula()
		var list []Weighed
		for range 1 + r.IntN(5) {
			list = append(list, Weighed{f.Variable(), 1 + r.IntN(60)})
		}
		bound := r.IntN(140)
		sum := f.AtLeast(list, bound)
		for values := range 1 << len(list) {
			var assumed []Lit
			total := 0
			for i, w := range list {
				l := w.Lit
				if values>>i&1 == 0 {
					l = l.Not()
				} else {
					total += w.Weight
				}
				assumed = append(assumed, l)
			}
			want := sum
			if total < bound {
				want = sum.Not()
			}
			require.Equal(t, Possible, f.Solve(context.Background(), append(assumed, want)...))
			require.Equal(t, Impossible, f.Solve(context.Background(), append(assumed, want.Not())...))
		}
	}
}

// TestSolverStops gives up a question without an answer in sight when the time is over.
func TestSolverStops(t *testing.T) {
	f := NewFormula()
	const holes = 10 // eleven pigeons in ten holes
	var in [holes + 1][holes]Lit
	for p := range in {
		for h := range in[p] {
			in[p][h] = f.Variable()
		}
		f.Require(in[p][:]...)
	}
	for h := range holes {
		for p := range in {
			for q := range p {
				f.Require(in[p][h].Not(), in[q][h].Not())
			}
		}
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	require.Equal(t, Undecided, f.Solve(ctx))
}

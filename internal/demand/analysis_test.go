package demand_test

import (
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/demand"
)

// truths is the algebra of yes and no for one sign-on.
type truths struct {
	proof *demand.Proof
	lifts []*demand.Lift
	meets bool
}

func (t truths) And(parts ...bool) bool { return !slices.Contains(parts, false) }
func (t truths) Or(parts ...bool) bool  { return slices.Contains(parts, true) }
func (t truths) Not(x bool) bool        { return !x }
func (t truths) Shown(method int, _ *demand.Fresh) bool {
	if method == demand.ChangedPassword {
		return t.proof.Changed
	}
	return t.proof.Presented.Has(method)
}
func (t truths) Enrolled(method int) bool   { return t.proof.Enrolled.Has(method) }
func (t truths) Meets(int) bool             { return t.meets }
func (t truths) InGrace(time.Duration) bool { return false }
func (t truths) Lifted(covers func(*demand.Lift) bool) bool {
	return slices.ContainsFunc(t.lifts, covers)
}

// TestFoldAgreesWithDeciding works demands out in the algebra of yes and no, whatever is proved, enrolled and lifted, and asks
// what a decision asks.
func TestFoldAgreesWithDeciding(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 12))
	var text func(depth int) string
	text = func(depth int) string {
		if depth == 0 || r.IntN(3) == 0 {
			return []string{"password", "pin", "app-code", "passkey", "security-key", "aal1", "aal2", "aal3", "change-password", "device meets b", "two"}[r.IntN(11)]
		}
		return "(" + text(depth-1) + []string{" and ", " or "}[r.IntN(2)] + text(depth-1) + ")"
	}
	some := func(table *demand.Methods) demand.Set {
		return setOf(t, table, strings.Join(slices.DeleteFunc([]string{"password", "pin", "app-code", "passkey", "security-key"}, func(string) bool { return r.IntN(3) > 0 }), " "))
	}
	counts := map[[3]bool]int{}
	for range 4000 {
		written := text(3)
		if r.IntN(4) == 0 {
			written += " and enrol passkey"
		}
		table, it, errors := parse(t, "demand two { pin and app-code } demand it { "+written+" }")
		require.Empty(t, errors, written)
		meets := r.IntN(2) == 0
		p := &demand.Proof{Methods: table, Presented: some(table), Enrolled: some(table), Changed: r.IntN(3) == 0, Now: now, Posture: posture(meets)}
		terms := &demand.Terms{}
		for range r.IntN(3) {
			terms.Lifts = append(terms.Lifts, &demand.Lift{Methods: some(table), Levels: [4]bool{false, r.IntN(4) == 0, r.IntN(4) == 0, r.IntN(4) == 0},
				Named: map[string]bool{"two": r.IntN(3) == 0}, Change: r.IntN(4) == 0, Devices: map[int]bool{0: r.IntN(4) == 0}, Everything: r.IntN(20) == 0})
		}
		a := truths{p, terms.Lifts, meets}
		got := [3]bool{demand.Fold(it, table, a, demand.WithProof), demand.Fold(it, table, a, demand.WithEnrolled), demand.Fold(it, table, a, demand.WithEnrolling)}
		want := [3]bool{it.Met(p, terms)}
		for i := 1; i < 3; i++ {
			p.Enrolment = enrolment(i == 2)
			want[i] = it.CanBeMet(p, terms)
		}
		require.Equal(t, want, got, "%s, presented %s, enrolled %s, lifts %+v", written, namesOf(table, []demand.Set{p.Presented}), namesOf(table, []demand.Set{p.Enrolled}), terms.Lifts)
		counts[want]++
	}
	require.Len(t, counts, 4, "met, and can be with what is enrolled, by enrolling, or not at all")
}

// Package expect runs a rulebook's expectations through the engine.
package expect

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// Result is what came of one expectation.
type Result struct {
	Expect   *rulebook.Expect
	SignOn   signon.SignOn
	Decision signon.Decision
	Failed   []string // what was expected and not so; empty when all was
}

// Run decides on the expectation's sign-on; the clock stands in for a missing "at".
func Run(e *engine.Engine, x *rulebook.Expect, clock time.Time) (Result, error) {
	so, err := e.Rulebook().Tell(&x.Decl.SignOn, clock)
	if err != nil {
		return Result{}, err
	}
	if so.Time.IsZero() {
		so.Time = clock
	}
	r := Result{Expect: x, SignOn: so}
	if err := e.Decide(&so, &r.Decision, true); err != nil {
		return Result{}, fmt.Errorf("expect %q: %w", x.Name, err)
	}
	r.compare()
	return r, nil
}

func (r *Result) compare() {
	want, d := r.Expect.Want, &r.Decision
	if d.Outcome != want.Outcome {
		r.Failed = append(r.Failed, fmt.Sprintf("the outcome is %s, not %s", d.Outcome, want.Outcome))
	}
	if want.By != "" && !r.decidedBy(want.By, want.Case) {
		r.Failed = append(r.Failed, fmt.Sprintf("it was decided by %s, not by %s", By(d), quoteCase(want.By, want.Case)))
	}
	for _, m := range want.Asking {
		if !offered(d, m) {
			r.Failed = append(r.Failed, fmt.Sprintf("%s is not among what is asked", m))
		}
	}
}

func (r *Result) decidedBy(policy, label string) bool {
	x := r.Decision.Explanation
	if policy == engine.FloorName {
		return x.Ground == signon.GroundFloor
	}
	return slices.ContainsFunc(x.Deciding, func(e signon.Entry) bool {
		return e.Policy == policy && (label == "" || e.Case == label)
	})
}

// offered reports whether a step that the person can take names the method.
func offered(d *signon.Decision, method string) bool {
	return slices.ContainsFunc(d.Next, func(s signon.Step) bool {
		return slices.ContainsFunc(s.AnyOf, func(set []string) bool { return slices.Contains(set, method) })
	})
}

func quoteCase(policy, label string) string {
	if label == "" {
		return policy
	}
	return fmt.Sprintf("%s %q", policy, label)
}

// By tells what decided: policies with their cases, the floor, or that none surely spoke.
func By(d *signon.Decision) string {
	var list []string
	for _, e := range d.Explanation.Deciding {
		list = append(list, quoteCase(e.Policy, e.Case))
	}
	switch d.Explanation.Ground {
	case signon.GroundFloor:
		if len(list) == 0 {
			list = append(list, "the floor")
		}
	case signon.GroundUnmatched:
		list = append(list, "unmatched")
	case signon.GroundBreakGlass:
		list = append(list, "the emergency accounts' demand")
	case signon.GroundIdentity:
		list = append(list, "who signs on")
	}
	return strings.Join(list, ", ")
}

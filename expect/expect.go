// Package expect runs a rulebook's expectations, and proposes some from what was logged, as the
// command "brisk expect" does.
//
//	results, err := expect.Run(ctx, rules)
//	…
//	for _, r := range results.Expectations { fmt.Println(r.Name, r.Failed) }
package expect

import (
	"context"
	"fmt"
	"slices"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/explain"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// Results are what came of a rulebook's expectations. Their JSON is that of "brisk expect --json".
type Results struct {
	Rulebook     string   `json:"-"` // its name
	Passed       int      `json:"passed"`
	Failed       int      `json:"failed"`
	Expectations []Result `json:"expectations"`        // as they stand
	Unproved     int      `json:"promises_not_proved"` // how many promises the rulebook has, which proving is for, and running is not
}

// Result is what came of one expectation.
type Result struct {
	Name     string          `json:"name"`
	At       string          `json:"at"` // file:line
	Passed   bool            `json:"passed"`
	Failed   []string        `json:"failed,omitempty"` // what was expected and not so
	Decision signon.Decision `json:"decision"`
	SignOn   signon.SignOn   `json:"-"`

	file string
	line int
	want rulebook.Want
}

// UnknownError says that a rulebook has no expectation of a name.
type UnknownError struct {
	Name  string
	Known []string // the names that there are
}

// Error says so.
func (e *UnknownError) Error() string { return fmt.Sprintf("there is no expectation %q", e.Name) }

// Run decides on the sign-ons of a rulebook's expectations: of those named, or of all. The
// rulebook's clock stands in for a missing "at". The error may be an [*UnknownError].
func Run(ctx context.Context, rules *briskwarden.Rulebook, names ...string) (*Results, error) {
	e := bridge.Engine(rules)
	results := &Results{Rulebook: rules.Name(), Expectations: []Result{}, Unproved: len(bridge.Engine(rules).Rulebook().Promises)}
	var known []string
	for _, x := range e.Rulebook().Expects {
		known = append(known, x.Name)
		if len(names) > 0 && !slices.Contains(names, x.Name) {
			continue
		}
		r, err := run(ctx, e, x)
		if err != nil {
			return nil, err
		}
		if results.Expectations = append(results.Expectations, r); r.Passed {
			results.Passed++
		} else {
			results.Failed++
		}
	}
	for _, name := range names {
		if !slices.Contains(known, name) {
			return nil, &UnknownError{name, known}
		}
	}
	return results, nil
}

// Names are the names of a rulebook's expectations, as they stand.
func Names(rules *briskwarden.Rulebook) (names []string) {
	for _, x := range bridge.Engine(rules).Rulebook().Expects {
		names = append(names, x.Name)
	}
	return names
}

// run decides on one expectation's sign-on.
func run(ctx context.Context, e *engine.Engine, x *rulebook.Expect) (Result, error) {
	clock := e.Now()
	so, err := e.Rulebook().Tell(&x.Decl.SignOn, clock)
	if err != nil {
		return Result{}, err
	}
	if so.Time.IsZero() {
		so.Time = clock
	}
	at := x.Decl.Name.Pos
	r := Result{Name: x.Name, At: at.InFile(), SignOn: so, file: at.File, line: int(at.Line), want: x.Want}
	if err := e.Decide(ctx, &so, &r.Decision, true); err != nil {
		return Result{}, fmt.Errorf("expect %q: %w", x.Name, err)
	}
	r.compare()
	r.Passed = len(r.Failed) == 0
	return r, nil
}

func (r *Result) compare() {
	want, d := r.want, &r.Decision
	if d.Outcome != want.Outcome {
		r.Failed = append(r.Failed, fmt.Sprintf("the outcome is %s, not %s", d.Outcome, want.Outcome))
	}
	if want.By != "" && !r.decidedBy(want.By, want.Case) {
		r.Failed = append(r.Failed, fmt.Sprintf("it was decided by %s, not by %s", explain.By(d), quoteCase(want.By, want.Case)))
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

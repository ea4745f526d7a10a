package prove

// What breaks a promise.

import (
	"context"
	"slices"

	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/logic"
	"briskwarden.example/briskwarden/internal/possible"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/signon"
)

// broken seeks sign-ons that break a promise; the way is their outcome.
type broken struct {
	*prover
	promise *rulebook.Promise
}

// Concerns reports whether the promise is about the app and the action.
func (b *broken) Concerns(app, action string) bool {
	a := b.rb.Apps[app]
	return a != nil && b.promise.To.Holds(a) && slices.Contains(b.promise.Doing, action)
}

// Seek tells what breaks the promise.
func (b *broken) Seek(sp *possible.Space) (scope logic.Lit, sought []logic.Lit) {
	x := b.promise
	scope = sp.Who(0, &x.Who)
	if x.When != nil {
		scope = sp.And(scope, sp.Condition(0, x.When).Must)
	}
	r := sp.Rule(0, possible.Policies{Watched: b.span.AsEnforced})
	sought = make([]logic.Lit, len(r))
	for o := range r {
		if breaks(x, signon.Outcome(o)) {
			sought[o] = r[o]
		}
	}
	switch x.Form {
	case ast.PromiseNeverWithout:
		sought[signon.Grant] = sp.And(r[signon.Grant], sp.Met(0, x.Without).Not())
	case ast.PromiseNeverLockedOut:
		sought[signon.Block] = sp.And(r[signon.Block], sp.PresentsAll(0))
	}
	return scope, sought
}

// breaks reports whether an outcome can break a promise.
func breaks(x *rulebook.Promise, o signon.Outcome) bool {
	switch x.Form {
	case ast.PromiseAlways:
		return o != x.Outcome
	case ast.PromiseNever:
		return o == x.Outcome
	case ast.PromiseNeverWithout:
		return o == signon.Grant
	}
	return o == signon.Block
}

// Judge has the engine tell whether a sign-on breaks the promise.
func (b *broken) Judge(ctx context.Context, so *signon.SignOn) (way int, is bool, err error) {
	x := b.promise
	v, err := b.engine.Judge(ctx, so, &engine.Question{Watched: b.span.AsEnforced, When: x.When, Without: x.Without})
	p := b.rb.People[so.User]
	is = err == nil && p != nil && x.Who.Holds(p) && v.When && breaks(x, v.Outcome)
	switch x.Form {
	case ast.PromiseNeverWithout:
		is = is && !v.Met
	case ast.PromiseNeverLockedOut:
		is = is && v.ShowsAll
	}
	return int(v.Outcome), is, err
}

// EachWay is false: a promise is broken by any outcome that breaks it.
func (b *broken) EachWay() bool { return false }

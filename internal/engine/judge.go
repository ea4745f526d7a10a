package engine

// What analyses ask: conditions of parts of sign-ons, and decisions without words.

import (
	"cmp"
	"context"
	"time"

	"briskwarden.example/briskwarden/internal/condition"
	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// Probe has somebody ask for facts of a sign-on of which only a part is told: the user and the app need
// not be known. The error is that of a value that the rulebook refuses.
func (e *Engine) Probe(ctx context.Context, so *signon.SignOn, ask func(condition.Facts)) error {
	return e.withFrame(ctx, func(f *frame) error {
		f.begin(so)
		if f.person = e.rb.People[so.User]; f.person == nil {
			f.person = &rulebook.Person{}
		}
		if f.target = e.targets[so.App]; f.target == nil {
			f.target = &target{app: &rulebook.App{}}
		}
		if err := cmp.Or(so.Validate(), f.checkStated(), f.suppose()); err != nil {
			return err
		}
		var unused signon.Decision
		f.gather(&unused)
		ask(f)
		return nil
	})
}

// Question is what is asked of a sign-on beside its outcome.
type Question struct {
	Watched bool           // the policies on watch count as if they were enforced
	When    condition.Node // nil is true
	Without *demand.Demand // as it is written, without any waiver; nil is met
}

// Verdict is the answer to a [Question].
type Verdict struct {
	Outcome  signon.Outcome
	When     bool // surely
	Met      bool
	Limits   Limits // of the session
	ShowsAll bool   // every method that the user is enrolled in, and a change of the password, is presented
}

// Limits are how long a session lasts, and how long it may be idle; zero is without limit, and for ever so short is a nanosecond.
type Limits struct{ Lasts, Idle time.Duration }

// limited is a limit of a policy, as [Limits] has it.
func limited(d time.Duration, given bool) time.Duration {
	if !given {
		return 0
	}
	return max(d, 1)
}

// Shorter is the shorter one of two limits.
func Shorter(a, b time.Duration) time.Duration {
	if a == 0 || b != 0 && b < a {
		return b
	}
	return a
}

// LimitsOf are the limits of a policy.
func LimitsOf(s *rulebook.Session) Limits {
	return Limits{limited(s.Lasts, s.LastsText != ""), limited(s.Idle, s.IdleText != "")}
}

// Judge decides on a sign-on for those who need no words, and answers a question about it.
func (e *Engine) Judge(ctx context.Context, so *signon.SignOn, q *Question) (v Verdict, err error) {
	if err := so.Validate(); err != nil {
		return v, err
	}
	err = e.withFrame(ctx, func(f *frame) error {
		if known, err := f.ready(so); err != nil || !known {
			return err
		}
		v.When = q.When == nil || q.When.Eval(f) == known.True
		v.Met = q.Without == nil || q.Without.Met(&f.proof, &noTerms)
		v.ShowsAll = f.proof.Changed && f.person.Methods.Within(f.proof.Presented)
		if f.person.BreakGlass {
			var d signon.Decision
			f.breakGlass(&d)
			v.Outcome = d.Outcome
			return nil
		}
		f.waive()
		f.candidates = f.gatherCandidates(f.index, f.candidates[:0], q.Watched)
		v.Outcome = f.rule(f.candidates, q.Watched).outcome
		for i := range f.candidates {
			if c := &f.candidates[i]; c.kase.Kind != rulebook.Abstain && (c.stage == rulebook.Enforce || q.Watched) {
				of := LimitsOf(&c.policy.Session)
				v.Limits = Limits{Shorter(v.Limits.Lasts, of.Lasts), Shorter(v.Limits.Idle, of.Idle)}
			}
		}
		return nil
	})
	return v, err
}

// HasHistory reports whether something tells what was before, where the rulebook's files do not, a
// decision service: it answers the callers of the rulebook.
func (e *Engine) HasHistory() bool { return e.sources.History != nil || len(e.rb.Callers) > 0 }

// Listed reports whether all people, places and devices are those of the rulebook's files, which can be
// gone through, and none are a program's own.
func (e *Engine) Listed() bool {
	return e.sources.People == nil && e.sources.Places == nil && e.sources.Inventory == nil
}

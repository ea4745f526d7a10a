package engine

// A decision for those who count, without words.

import (
	"context"

	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/history"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/set"
	"briskwarden.example/briskwarden/signon"
)

// Trace is how a decision came about: what an explanation tells in words, for those who
// count. Its memory serves again when another decision is traced into it.
type Trace struct {
	Outcome  signon.Outcome
	Ground   signon.Ground     // what gave it beside or instead of policies
	Person   *rulebook.Person  // nil for a user that is not known
	Cases    []TracedCase      // policy by policy; none where policies were not asked
	Past     history.SignOn    // what a history is asked, or taught, about it
	Country  string            // where the sign-on comes from; "" is unknown
	Networks set.Set           // the named networks that the address lies in
	Form     string            // of the device; "" is unknown
	Alerts   []*rulebook.Alert // that it raises

	Scored bool           // to be set: the risk is scored, where the user, app and action are known and there is a model
	Risk   known.Interval // zero where that is not so
}

// TracedCase is a case that counted: one that was unknown, or the one that its policy took.
type TracedCase struct {
	Policy  *rulebook.Policy
	Case    *rulebook.Case
	Stage   rulebook.Stage
	Sure    bool           // it was taken
	Outcome signon.Outcome // what it came to, its demand asked; of no meaning for one that abstains
	Decides bool           // it is among what gave the outcome
}

// Trace decides as [Engine.Decide] does, and traces the decision, the policies on watch included.
// Of the decision itself only the outcome is worked out. The sign-on must be valid, as what is read
// from a log is. After an error the trace tells nothing.
func (e *Engine) Trace(ctx context.Context, so *signon.SignOn, t *Trace) error {
	return e.withFrame(ctx, func(f *frame) error {
		f.traced.Reset(so.ID, e.rb.Digest)
		f.trace = t
		err := f.decide(so, &f.traced)
		f.trace = nil
		return err
	})
}

func (f *frame) fillTrace(t *Trace, outcome signon.Outcome, ground signon.Ground) {
	t.Outcome, t.Ground, t.Person, t.Form, t.Country = outcome, ground, f.person, f.device.Form, f.countryCode()
	t.Networks, _ = f.networksOf()
	t.Past = f.lesson()
	if t.Risk = (known.Interval{}); t.Scored && f.rb.Risk != nil && !ground.Identity() && ground != signon.GroundEndedSession {
		t.Risk, _ = f.Number(fact.Risk)
	}
	t.Cases, t.Alerts = t.Cases[:0], t.Alerts[:0]
	if len(f.rb.Alerts) > 0 {
		t.Alerts = f.alerts(t.Alerts, outcome, ground.Identity() || ground == signon.GroundEndedSession)
	}
	for i := range f.candidates {
		c := &f.candidates[i]
		traced := TracedCase{Policy: c.policy.Policy, Case: c.kase, Stage: c.stage, Sure: c.sure}
		if c.kase.Kind != rulebook.Abstain {
			traced.Outcome = f.outcomeOf(c)
			traced.Decides = c.stage == rulebook.Enforce && traced.Outcome == outcome
		}
		t.Cases = append(t.Cases, traced)
	}
}

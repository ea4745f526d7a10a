package engine

import (
	"context"

	"briskwarden.example/briskwarden/internal/history"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/set"
	"briskwarden.example/briskwarden/signon"
)

// Course is how a decision came about: what an explanation tells in words, for those who
// count. Its memory serves again when another decision is followed into it.
type Course struct {
	Outcome   signon.Outcome
	Person    *rulebook.Person // nil for a user that is not known
	Asked     bool             // policies were asked: user, app and action are known, and the user is no emergency account
	Unmatched bool             // the outcome is the rulebook's unmatched
	Floor     bool             // the outcome is what the floor came to
	Steps     []Step           // the cases that were heard, policy by policy
	Before    history.SignOn   // what a history is asked, or taught, about it
	Country   string           // where the sign-on comes from; "" is unknown
	Networks  set.Set          // the named networks that the address lies in
	Form      string           // of the device; "" is unknown
}

// Step is a case that was heard: one that was unknown, or the one that its policy took.
type Step struct {
	Policy  *rulebook.Policy
	Case    *rulebook.Case
	Stage   rulebook.Stage
	Sure    bool           // it was taken
	Outcome signon.Outcome // what it came to, its demand asked; of no meaning for one that abstains
	Decides bool           // it is among what gave the outcome
}

// Follow decides as [Engine.Decide] does, the policies on watch heard too, and tells the course
// of the decision. Of the decision itself only the outcome is worked out. The sign-on must be
// valid, as what is read from a log is. After an error the course tells nothing.
func (e *Engine) Follow(ctx context.Context, so *signon.SignOn, c *Course) error {
	return e.withFrame(ctx, func(f *frame) error {
		f.followed.Reset(so.ID, e.rb.Digest)
		f.course = c
		err := f.decide(so, &f.followed)
		f.course = nil
		return err
	})
}

// Disabled reports whether the user is known and disabled.
func (c *Course) Disabled() bool { return c.Person != nil && c.Person.Active == known.False }

// relate tells the course of a decision; the ruling is nil where no policy was asked.
func (f *frame) relate(c *Course, outcome signon.Outcome, r *ruling) {
	c.Outcome, c.Person, c.Form, c.Country = outcome, f.person, f.device.Form, f.countryCode()
	c.Networks, _ = f.networksOf()
	if !f.history.done {
		f.query()
	}
	c.Before = history.SignOn{Query: f.before, ID: f.so.ID}
	c.Steps = c.Steps[:0]
	c.Asked, c.Unmatched, c.Floor = r != nil, false, false
	if r == nil {
		return
	}
	c.Unmatched = r.unmatched && outcome == f.rb.Unmatched
	c.Floor = r.floorAsked && r.floor == outcome && outcome != signon.Grant
	for i := range f.heard {
		h := &f.heard[i]
		s := Step{Policy: h.policy.Policy, Case: h.kase, Stage: h.stage, Sure: h.sure}
		if h.kase.Kind != rulebook.Abstain {
			s.Outcome = f.candidate(h)
			s.Decides = h.stage == rulebook.Enforce && s.Outcome == outcome
		}
		c.Steps = append(c.Steps, s)
	}
}

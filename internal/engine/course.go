package engine

import (
	"iter"

	"briskwarden.example/briskwarden/internal/history"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// Course is how a decision came about: what an explanation tells in words, for those who
// count. It is good until the function that it is given to returns.
type Course struct {
	f      *frame
	ruling *ruling // nil where no policy was asked
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

// Follow decides as [Engine.Decide] does, the policies on watch heard too, and gives the course
// of the decision to see. Of the decision itself only the outcome is worked out.
func (e *Engine) Follow(so *signon.SignOn, d *signon.Decision, see func(*Course)) error {
	f := e.frames.Get().(*frame)
	d.Reset(so.ID, e.rb.Digest)
	f.see = see
	err := f.decide(so, d)
	f.see = nil
	f.release()
	e.frames.Put(f)
	if err != nil {
		*d = signon.Refused(so.ID, err)
	}
	return err
}

// Person is the user; nil for one that is not known.
func (c *Course) Person() *rulebook.Person { return c.f.person }

// Asked reports whether policies were asked: the user, app and action are known, and the
// user is no emergency account.
func (c *Course) Asked() bool { return c.ruling != nil }

// Steps are the cases that were heard, policy by policy.
func (c *Course) Steps() iter.Seq[Step] {
	return func(yield func(Step) bool) {
		if c.ruling == nil {
			return
		}
		for i := range c.f.heard {
			h := &c.f.heard[i]
			s := Step{Policy: h.policy.Policy, Case: h.kase, Stage: h.stage, Sure: h.sure}
			if h.kase.Kind != rulebook.Abstain {
				s.Outcome = c.f.candidate(h)
				s.Decides = h.stage == rulebook.Enforce && s.Outcome == c.ruling.outcome
			}
			if !yield(s) {
				return
			}
		}
	}
}

// Unmatched reports whether the outcome is the rulebook's unmatched, and Floor whether it is what the floor came to.
func (c *Course) Unmatched() bool {
	return c.ruling != nil && c.ruling.unmatched && c.ruling.outcome == c.f.rb.Unmatched
}

// Floor reports whether the outcome is what the floor came to.
func (c *Course) Floor() bool {
	return c.ruling != nil && c.ruling.floorAsked && c.ruling.floor == c.ruling.outcome && c.ruling.outcome != signon.Grant
}

// Before is what a history is asked, or taught, about the sign-on.
func (c *Course) Before() history.Query {
	if c.f.history.done {
		return c.f.before
	}
	return c.f.query()
}

// Country is where the sign-on comes from; "" is unknown.
func (c *Course) Country() string { return c.f.countryCode() }

// Networks calls f with the id of each named network that the address lies in.
func (c *Course) Networks(each func(id int)) {
	in, _ := c.f.networksOf()
	for id := range c.f.rb.Networks.Names {
		if in.Has(id) {
			each(id)
		}
	}
}

// Form is the form of the device; "" is unknown.
func (c *Course) Form() string { return c.f.device.Form }

// Disabled reports whether the user is known and disabled.
func (c *Course) Disabled() bool { return c.f.person != nil && c.f.person.Active == known.False }

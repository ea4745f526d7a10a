package engine

// What the cases that count come to, and what gave it.

import (
	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// ruling is what the candidates come to.
type ruling struct {
	outcome    signon.Outcome
	hard       *rulebook.Case // the first block that a policy gave by itself; nil if there is none
	unmatched  bool           // the rulebook's unmatched was a candidate
	floorAsked bool
	floorMet   bool
	floor      signon.Outcome // what the floor came to, when it was asked
}

// outcomeOf works out what one case comes to: a step-up is a grant when its demand is met,
// stays a step-up when it can be met, else is a block.
func (f *frame) outcomeOf(c *candidate) signon.Outcome {
	if c.ruled {
		return c.outcome
	}
	c.ruled = true
	switch c.kase.Kind {
	case rulebook.Grant:
		c.outcome = signon.Grant
	case rulebook.Review:
		c.outcome = signon.Review
	case rulebook.StepUp:
		c.terms = f.termsOf(c.policy)
		c.outcome, c.met = f.ask(c.kase.Demand, c.terms)
	}
	return c.outcome
}

func (f *frame) ask(d *demand.Demand, terms *demand.Terms) (outcome signon.Outcome, met bool) {
	switch {
	case d.Met(&f.proof, terms):
		return signon.Grant, true
	case d.CanBeMet(&f.proof, terms):
		return signon.StepUp, false
	}
	return signon.Block, false
}

// rule finds the strictest candidate among what the enforced policies, and with watched
// those on watch too, gave; the floor is asked unless something blocks.
func (f *frame) rule(list []candidate, watched bool) (r ruling) {
	r.outcome = signon.Grant
	spoken := false
	for i := 0; i < len(list); {
		p, speaks := list[i].policy, true
		counts := watched || list[i].stage == rulebook.Enforce
		for ; i < len(list) && list[i].policy == p; i++ {
			c := &list[i]
			switch {
			case !counts:
			case c.kase.Kind == rulebook.Abstain:
				speaks = false
			default:
				r.outcome = min(r.outcome, f.outcomeOf(c))
				if c.kase.Kind == rulebook.Block && r.hard == nil {
					r.hard = c.kase
				}
			}
		}
		spoken = spoken || counts && speaks
	}
	if !spoken {
		r.unmatched = true
		r.outcome = min(r.outcome, f.rb.Unmatched)
	}
	if r.outcome != signon.Block && f.rb.Floor != nil {
		r.floorAsked = true
		r.floor, r.floorMet = f.ask(f.rb.Floor, &noTerms)
		r.outcome = min(r.outcome, r.floor)
	}
	return r
}

var noTerms demand.Terms

// groundOf is what gave the outcome beside or instead of policies.
func (f *frame) groundOf(r *ruling) signon.Ground {
	switch {
	case r.floorAsked && r.floor == r.outcome && r.outcome != signon.Grant:
		return signon.GroundFloor
	case r.unmatched && r.outcome == f.rb.Unmatched:
		return signon.GroundUnmatched
	}
	return signon.GroundPolicies
}

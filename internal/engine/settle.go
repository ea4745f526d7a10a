package engine

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

// candidate works out what one case comes to: a step-up is a grant when its demand is met,
// stays a step-up when it can be met, else is a block.
func (f *frame) candidate(h *heard) signon.Outcome {
	if h.settled {
		return h.outcome
	}
	h.settled = true
	switch h.kase.Kind {
	case rulebook.Grant:
		h.outcome = signon.Grant
	case rulebook.Review:
		h.outcome = signon.Review
	case rulebook.StepUp:
		h.terms = f.termsOf(h.policy)
		h.outcome, h.met = f.ask(h.kase.Demand, h.terms)
	}
	return h.outcome
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

// settle finds the strictest candidate among what the enforced policies, and with watched
// those on watch too, gave; the floor is asked unless something blocks.
func (f *frame) settle(list []heard, watched bool) (r ruling) {
	r.outcome = signon.Grant
	spoken := false
	for i := 0; i < len(list); {
		p, speaks := list[i].policy, true
		counts := watched || list[i].stage == rulebook.Enforce
		for ; i < len(list) && list[i].policy == p; i++ {
			h := &list[i]
			switch {
			case !counts:
			case h.kase.Kind == rulebook.Abstain:
				speaks = false
			default:
				r.outcome = min(r.outcome, f.candidate(h))
				if h.kase.Kind == rulebook.Block && r.hard == nil {
					r.hard = h.kase
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

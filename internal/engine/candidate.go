package engine

// Which cases count: those that policies take, and those before them that are unknown.

import (
	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// candidate is a case of an applying policy: one that was unknown, or the one taken.
type candidate struct {
	policy *policy
	kase   *rulebook.Case
	terms  *demand.Terms // on which its demand, if any, is made; once it is ruled on
	stage  rulebook.Stage
	sure   bool

	ruled   bool           // whether the two below are worked out
	outcome signon.Outcome // what the case comes to, its demand asked
	met     bool           // whether its demand, if any, is met
}

// gatherCandidates walks the cases of every policy that applies; watched says whether those on watch count.
func (f *frame) gatherCandidates(x *index, list []candidate, watched bool) []candidate {
	f.matched = x.matching(f.person, f.matched[:0])
	for _, p := range f.matched {
		stage := rulebook.Enforce
		if p.staged {
			stage = p.StageOf(f.person, f.now)
		}
		if stage == rulebook.Enforce || stage == rulebook.Watch && watched {
			list = f.addCandidates(p, stage, list)
		}
	}
	return list
}

// addCandidates takes the first case that is true, and keeps those before it that are unknown.
func (f *frame) addCandidates(p *policy, stage rulebook.Stage, list []candidate) []candidate {
	for i, when := range p.conditions {
		switch when.Eval(f) {
		case known.Unknown:
			list = append(list, candidate{policy: p, kase: &p.Cases[i], stage: stage})
		case known.True:
			return append(list, candidate{policy: p, kase: &p.Cases[i], stage: stage, sure: true})
		}
	}
	return append(list, candidate{policy: p, kase: &p.Cases[len(p.conditions)], stage: stage, sure: true})
}

// termsOf are the terms on which a policy makes its demands of this person.
func (f *frame) termsOf(p *policy) *demand.Terms {
	if !p.staged && len(f.lifts) == 0 {
		return &p.terms
	}
	terms := p.terms
	terms.Enforced, terms.Lifts = p.EnforcedFrom(f.person), f.lifts
	f.terms = append(f.terms, terms)
	return &f.terms[len(f.terms)-1]
}

package possible

// What is asked of the scopes of a consent.

import (
	"maps"
	"math"
	"slices"

	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/logic"
	"briskwarden.example/briskwarden/internal/rulebook"
)

// scopeSpace are the scopes that are asked for: whether a list is stated, which kinds are on it, and how
// long it is.
type scopeSpace struct {
	stated  logic.Lit
	has     []logic.Lit       // by kind
	atLeast map[int]logic.Lit // how long the list is
	longest int               // that matters
}

func (sp *Space) scopeList() *scopeSpace {
	if sp.scopes == nil {
		x := &scopeSpace{stated: sp.Variable(), atLeast: map[int]logic.Lit{}}
		for range sp.w.scopes {
			has := sp.Variable()
			sp.Imply(x.stated, has)
			x.has = append(x.has, has)
		}
		if sp.Action != rulebook.Consent {
			sp.Require(x.stated.Not())
		}
		sp.scopes = x
	}
	return sp.scopes
}

// ofScopes is a comparison with the scopes.
func (sp *Space) ofScopes(l *leaf) logic.Three {
	x := sp.scopeList()
	switch {
	case l.Knowledge:
		return ask(sp, l, logic.Three{Must: x.stated, May: logic.Yes})
	case l.Fact.Slot == fact.ScopesCount:
		return sp.whenStated(sp.counted(l))
	case l.Fact.Slot == fact.ScopesWeight:
		return sp.whenStated(sp.weighed(l))
	}
	var inside, outside []logic.Lit
	for i, has := range x.has {
		in := false
		for _, id := range l.Sets {
			in = in || sp.w.scopes[i].in[l.side.number][id]
		}
		if in {
			inside = append(inside, has)
		} else {
			outside = append(outside, has)
		}
	}
	if !l.Within {
		return sp.whenStated(sp.Or(inside...))
	}
	some, all := sp.Or(x.has...), sp.Or(outside...).Not()
	return logic.Three{Must: sp.And(some, all), May: sp.Or(some.Not(), all)}
}

// whenStated is unknown where no list is stated.
func (sp *Space) whenStated(is logic.Lit) logic.Three {
	stated := sp.scopeList().stated
	return logic.Three{Must: sp.And(stated, is), May: sp.Or(stated.Not(), is)}
}

// counted compares how many scopes are asked for.
func (sp *Space) counted(l *leaf) logic.Lit {
	most := int(math.Max(0, math.Min(l.Numbers[0], 1e6))) + 2
	var list []logic.Lit
	for _, s := range spans(most, func(n int) known.Truth { return l.node.Eval(scored{at: known.Exactly(float64(n))}) }) {
		if s.is != known.True {
			continue
		}
		in := sp.longerThan(s.from)
		if s.to < most {
			in = sp.And(in, sp.longerThan(s.to+1).Not())
		}
		list = append(list, in)
	}
	return sp.Or(list...)
}

// longerThan is whether the list has at least so many scopes.
func (sp *Space) longerThan(n int) logic.Lit {
	if n <= 0 {
		return logic.Yes
	}
	x := sp.scopeList()
	l, built := x.atLeast[n]
	if !built {
		l = sp.Variable()
		x.atLeast[n] = l
	}
	return l
}

// weighed compares what the scopes weigh.
func (sp *Space) weighed(l *leaf) logic.Lit {
	var weights []logic.Weighed
	for id, set := range l.side.rb.ScopeSets {
		if set.Weight == 0 {
			continue
		}
		var touched []logic.Lit
		for i, has := range sp.scopeList().has {
			if sp.w.scopes[i].in[l.side.number][id] {
				touched = append(touched, has)
			}
		}
		weights = append(weights, logic.Weighed{Lit: sp.Or(touched...), Weight: set.Weight})
	}
	var list []logic.Lit
	for _, s := range spans(rulebook.MostWeight, func(n int) known.Truth { return l.node.Eval(scored{at: known.Exactly(float64(n))}) }) {
		if s.is != known.True {
			continue
		}
		in := sp.AtLeast(weights, s.from)
		if s.to < rulebook.MostWeight {
			in = sp.And(in, sp.AtLeast(weights, s.to+1).Not())
		}
		list = append(list, in)
	}
	return sp.Or(list...)
}

// spans parts the numbers from 0 to most by an answer.
func spans(most int, eval func(int) known.Truth) (list []span) {
	for n := 0; n <= most; n++ {
		is := eval(n)
		if k := len(list); k > 0 && list[k-1].is == is {
			list[k-1].to = n
		} else {
			list = append(list, span{n, n, is})
		}
	}
	return list
}

// bindScopes has the list be as long as the kinds on it need.
func (sp *Space) bindScopes() {
	x := sp.scopes
	if x == nil {
		return
	}
	var kinds []logic.Weighed
	for _, has := range x.has {
		kinds = append(kinds, logic.Weighed{Lit: has, Weight: 1})
	}
	lengths := slices.Sorted(maps.Keys(x.atLeast))
	for i, n := range lengths {
		l := x.atLeast[n]
		sp.Imply(l, sp.AtLeast(kinds, n))
		sp.Imply(sp.Or(x.has...), l)
		if i > 0 {
			sp.Imply(x.atLeast[lengths[i-1]], l)
		}
		x.longest = n
	}
}

// list is the list of scopes that was found; nil where none is stated.
func (sp *Space) list() []string {
	x := sp.scopes
	if x == nil || !sp.Holds(x.stated) {
		return nil
	}
	list := []string{}
	for i, has := range x.has {
		if sp.Holds(has) {
			list = append(list, sp.w.scopes[i].scope)
		}
	}
	for n := x.longest; n > 0; n-- {
		if l, counts := x.atLeast[n]; counts && sp.Holds(l) {
			for len(list) < n {
				list = append(list, list[0])
			}
			break
		}
	}
	return list
}

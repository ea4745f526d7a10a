package rulebook

// Sets of scopes, and what they weigh.

import (
	"maps"
	"slices"
	"strings"
)

// ScopeSet is a named set of OAuth 2.0 scopes.
type ScopeSet struct {
	Name     string
	Weight   int
	exact    map[string]bool
	prefixes []string
}

// Unclassified is the id of the built-in set of all scopes that no set names.
const Unclassified = 0

// Has reports whether the set names the scope.
func (s *ScopeSet) Has(scope string) bool {
	return s.exact[scope] || slices.ContainsFunc(s.prefixes, func(p string) bool { return strings.HasPrefix(scope, p) })
}

// Samples are scopes that the set names: each that stands in it as it is, and of each beginning one that is
// likely to stand nowhere, and where that can be one, the beginning itself.
func (s *ScopeSet) Samples() []string {
	list := slices.Collect(maps.Keys(s.exact))
	for _, p := range s.prefixes {
		list = append(list, p, p+"anything")
	}
	return list
}

// Classified are scopes that a set names, as they are asked for.
type Classified struct {
	*ScopeSet
	Scopes []string
}

// Classify puts scopes to the sets that name them, in the order of the sets; those that none
// names come last. A scope that several sets name stands in each.
func (rb *Rulebook) Classify(scopes []string) (list []Classified) {
	for id, set := range rb.ScopeSets {
		c := Classified{ScopeSet: set}
		for _, scope := range scopes {
			if rb.InScopeSet(id, scope) {
				c.Scopes = append(c.Scopes, scope)
			}
		}
		if c.Scopes != nil {
			list = append(list, c)
		}
	}
	if len(list) > 0 && list[0].ScopeSet == rb.ScopeSets[Unclassified] {
		list = append(list[1:], list[0])
	}
	return list
}

// InScopeSet reports whether the set of this id holds the scope.
func (rb *Rulebook) InScopeSet(id int, scope string) bool {
	if id != Unclassified {
		return rb.ScopeSets[id].Has(scope)
	}
	return !slices.ContainsFunc(rb.ScopeSets[1:], func(s *ScopeSet) bool { return s.Has(scope) })
}

// MostWeight is the most that scopes weigh together.
const MostWeight = 100

// Weigh adds the weights of the sets that scopes touch.
func (rb *Rulebook) Weigh(scopes []string) int {
	weight := 0
	for id, s := range rb.ScopeSets {
		if slices.ContainsFunc(scopes, func(scope string) bool { return rb.InScopeSet(id, scope) }) {
			weight += s.Weight
		}
	}
	return min(weight, MostWeight)
}

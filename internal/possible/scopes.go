package possible

// Which scopes a consent can ask for.

import (
	"fmt"
	"slices"
	"strings"

	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// scopeKind is a scope that stands for all that lie in the same sets.
type scopeKind struct {
	scope string
	in    []map[int]bool // by side: the sets that hold it
}

// scopeLetters are those that a scope can have (RFC 6749, section 3.3).
const scopeLetters = "abcdefghijklmnopqrstuvwxyz0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZ!#$%&'()*+,-./:;<=>?@[]^_`{|}~"

// unclassified is a scope that lies in no set of either side; none where there is none. A set with a wildcard takes all that begin like it.
func (w *World) unclassified() []string {
	free := func(scope string) bool {
		return !slices.ContainsFunc(w.sides, func(s *side) bool { return !s.rb.InScopeSet(rulebook.Unclassified, scope) })
	}
	if free("other") {
		return []string{"other"}
	}
	for _, begin := range append([]string{""}, strings.Split(scopeLetters, "")...) {
		for _, letter := range scopeLetters {
			if scope := begin + string(letter); free(scope) {
				return []string{scope}
			}
		}
	}
	return nil
}

// findScopes finds a scope of each combination of sets that there is.
func (w *World) findScopes() {
	named := map[string]bool{}
	for _, s := range w.sides {
		for _, set := range s.rb.ScopeSets {
			for _, scope := range set.Samples() {
				named[scope] = true
			}
		}
	}
	seen := map[string]bool{}
	for _, scope := range append(sorted(named), w.unclassified()...) {
		if !signon.IsScope(scope) {
			continue
		}
		kind := scopeKind{scope: scope}
		key := ""
		for _, s := range w.sides {
			in := map[int]bool{}
			for id := range s.rb.ScopeSets {
				in[id] = s.rb.InScopeSet(id, scope)
				key += fmt.Sprint(in[id])
			}
			kind.in = append(kind.in, in)
		}
		if !seen[key] {
			seen[key] = true
			w.scopes = append(w.scopes, kind)
		}
	}
}

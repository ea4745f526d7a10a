package possible

// Which scopes a consent can ask for.

import (
	"fmt"

	"briskwarden.example/briskwarden/signon"
)

// scopeKind is a scope that stands for all that lie in the same sets.
type scopeKind struct {
	scope string
	in    []map[int]bool // by side: the sets that hold it
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
	for _, scope := range append(sorted(named), unheardOf(named)) {
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

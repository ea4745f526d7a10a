package search

// Of whom something can be.

import (
	"context"

	"briskwarden.example/briskwarden/internal/logic"
	"briskwarden.example/briskwarden/internal/possible"
	"briskwarden.example/briskwarden/signon"
)

// Kinds finds the kinds of people of whom something is possible in a space that is settled, each confirmed by
// the engine on a sign-on; not ok where the time ran out.
func Kinds(ctx context.Context, sp *possible.Space, sought logic.Lit, confirm func(*signon.SignOn) (bool, error)) (found map[*possible.Kind]bool, ok bool, err error) {
	found = map[*possible.Kind]bool{}
	if sought == logic.No {
		return found, true, nil
	}
	groups, is := sp.Groups()
	open := sp.Variable()
	for {
		switch sp.Solve(ctx, open, sought) {
		case logic.Undecided:
			return nil, false, nil
		case logic.Impossible:
			return found, true, nil
		}
		so, _ := sp.SignOn()
		confirmed, err := confirm(&so)
		switch {
		case err != nil:
			return nil, false, &Unconfirmed{so, err.Error()}
		case !confirmed:
			return nil, false, &Unconfirmed{so, "of a kind of people"}
		}
		for g, kinds := range groups {
			if sp.Holds(is[g]) {
				for _, k := range kinds {
					found[k] = true
				}
				sp.Require(open.Not(), is[g].Not())
				break
			}
		}
	}
}

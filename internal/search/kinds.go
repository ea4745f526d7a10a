package search

// Of whom something can be.

import (
	"context"
	"maps"
	"slices"

	"briskwarden.example/briskwarden/internal/logic"
	"briskwarden.example/briskwarden/internal/possible"
	"briskwarden.example/briskwarden/signon"
)

// Kinds finds the kinds of people of whom something is possible in a space that is bound, besides those of
// whom it is known already. The engine confirms every sign-on that is found; where it tells all of what is sought,
// it is asked of the same sign-on by others too, who then need not be looked for. Not ok where the time ran out.
func Kinds(ctx context.Context, sp *possible.Space, sought logic.Lit, known map[*possible.Kind]bool, tells bool, confirm func(*signon.SignOn) (bool, error)) (found map[*possible.Kind]bool, ok bool, err error) {
	found = maps.Clone(known)
	if found == nil {
		found = map[*possible.Kind]bool{}
	}
	if sought == logic.No {
		return found, true, nil
	}
	groups, is := sp.Groups()
	open := sp.Variable()
	left := make([]bool, len(groups))
	for g, kinds := range groups {
		if left[g] = slices.ContainsFunc(kinds, func(k *possible.Kind) bool { return !found[k] }); !left[g] {
			sp.Require(open.Not(), is[g].Not())
		}
	}
	for {
		switch sp.Solve(ctx, open, sought) {
		case logic.Undecided:
			return nil, false, nil
		case logic.Impossible:
			return found, true, nil
		}
		so, who := sp.SignOn()
		for g, kinds := range groups {
			if !left[g] || !tells && kinds[0] != who[0] || !kinds[0].CanBe(&so) {
				continue
			}
			so.User = kinds[0].People[0]
			confirmed, err := confirm(&so)
			switch {
			case err != nil:
				return nil, false, &Unconfirmed{so, err.Error()}
			case !confirmed && kinds[0] == who[0]:
				return nil, false, &Unconfirmed{so, "of a kind of people"}
			case !confirmed:
				continue
			}
			left[g] = false
			for _, k := range kinds {
				found[k] = true
			}
			sp.Require(open.Not(), is[g].Not())
		}
	}
}

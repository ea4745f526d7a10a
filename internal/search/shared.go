package search

// What the sign-ons of an entry have in common.

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"briskwarden.example/briskwarden/internal/logic"
	"briskwarden.example/briskwarden/internal/possible"
)

// Trait is something that may be so of a sign-on.
type Trait struct {
	Text  string
	Holds func(*possible.Space) logic.Lit
}

// Shared tells, for some entries, the traits that all sign-ons share which come to what is sought in the
// entry's way, for its people, apps and actions: the fewest and shortest from which all others follow, and
// none that everything in the quest's scope has. Targets are those that the quest may concern. Entries that
// were not worked out before the context was done have nil.
func Shared(ctx context.Context, w *possible.World, q Quest, entries []Entry, traits []Trait, targets []Target) [][]Trait {
	traits = slices.Clone(traits)
	slices.SortStableFunc(traits, func(a, b Trait) int {
		return cmp.Or(cmp.Compare(len(a.Text), len(b.Text)), strings.Compare(a.Text, b.Text))
	})
	s := &sharing{ctx: ctx, w: w, quest: q, traits: traits}
	common := s.common(entries)
	result := make([][]Trait, len(entries))
	scopes := s.scopes(targets)
	for i := range entries {
		if common[i] == nil {
			continue
		}
		if kept, ok := s.fewest(scopes, common[i]); ok {
			result[i] = []Trait{}
			for _, t := range kept {
				result[i] = append(result[i], traits[t])
			}
		}
	}
	return result
}

type sharing struct {
	ctx    context.Context
	w      *possible.World
	quest  Quest
	traits []Trait
}

// sharedSpace is a space in which traits are asked for.
type sharedSpace struct {
	*possible.Space
	seeking
	traits []logic.Lit
	people []logic.Lit // of each entry
}

func (s *sharing) space(t Target, entries []Entry) *sharedSpace {
	sp := &sharedSpace{Space: s.w.NewSpace(t.App, t.Action)}
	sp.scope, sp.ways = s.quest.Seek(sp.Space)
	for _, trait := range s.traits {
		sp.traits = append(sp.traits, trait.Holds(sp.Space))
	}
	for i := range entries {
		kinds := map[*possible.Kind]bool{}
		for _, k := range entries[i].Kinds {
			kinds[k] = true
		}
		sp.people = append(sp.people, sp.OfKind("of entry "+strings.Join(entries[i].People, "\x00"), func(k *possible.Kind) bool { return kinds[k] }))
	}
	sp.Settle()
	return sp
}

// common finds, for each entry, the traits that all its sign-ons have; nil where the time ran out.
func (s *sharing) common(entries []Entry) [][]int {
	common := make([][]int, len(entries))
	for i := range common {
		common[i] = []int{}
		for t := range s.traits {
			common[i] = append(common[i], t)
		}
	}
	var targets []Target
	for i := range entries {
		for _, app := range entries[i].Apps {
			for _, action := range entries[i].Actions {
				if t := (Target{app, action}); !slices.Contains(targets, t) {
					targets = append(targets, t)
				}
			}
		}
	}
	for _, t := range targets {
		sp := s.space(t, entries)
		for i := range entries {
			e := &entries[i]
			if common[i] == nil || !slices.Contains(e.Apps, t.App) || !slices.Contains(e.Actions, t.Action) {
				continue
			}
			common[i] = s.always(sp, common[i], sp.scope, sp.ways[e.Way], sp.people[i])
		}
	}
	return common
}

// always keeps the traits that hold wherever conditions do; nil where the time ran out.
func (s *sharing) always(sp *sharedSpace, traits []int, conditions ...logic.Lit) []int {
	kept := append([]int{}, traits...)
	for len(kept) > 0 {
		var lacking []logic.Lit
		for _, t := range kept {
			lacking = append(lacking, sp.traits[t].Not())
		}
		switch sp.Solve(s.ctx, append(slices.Clone(conditions), sp.Or(lacking...))...) {
		case logic.Undecided:
			return nil
		case logic.Impossible:
			return kept
		}
		kept = slices.DeleteFunc(kept, func(t int) bool { return !sp.Holds(sp.traits[t]) })
	}
	return kept
}

// scopes are the spaces of the targets that the quest concerns, but for those in which all facts are the same.
func (s *sharing) scopes(targets []Target) (list []*sharedSpace) {
	seen := map[string]bool{}
	for _, t := range targets {
		if !s.quest.Concerns(t.App, t.Action) {
			continue
		}
		if key := t.Action + "\x00" + s.w.TagsOf(t.App); !seen[key] {
			seen[key] = true
			list = append(list, s.space(t, nil))
		}
	}
	return list
}

// fewest leaves out the traits that everything in the scope has, and those that follow from the rest, the
// longest first; not ok where the time ran out.
func (s *sharing) fewest(scopes []*sharedSpace, traits []int) (kept []int, ok bool) {
	everywhere := slices.Clone(traits)
	for _, sp := range scopes {
		if everywhere = s.always(sp, everywhere, sp.scope); everywhere == nil {
			return nil, false
		}
	}
	kept = slices.DeleteFunc(slices.Clone(traits), func(t int) bool { return slices.Contains(everywhere, t) })
	for i := len(kept) - 1; i >= 0; i-- {
		rest := slices.Delete(slices.Clone(kept), i, i+1)
		follows := true
		for _, sp := range scopes {
			conditions := []logic.Lit{sp.scope, sp.traits[kept[i]].Not()}
			for _, t := range rest {
				conditions = append(conditions, sp.traits[t])
			}
			a := sp.Solve(s.ctx, conditions...)
			if a == logic.Undecided {
				return nil, false
			}
			follows = follows && a == logic.Impossible
		}
		if follows {
			kept = rest
		}
	}
	return kept, true
}

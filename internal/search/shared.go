package search

// What the sign-ons of an entry have in common.

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"

	"briskwarden.example/briskwarden/internal/logic"
	"briskwarden.example/briskwarden/internal/possible"
)

// Trait is something that may be so of a sign-on.
type Trait struct {
	Text  string
	Holds func(*possible.Space) logic.Lit
}

// SharedTrait is a trait that all sign-ons of an entry share. It is given where everything in the quest's scope
// has it that is to the entry's apps and for its actions.
type SharedTrait struct {
	Trait
	Given bool
}

// Batch are entries of one quest.
type Batch struct {
	Quest   Quest
	Entries []Entry
}

// concerns reports whether there is anything to find out about a batch at a target.
func (b *Batch) concerns(t Target) bool {
	return len(b.Entries) > 0 && b.Quest.Concerns(t.App, t.Action)
}

// Shared tells, for some entries of each batch, the traits that all sign-ons share which come to what is
// sought in the entry's way, for its people, apps and actions: the fewest and shortest from which all others
// follow, and none that everything in the quest's scope has. Targets are those that the quests may concern.
// An entry that was not worked out before the context was done has nil.
func Shared(ctx context.Context, w *possible.World, batches []Batch, traits []Trait, targets []Target) [][][]SharedTrait {
	traits = slices.Clone(traits)
	slices.SortStableFunc(traits, func(a, b Trait) int {
		return cmp.Or(cmp.Compare(len(a.Text), len(b.Text)), strings.Compare(a.Text, b.Text))
	})
	s := &sharing{ctx: ctx, w: w, batches: batches, traits: traits}
	s.begin()
	Parallel(len(targets), func(i int) { s.at(targets[i]) })
	result := make([][][]SharedTrait, len(batches))
	spaces := s.scopes(targets)
	for b := range batches {
		result[b] = make([][]SharedTrait, len(batches[b].Entries))
		for e := range batches[b].Entries {
			if s.common[b][e] == nil {
				continue
			}
			if kept, ok := s.fewest(spaces, b, s.common[b][e]); ok {
				result[b][e] = []SharedTrait{}
				for _, t := range kept {
					result[b][e] = append(result[b][e], SharedTrait{traits[t], slices.Contains(s.given[b][e], t)})
				}
			}
		}
	}
	return result
}

type sharing struct {
	ctx     context.Context
	w       *possible.World
	batches []Batch
	traits  []Trait

	common [][][]int  // by batch and entry: the traits that all its sign-ons have, so far; nil where the time ran out
	given  [][][]int  // and those that everything in the scope has at its apps and for its actions
	mutex  sync.Mutex // of both
}

// sharedSpace is a space in which traits are asked for.
type sharedSpace struct {
	*possible.Space
	seekings []seeking // by batch
	traits   []logic.Lit
	people   [][]logic.Lit // by batch and entry
}

// begin has every entry share everything, until something speaks against it.
func (s *sharing) begin() {
	for _, b := range s.batches {
		common := make([][]int, len(b.Entries))
		for e := range common {
			common[e] = []int{}
			for t := range s.traits {
				common[e] = append(common[e], t)
			}
		}
		s.common = append(s.common, common)
		s.given = append(s.given, slices.Clone(common))
	}
}

// space builds the space of a target, in which batches are asked for that concern it.
func (s *sharing) space(t Target) *sharedSpace {
	sp := &sharedSpace{Space: s.w.NewSpace(t.App, t.Action), seekings: make([]seeking, len(s.batches)), people: make([][]logic.Lit, len(s.batches))}
	for b := range s.batches {
		batch := &s.batches[b]
		if !batch.concerns(t) {
			continue
		}
		scope, ways := batch.Quest.Seek(sp.Space)
		sp.seekings[b] = seeking{batch.Quest, scope, ways}
		for e := range batch.Entries {
			kinds := map[*possible.Kind]bool{}
			for _, k := range batch.Entries[e].Kinds {
				kinds[k] = true
			}
			sp.people[b] = append(sp.people[b], sp.OfKind(fmt.Sprint("of entry ", b, " ", e), func(k *possible.Kind) bool { return kinds[k] }))
		}
	}
	for _, trait := range s.traits {
		sp.traits = append(sp.traits, trait.Holds(sp.Space))
	}
	sp.Bind()
	return sp
}

// at keeps, for each entry that has the target, the traits that all its sign-ons there have.
func (s *sharing) at(t Target) {
	has := func(e *Entry) bool { return slices.Contains(e.Apps, t.App) && slices.Contains(e.Actions, t.Action) }
	var sp *sharedSpace
	for b := range s.batches {
		for i := range s.batches[b].Entries {
			e := &s.batches[b].Entries[i]
			if !has(e) {
				continue
			}
			if sp == nil {
				sp = s.space(t)
			}
			s.mutex.Lock()
			common := s.common[b][i]
			s.mutex.Unlock()
			kept := s.always(sp, common, sp.seekings[b].scope, sp.seekings[b].ways[e.Way], sp.people[b][i])
			given := s.always(sp, kept, sp.seekings[b].scope)
			s.mutex.Lock()
			s.common[b][i], s.given[b][i] = both(s.common[b][i], kept), both(s.given[b][i], given)
			s.mutex.Unlock()
		}
	}
}

// both are the numbers in both lists; nil where either is.
func both(a, b []int) []int {
	if a == nil || b == nil {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(a), func(n int) bool { return !slices.Contains(b, n) })
}

// always keeps the traits that hold wherever conditions do; nil where the time ran out.
func (s *sharing) always(sp *sharedSpace, traits []int, conditions ...logic.Lit) []int {
	if traits == nil {
		return nil
	}
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

// scopes are the spaces of the targets that some batch concerns, but for those in which all facts are the same.
func (s *sharing) scopes(targets []Target) (list []*sharedSpace) {
	seen := map[string]bool{}
	for _, t := range targets {
		key, asked := t.Action+"\x00"+s.w.TagsOf(t.App), false
		for b := range s.batches {
			if s.batches[b].concerns(t) {
				key += fmt.Sprint(" ", b)
				asked = true
			}
		}
		if asked && !seen[key] {
			seen[key] = true
			list = append(list, s.space(t))
		}
	}
	return list
}

// fewest leaves out the traits that everything in the batch's scope has, and those that follow from the
// rest, the longest first; not ok where the time ran out.
func (s *sharing) fewest(spaces []*sharedSpace, batch int, traits []int) (kept []int, ok bool) {
	spaces = slices.DeleteFunc(slices.Clone(spaces), func(sp *sharedSpace) bool { return sp.seekings[batch].quest == nil })
	everywhere := append([]int{}, traits...)
	for _, sp := range spaces {
		if everywhere = s.always(sp, everywhere, sp.seekings[batch].scope); everywhere == nil {
			return nil, false
		}
	}
	kept = slices.DeleteFunc(slices.Clone(traits), func(t int) bool { return slices.Contains(everywhere, t) })
	for i := len(kept) - 1; i >= 0; i-- {
		rest := slices.Delete(slices.Clone(kept), i, i+1)
		follows := true
		for _, sp := range spaces {
			conditions := []logic.Lit{sp.seekings[batch].scope, sp.traits[kept[i]].Not()}
			for _, t := range rest {
				conditions = append(conditions, sp.traits[t])
			}
			a := sp.Solve(s.ctx, conditions...)
			if a == logic.Undecided {
				return nil, false
			}
			if follows = a == logic.Impossible; !follows {
				break
			}
		}
		if follows {
			kept = rest
		}
	}
	return kept, true
}

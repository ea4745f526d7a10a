package engine

import (
	"math/bits"
	"slices"

	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/set"
)

// index finds, among the policies for one app and action, those whose "who" holds: for each
// group, user, type and domain it has the policies that name it, so that policies about
// other people are never looked at.
type index struct {
	policies []*rulebook.Policy // in name order
	included selected
	excepted selected
}

// selected has, for each selector, the set of policies that it stands in.
type selected struct {
	everyone, people set.Set
	groups           []groupPolicies // by group
	users            map[string]set.Set
	types            map[string]set.Set
	domains          map[string]set.Set
}

func (x *index) add(p *rulebook.Policy) {
	id := len(x.policies)
	x.policies = append(x.policies, p)
	x.included.add(p.Who.Items, id)
	x.excepted.add(p.Who.Except, id)
}

func (s *selected) add(list []rulebook.PersonSelector, id int) {
	for _, item := range list {
		switch item.Kind {
		case rulebook.Everyone:
			s.everyone = s.everyone.With(id)
		case rulebook.People:
			s.people = s.people.With(id)
		case rulebook.InGroup:
			i, ok := s.group(item.Group)
			if !ok {
				s.groups = slices.Insert(s.groups, i, groupPolicies{group: item.Group})
			}
			s.groups[i].policies = s.groups[i].policies.With(id)
		case rulebook.IsUser:
			put(&s.users, item.Name, id)
		case rulebook.OfType:
			put(&s.types, item.Name, id)
		case rulebook.OfDomain:
			put(&s.domains, item.Name, id)
		}
	}
}

// groupPolicies are the policies that name a group.
type groupPolicies struct {
	group    int32
	policies set.Set
}

// group finds the place of a group among those that are named.
func (s *selected) group(id int32) (int, bool) {
	return slices.BinarySearchFunc(s.groups, id, func(g groupPolicies, id int32) int { return int(g.group) - int(id) })
}

func put[K comparable](m *map[K]set.Set, key K, id int) {
	if *m == nil {
		*m = map[K]set.Set{}
	}
	(*m)[key] = (*m)[key].With(id)
}

// into adds the policies that select the person to the words of a set.
func (s *selected) into(words []uint64, p *rulebook.Person) {
	merge(words, s.everyone)
	if p.Type != "service" {
		merge(words, s.people)
	}
	if len(s.groups) > 0 {
		for _, id := range p.Groups {
			if i, ok := s.group(id); ok {
				merge(words, s.groups[i].policies)
			}
		}
	}
	if len(s.users) > 0 {
		merge(words, s.users[p.ID])
	}
	if len(s.types) > 0 {
		merge(words, s.types[p.Type])
	}
	if len(s.domains) > 0 {
		merge(words, s.domains[rulebook.Domain(p.ID)])
	}
}

func merge(words []uint64, s set.Set) {
	for i, w := range s {
		words[i] |= w
	}
}

// matching appends the policies whose "who" holds for the person, in name order. The
// scratch space is used again.
func (x *index) matching(p *rulebook.Person, list []*rulebook.Policy, scratch *[2][]uint64) []*rulebook.Policy {
	n := (len(x.policies) + 63) / 64
	for i := range scratch {
		scratch[i] = slices.Grow(scratch[i][:0], n)[:n]
		clear(scratch[i])
	}
	in, out := scratch[0], scratch[1]
	x.included.into(in, p)
	x.excepted.into(out, p)
	for i, w := range in {
		for w &^= out[i]; w != 0; w &= w - 1 {
			list = append(list, x.policies[i<<6+bits.TrailingZeros64(w)])
		}
	}
	return list
}

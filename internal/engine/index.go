package engine

// Which policies are for an app and an action, and for a person among them.
//
// Each policy has a bit in a word of its leaf, and each leaf a bit in a word of its branch. For every
// selector that any of them names, a word has the bits of those that name it. The policies for a person
// are the bits of all selectors that select the person, less those of the exceptions: a few words are
// put together, whatever the number of policies about others.

import (
	"math/bits"
	"slices"

	"briskwarden.example/briskwarden/internal/rulebook"
)

// index finds, among the policies for one app and action, those whose "who" holds: for each
// group, user, type and domain it has the policies that name it, so that policies about
// other people are never looked at.
type index struct {
	branches []branch
}

// branch is up to 64 leaves, and the selectors of the policies in them.
type branch struct {
	leaves   []leaf
	included selected
}

// leaf is up to 64 policies, in name order, and the selectors that they stand in.
type leaf struct {
	policies []*policy
	included selected
	excepted selected
}

// bitset is a set of places in a leaf or a branch.
type bitset uint64

const bitsetSize = 64

// selected has, for each selector, the places in which it stands.
type selected struct {
	everyone, people bitset
	groups           []groupBits // by group
	users            map[string]bitset
	types            map[string]bitset
	domains          map[string]bitset
}

// groupBits are the places in which a group stands.
type groupBits struct {
	group int32
	bits  bitset
}

func (x *index) add(p *policy) {
	if n := len(x.branches); n == 0 || x.branches[n-1].full() {
		x.branches = append(x.branches, branch{})
	}
	s := &x.branches[len(x.branches)-1]
	if n := len(s.leaves); n == 0 || len(s.leaves[n-1].policies) == bitsetSize {
		s.leaves = append(s.leaves, leaf{})
	}
	c := &s.leaves[len(s.leaves)-1]
	s.included.add(p.Who.Items, 1<<(len(s.leaves)-1))
	c.included.add(p.Who.Items, 1<<len(c.policies))
	c.excepted.add(p.Who.Except, 1<<len(c.policies))
	c.policies = append(c.policies, p)
}

func (s *branch) full() bool {
	n := len(s.leaves)
	return n == bitsetSize && len(s.leaves[n-1].policies) == bitsetSize
}

func (s *selected) add(list []rulebook.PersonSelector, one bitset) {
	for _, item := range list {
		switch item.Kind {
		case rulebook.Everyone:
			s.everyone |= one
		case rulebook.People:
			s.people |= one
		case rulebook.InGroup:
			i, ok := s.group(item.Group)
			if !ok {
				s.groups = slices.Insert(s.groups, i, groupBits{group: item.Group})
			}
			s.groups[i].bits |= one
		case rulebook.IsUser:
			put(&s.users, item.Name, one)
		case rulebook.OfType:
			put(&s.types, item.Name, one)
		case rulebook.OfDomain:
			put(&s.domains, item.Name, one)
		}
	}
}

// group finds the place of a group among those that are named.
func (s *selected) group(id int32) (int, bool) {
	return slices.BinarySearchFunc(s.groups, id, func(g groupBits, id int32) int { return int(g.group) - int(id) })
}

func put(m *map[string]bitset, key string, one bitset) {
	if *m == nil {
		*m = map[string]bitset{}
	}
	(*m)[key] |= one
}

// of are the places with a selector that selects the person.
func (s *selected) of(p *rulebook.Person) bitset {
	found := s.everyone
	if p.Type != "service" {
		found |= s.people
	}
	if len(s.groups) > 0 {
		found |= s.ofGroups(p.Groups)
	}
	if len(s.users) > 0 {
		found |= s.users[p.ID]
	}
	if len(s.types) > 0 {
		found |= s.types[p.Type]
	}
	if len(s.domains) > 0 {
		found |= s.domains[rulebook.Domain(p.ID)]
	}
	return found
}

// ofGroups goes through both sorted lists side by side, or where far more groups are named
// than the person is in, looks each of the person's up.
func (s *selected) ofGroups(groups []int32) (found bitset) {
	if len(s.groups) > 8*len(groups) {
		for _, id := range groups {
			if i, ok := s.group(id); ok {
				found |= s.groups[i].bits
			}
		}
		return found
	}
	named := s.groups
	for len(named) > 0 && len(groups) > 0 {
		switch {
		case named[0].group < groups[0]:
			named = named[1:]
		case named[0].group > groups[0]:
			groups = groups[1:]
		default:
			found |= named[0].bits
			named, groups = named[1:], groups[1:]
		}
	}
	return found
}

// matching appends the policies whose "who" holds for the person, in name order.
func (x *index) matching(p *rulebook.Person, list []*policy) []*policy {
	for i := range x.branches {
		s := &x.branches[i]
		if len(s.leaves) == 1 {
			list = s.leaves[0].matching(p, list)
			continue
		}
		for found := s.included.of(p); found != 0; found &= found - 1 {
			list = s.leaves[bits.TrailingZeros64(uint64(found))].matching(p, list)
		}
	}
	return list
}

func (c *leaf) matching(p *rulebook.Person, list []*policy) []*policy {
	for found := c.included.of(p) &^ c.excepted.of(p); found != 0; found &= found - 1 {
		list = append(list, c.policies[bits.TrailingZeros64(uint64(found))])
	}
	return list
}

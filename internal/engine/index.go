package engine

import (
	"math/bits"
	"slices"

	"briskwarden.example/briskwarden/internal/rulebook"
)

// index finds, among the policies for one app and action, those whose "who" holds: for each
// group, user, type and domain it has the policies that name it, so that policies about
// other people are never looked at.
type index struct {
	chunks []chunk
}

// chunk is up to 64 policies, in name order, and the selectors that they stand in.
type chunk struct {
	policies []*policy
	included selected
	excepted selected
}

// policySet is a set of the policies of a chunk.
type policySet uint64

// selected has, for each selector, the policies that it stands in.
type selected struct {
	everyone, people policySet
	groups           []groupPolicies // by group
	users            map[string]policySet
	types            map[string]policySet
	domains          map[string]policySet
}

// groupPolicies are the policies that name a group.
type groupPolicies struct {
	group    int32
	policies policySet
}

func (x *index) add(p *policy) {
	if n := len(x.chunks); n == 0 || len(x.chunks[n-1].policies) == 64 {
		x.chunks = append(x.chunks, chunk{})
	}
	c := &x.chunks[len(x.chunks)-1]
	one := policySet(1) << len(c.policies)
	c.policies = append(c.policies, p)
	c.included.add(p.Who.Items, one)
	c.excepted.add(p.Who.Except, one)
}

func (s *selected) add(list []rulebook.PersonSelector, one policySet) {
	for _, item := range list {
		switch item.Kind {
		case rulebook.Everyone:
			s.everyone |= one
		case rulebook.People:
			s.people |= one
		case rulebook.InGroup:
			i, ok := s.group(item.Group)
			if !ok {
				s.groups = slices.Insert(s.groups, i, groupPolicies{group: item.Group})
			}
			s.groups[i].policies |= one
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
	return slices.BinarySearchFunc(s.groups, id, func(g groupPolicies, id int32) int { return int(g.group) - int(id) })
}

func put(m *map[string]policySet, key string, one policySet) {
	if *m == nil {
		*m = map[string]policySet{}
	}
	(*m)[key] |= one
}

// of are the policies that select the person.
func (s *selected) of(p *rulebook.Person) policySet {
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

// ofGroups goes through both sorted lists side by side.
func (s *selected) ofGroups(groups []int32) (found policySet) {
	named := s.groups
	for len(named) > 0 && len(groups) > 0 {
		switch {
		case named[0].group < groups[0]:
			named = named[1:]
		case named[0].group > groups[0]:
			groups = groups[1:]
		default:
			found |= named[0].policies
			named, groups = named[1:], groups[1:]
		}
	}
	return found
}

// matching appends the policies whose "who" holds for the person, in name order.
func (x *index) matching(p *rulebook.Person, list []*policy) []*policy {
	for i := range x.chunks {
		c := &x.chunks[i]
		for found := c.included.of(p) &^ c.excepted.of(p); found != 0; found &= found - 1 {
			list = append(list, c.policies[bits.TrailingZeros64(uint64(found))])
		}
	}
	return list
}

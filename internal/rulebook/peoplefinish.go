package rulebook

// The third phase of making people: drafts become people.

import (
	"cmp"
	"encoding/binary"
	"slices"

	"briskwarden.example/briskwarden/internal/fact"
)

// mostMemberships is in how many groups all people may be, nested ones counted, and people who
// are in the same ones counted once.
const mostMemberships = 100_000_000

// finish makes people of the drafts: it fills in what nothing stated, and all groups.
func (b *peopleBuilder) finish() {
	closures := map[string][]int32{}
	b.r.rb.People = make(map[string]*Person, len(b.drafts))
	for id, p := range b.drafts {
		b.finishPerson(p, closures)
		b.r.rb.People[id] = p.Person
		delete(b.drafts, id)
	}
	if b.memberships > mostMemberships {
		b.r.fail(b.r.decls.rulebook.Name, "nest groups less deep", "the groups of all people, those nested counted, are more than %d", mostMemberships)
	}
}

// finishPerson finishes one; people in the same groups share the list.
func (b *peopleBuilder) finishPerson(p *draftPerson, closures map[string][]int32) {
	p.assumed = assumed{typ: p.Type == "", risk: p.Risk == ""}
	p.Type, p.Risk = cmp.Or(p.Type, fact.UserTypes[0]), cmp.Or(p.Risk, fact.Levels[0])
	p.setJoinedDay(b.r.rb.Zone)
	slices.Sort(p.memberships)
	direct := slices.Compact(p.memberships)
	b.key = b.key[:0]
	for _, g := range direct {
		b.key = binary.LittleEndian.AppendUint32(b.key, uint32(g))
	}
	list, ok := closures[string(b.key)]
	if !ok {
		if b.memberships <= mostMemberships {
			list = b.r.rb.Groups.Closure(groupsOf(direct))
		}
		b.memberships += len(list)
		closures[string(b.key)] = list
	}
	p.Groups = list
}

// groupsOf are the groups of memberships that are linked.
func groupsOf(list []membership) []int32 {
	groups := make([]int32, len(list))
	for i, m := range list {
		groups[i] = int32(m)
	}
	return groups
}

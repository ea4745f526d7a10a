package rulebook

// The second phase of making people: members are put into their groups.

import (
	"cmp"
	"fmt"
	"strings"

	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/directory"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language/token"
)

// link puts the members into their groups, and each person into the groups that others name by key.
func (b *peopleBuilder) link() {
	for i := range b.keys {
		if h := &b.keys[i]; h.called != "" && h.person == nil && h.group == 0 {
			h.group, h.outside = b.r.rb.Groups.Add(h.called)+1, true
		}
	}
	for i := range b.lists {
		b.enter(&b.lists[i])
	}
	for _, p := range b.drafts {
		b.linkPerson(p)
	}
	groups := b.r.rb.Groups
	if circle := groups.Circle(); circle != nil {
		b.circle(circle)
		b.r.rb.Groups = directory.NewGroups() // nothing can be told of members
		for _, name := range groups.Names() {
			b.r.rb.Groups.Add(name)
		}
	}
	b.r.rb.Groups.Close()
	b.r.rb.GroupPlaces = make(map[int32]token.Pos, len(b.origins))
	for id, at := range b.origins {
		b.r.rb.GroupPlaces[id] = token.Pos{File: at.File, Line: int32(at.Line), Column: 1}
	}
	for _, d := range b.r.decls.groups.list {
		id, _ := b.r.rb.Groups.Lookup(d.Name.Text)
		b.r.rb.GroupPlaces[id] = d.Name.Pos
	}
}

// circle reports groups that contain each other, at the block of one of them if it has one.
func (b *peopleBuilder) circle(groups []string) {
	const help, message = "take one of them out", "groups form a circle: %s"
	all := strings.Join(groups, " → ")
	for _, name := range groups {
		if d := b.r.decls.groups.byName[name]; d != nil {
			b.r.fail(d.Name, help, message, all)
			return
		}
	}
	id, _ := b.r.rb.Groups.Lookup(groups[0])
	at := b.origins[id]
	b.r.found.Add(diag.Invalid, diag.Error, token.Pos{File: at.File, Line: int32(at.Line), Column: 1}, 1, help, message, all)
}

// enter puts the members of one group into it.
func (b *peopleBuilder) enter(list *members) {
	var missing []string
	for _, n := range list.keys {
		switch h := &b.keys[n]; {
		case h.group != 0:
			b.r.rb.Groups.Nest(list.group, h.group-1)
		case h.person != nil && !b.breakIn[h.person.ID]:
			h.person.memberships = append(h.person.memberships, membership(list.group))
		case h.person == nil:
			missing = append(missing, b.called(h))
		}
	}
	for _, name := range list.names {
		if p := b.drafts[name]; p == nil {
			missing = append(missing, name)
		} else if !b.breakIn[name] {
			p.memberships = append(p.memberships, membership(list.group))
		}
	}
	if len(missing) > 0 {
		b.warn(list.origin, "members of the group %s that no file has: %s", b.r.rb.Groups.Name(list.group), spell.Few(missing, 3))
	}
}

func (b *peopleBuilder) warn(at Origin, format string, args ...any) {
	b.r.found.Add(MissingMember, diag.Warning, token.Pos{File: at.File, Line: int32(at.Line), Column: 1}, 1,
		"export them too, or take them out where they are named", format, args...)
}

func (b *peopleBuilder) called(h *keyHolder) string {
	if name := cmp.Or(h.shown, h.called); name != "" && name != h.key {
		return fmt.Sprintf("%s (%s)", h.key, name)
	}
	return h.key
}

// linkPerson turns what the sources said of a person's groups into the groups that there are.
func (b *peopleBuilder) linkPerson(p *draftPerson) {
	groups := p.memberships[:0]
	for _, m := range p.memberships {
		if m >= 0 {
			groups = append(groups, m)
			continue
		}
		key, own := m.key()
		if h := &b.keys[key]; h.group != 0 && (own || !h.outside) {
			groups = append(groups, membership(h.group-1))
		} else {
			b.warn(p.Origin, "the user %s is in a group that no file has: %s", p.ID, h.key)
		}
	}
	p.memberships = groups
}

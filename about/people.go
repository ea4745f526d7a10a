package about

// What is known of people and groups, and who would feel it if they went.

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/rulebook"
)

func (f *finder) user() (names []string, found bool, err error) {
	p, err := f.e.Person(f.ctx, f.Name)
	if err != nil || p == nil {
		return slices.Collect(maps.Keys(f.rb.People)), false, err
	}
	f.person = p
	state := p.Type
	if p.Active == known.False {
		state += ", disabled"
	}
	if p.BreakGlass {
		state += ", an emergency account: its own demand alone decides"
	}
	f.know("is", "%s", state)
	f.Known[0].At = p.Origin.String()
	if !p.Joined.IsZero() {
		f.know("joined", "%s", p.Joined.In(f.zone).Format(time.DateOnly))
	}
	f.know("methods", "%s", orNone(f.methodsOf(p)))
	if p.Risk != "" && p.Risk != "none" {
		f.know("risk", "%s", p.Risk)
	}
	for _, a := range f.rb.Facts.Attributes() {
		if !a.OfDevice && a.Index < len(p.Attributes) && p.Attributes[a.Index].Known {
			f.know(a.Name, "%v", p.Attributes[a.Index].JSON(a.Type))
		}
	}
	for _, line := range f.Standing {
		f.know("risk", "%s", line)
	}
	f.groupsOf(p)
	for _, id := range f.owned() {
		d := f.rb.Devices[id]
		f.Known = append(f.Known, Line{"device", deviceText(d), fmt.Sprintf("%s:%d", d.File, d.Line)})
	}
	if err := f.held(consent.Selection{User: p.ID}); err != nil {
		return nil, false, err
	}
	f.loneMember(p)
	return nil, true, f.reachOfUser()
}

// owned are the devices of the user, by id; of anything else there are none.
func (f *finder) owned() (ids []string) {
	for id, d := range f.rb.Devices {
		if f.person != nil && d.Owner == f.person.ID {
			ids = append(ids, id)
		}
	}
	slices.Sort(ids)
	return ids
}

func (f *finder) methodsOf(p *rulebook.Person) string {
	var names []string
	for _, m := range f.rb.Methods.All() {
		if p.Methods.Has(m.ID) {
			names = append(names, m.Name)
		}
	}
	return strings.Join(names, ", ")
}

// groupsOf tells in which groups somebody is, and why.
func (f *finder) groupsOf(p *rulebook.Person) {
	for _, g := range p.Groups {
		var through []string
		for _, h := range p.Groups {
			if slices.Contains(f.rb.Groups.Parents(h), g) {
				through = append(through, f.rb.Groups.Name(h))
			}
		}
		why := "directly"
		if len(through) > 0 {
			why = "since " + few(through) + " is in it"
		}
		f.Known = append(f.Known, Line{"group", f.rb.Groups.Name(g) + ": " + why, f.placeOfGroup(g)})
	}
}

func (f *finder) placeOfGroup(g int32) string {
	if at, ok := f.rb.GroupPlaces[g]; ok {
		return at.InFile()
	}
	return ""
}

// loneMember tells of groups that would be empty without somebody.
func (f *finder) loneMember(p *rulebook.Person) {
	members := map[int32]int{}
	for _, q := range f.rb.People {
		if q.Active == known.False {
			continue
		}
		for _, g := range q.Groups {
			members[g]++
		}
	}
	for _, g := range p.Groups {
		if members[g] == 1 && p.Active != known.False {
			f.feel("group "+f.rb.Groups.Name(g), "would have nobody")
		}
	}
}

func (f *finder) aGroup() (names []string, found bool, err error) {
	id, ok := f.rb.Groups.Lookup(f.Name)
	if !ok {
		return f.rb.Groups.Names(), false, nil
	}
	f.group = id
	var people []string
	for _, p := range f.rb.People {
		if p.In(id) && p.Active != known.False {
			people = append(people, p.ID)
		}
	}
	f.know("members", "%d: %s", len(people), orNone(few(people)))
	f.Known[0].At = f.placeOfGroup(id)
	var below, above []string
	for other := range f.rb.Groups.Names() {
		if slices.Contains(f.rb.Groups.Parents(int32(other)), id) {
			below = append(below, f.rb.Groups.Name(int32(other)))
		}
	}
	for _, g := range f.rb.Groups.Parents(id) {
		above = append(above, f.rb.Groups.Name(g))
	}
	if len(below) > 0 {
		f.know("groups in it", "%s", few(below))
	}
	if len(above) > 0 {
		f.know("is in", "%s", few(above))
	}
	f.feel("its people", "%d", len(people))
	return nil, true, nil
}

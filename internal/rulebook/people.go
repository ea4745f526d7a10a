package rulebook

// The users and groups of a rulebook's blocks.

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/condition"
	"briskwarden.example/briskwarden/internal/directory"
	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/schedule"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language/ast"
)

// people makes the people and groups of the rulebook's blocks, and of the directory's files.
func (r *resolver) people() {
	r.rb.Groups = directory.NewGroups()
	b := newPeopleBuilder(r)
	for _, d := range r.decls.users.list {
		r.once(d.Groups)
		p := r.draft(d)
		for _, g := range d.Groups {
			p.memberships = append(p.memberships, membership(r.rb.Groups.Add(g.Text)))
		}
		b.drafts[p.ID] = p
	}
	for _, d := range r.decls.groups.list {
		b.origins[r.rb.Groups.Add(d.Name.Text)] = Origin{d.Name.Pos.File, int(d.Name.Pos.Line)}
	}
	b.read(r.decls.rulebook.Directory)
	for _, d := range r.decls.groups.list {
		b.members(d)
	}
	b.link()
	b.finish()
}

// members puts the members of a group block into their groups.
func (b *peopleBuilder) members(d *ast.Group) {
	r := b.r
	id := r.rb.Groups.Add(d.Name.Text)
	for _, m := range d.Members {
		if m.Kind.Text == "group" {
			if inner, ok := r.group(m.Name); ok {
				r.rb.Groups.Nest(id, inner)
			}
			continue
		}
		if p, ok := b.drafts[m.Name.Text]; ok {
			p.memberships = append(p.memberships, membership(id))
		} else if !r.rb.Open {
			r.unknown(m.Name, "user", keysOf(b.drafts))
		}
	}
	r.onceSelector(d.Members)
}

// draft begins a person by a user block; what that does not state is filled in by the files, or at the end.
func (r *resolver) draft(d *ast.User) *draftPerson {
	p := &draftPerson{Person: &Person{ID: d.Name.Text, Type: d.Type.Text, Risk: d.Risk.Text, Origin: Origin{d.Name.Pos.File, int(d.Name.Pos.Line)}}}
	if d.Active.Text == "no" {
		p.Active = known.False
	}
	r.once(d.Methods)
	for _, name := range d.Methods {
		m, ok := r.rb.Methods.Lookup(name.Text)
		if !ok {
			r.unknown(name, "method", r.rb.Methods.Names())
			continue
		}
		p.Methods.Add(m.ID)
	}
	if d.Joined.Given() {
		joined, err := r.joined(d.Joined.Text)
		if err != nil {
			r.fail(d.Joined, "write a date, such as 2024-02-01", "%v", err)
		}
		p.Joined = joined
	}
	r.values(p.Person, d.Attrs)
	return p
}

// joined reads a date, or an instant.
func (r *resolver) joined(text string) (time.Time, error) {
	t, _, err := schedule.ParseDayOrInstant(text, r.rb.Zone)
	if err != nil {
		return t, fmt.Errorf("%q is neither a date nor an instant", text)
	}
	return t, nil
}

func (r *resolver) values(p *Person, attrs []ast.Attr) {
	p.Attributes = make([]fact.Value, r.rb.Facts.Users())
	var seen []string
	for _, a := range attrs {
		declared, ok := r.rb.Facts.AttributeNamed("user." + a.Name.Text)
		if !ok {
			var known []string
			for _, d := range r.rb.Facts.Attributes() {
				if name, isUser := strings.CutPrefix(d.Name, "user."); isUser {
					known = append(known, name)
				}
			}
			r.undeclared(a.Name, "user."+a.Name.Text, a.Value.Text, known)
			continue
		}
		if slices.Contains(seen, a.Name.Text) {
			r.fail(a.Name, "leave one of them out", "%q is given twice", a.Name.Text)
		}
		seen = append(seen, a.Name.Text)
		p.Attributes[declared.Index] = r.value(declared, a.Value)
	}
	if len(seen) == 0 {
		p.Attributes = nil
	}
}

func (r *resolver) undeclared(n ast.Name, full, value string, known []string) {
	help := fmt.Sprintf("declare it: attribute %s %s", full, condition.TypeOf(value).Keyword())
	if hint := spell.Hint(n.Text, known); hint != "" {
		help = hint
	}
	r.fail(n, help, "there is no attribute %q", full)
}

package rulebook

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/directory"
	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/schedule"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language/ast"
)

// BuiltInActions are the actions that every rulebook knows.
var BuiltInActions = []string{SignOn, EnrolMethod, "reset-password", Consent}

// The built-in actions that mean something of their own: the one of policies and sign-ons
// that name none, the one that says whether a user may enrol, the one that can be reviewed.
const (
	SignOn      = "sign-on"
	EnrolMethod = "enrol-method"
	Consent     = "consent"
)

func (r *resolver) apps() {
	r.rb.Actions = map[string]bool{}
	for _, a := range BuiltInActions {
		r.rb.Actions[a] = true
	}
	for _, d := range r.decls.actions.list {
		if r.rb.Actions[d.Name.Text] {
			r.fail(d.Name, "choose another name", "%q is a built-in action", d.Name.Text)
		}
		r.rb.Actions[d.Name.Text] = true
	}
	for _, d := range r.decls.apps.list {
		a := &App{Name: d.Name.Text, Decl: d}
		r.once(d.Tags)
		for _, t := range d.Tags {
			id, _ := r.tagID(t.Text)
			a.Tags = append(a.Tags, id)
		}
		r.rb.Apps[a.Name] = a
	}
}

// people binds the users and groups that the rulebook files declare.
func (r *resolver) people() {
	r.rb.Groups = directory.NewGroups()
	r.rb.Open = r.rb.Open || len(r.decls.rulebook.Directory) > 0
	direct := map[string][]int32{}
	for _, d := range r.decls.users.list {
		r.once(d.Groups)
		for _, g := range d.Groups {
			direct[d.Name.Text] = append(direct[d.Name.Text], r.rb.Groups.Add(g.Text))
		}
	}
	for _, d := range r.decls.groups.list {
		r.rb.Groups.Add(d.Name.Text)
	}
	for _, d := range r.decls.groups.list {
		r.members(d, direct)
	}
	if circle := r.rb.Groups.Circle(); circle != nil {
		at := r.decls.groups.byName[circle[0]].Name
		r.fail(at, "take one of them out", "groups form a circle: %s", strings.Join(circle, " → "))
		r.rb.Groups = directory.NewGroups() // nothing can be told of members
		for _, d := range r.decls.groups.list {
			r.rb.Groups.Add(d.Name.Text)
		}
		direct = map[string][]int32{}
	}
	r.rb.Groups.Close()
	for _, d := range r.decls.users.list {
		r.rb.People[d.Name.Text] = r.person(d, direct[d.Name.Text])
	}
}

func (r *resolver) members(d *ast.Group, direct map[string][]int32) {
	id := r.rb.Groups.Add(d.Name.Text)
	for _, m := range d.Members {
		if m.Kind.Text == "group" {
			if inner, ok := r.group(m.Name); ok {
				r.rb.Groups.Nest(id, inner)
			}
			continue
		}
		if _, ok := r.decls.users.byName[m.Name.Text]; !ok && !r.rb.Open {
			r.unknown(m.Name, "user", keysOf(r.decls.users.byName))
		}
		direct[m.Name.Text] = append(direct[m.Name.Text], id)
	}
	r.onceSelector(d.Members)
}

func (r *resolver) person(d *ast.User, direct []int32) *Person {
	p := &Person{ID: d.Name.Text, Type: "employee", Risk: "none", Active: d.Active.Text != "no",
		Groups: r.rb.Groups.Closure(direct)}
	if d.Type.Given() {
		p.Type = d.Type.Text
	}
	if d.Risk.Given() {
		p.Risk = d.Risk.Text
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
		p.Joined, p.JoinedDay = r.joined(d.Joined)
	}
	r.values(p, d.Attrs)
	return p
}

// joined reads a date, or an instant.
func (r *resolver) joined(n ast.Name) (joined, day time.Time) {
	if _, err := schedule.ParseDate(n.Text); err == nil {
		joined, _ = r.date(n)
		return joined, joined
	}
	t, err := schedule.ParseInstant(n.Text, r.rb.Zone)
	if err != nil {
		r.fail(n, "write a date, such as 2024-02-01", "%q is neither a date nor an instant", n.Text)
	}
	return t, schedule.DateOf(t, r.rb.Zone).Start(r.rb.Zone)
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
			r.undeclared(a.Name, "user."+a.Name.Text, known)
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

func (r *resolver) undeclared(n ast.Name, full string, known []string) {
	help := fmt.Sprintf("declare it: attribute %s word", full)
	if hint := spell.Hint(n.Text, known); hint != "" {
		help = hint
	}
	r.fail(n, help, "there is no attribute %q", full)
}

// Warnings about people.
const (
	DomainOfNobody diag.Code = "domain-of-nobody"
)

// who binds a selection of people.
func (r *resolver) who(s ast.Selection) Who {
	return Who{r.personSelectors(s.Items), r.personSelectors(s.Except)}
}

func (r *resolver) personSelectors(list []ast.Selector) []PersonSelector {
	var selectors []PersonSelector
	for _, item := range list {
		s := PersonSelector{Name: item.Name.Text}
		switch item.Kind.Text {
		case "everyone":
			s.Kind = Everyone
		case "people":
			s.Kind = People
		case "type":
			s.Kind = OfType
		case "group":
			s.Kind = InGroup
			s.Group, _ = r.group(item.Name)
		case "user":
			s.Kind = IsUser
			if _, ok := r.rb.People[s.Name]; !ok && !r.rb.Open {
				r.unknown(item.Name, "user", keysOf(r.rb.People))
			}
		case "domain":
			s.Kind = OfDomain
			if !r.rb.Open && !r.domains()[s.Name] {
				r.warn(DomainOfNobody, item.Name, "mend its spelling; case counts", "no user has the mail domain %q", s.Name)
			}
		}
		selectors = append(selectors, s)
	}
	r.onceSelector(list)
	return selectors
}

// domains are the mail domains of all users.
func (r *resolver) domains() map[string]bool {
	if r.mailDomains == nil {
		r.mailDomains = map[string]bool{}
		for id := range r.rb.People {
			r.mailDomains[Domain(id)] = true
		}
	}
	return r.mailDomains
}

func (r *resolver) onceSelector(list []ast.Selector) {
	var names []ast.Name
	for _, s := range list {
		text := s.Kind.Text
		at := s.Kind.Pos
		if s.Name.Given() {
			text += " " + s.Name.String()
		}
		names = append(names, ast.Name{Pos: at, Text: text})
	}
	r.once(names)
}

// to binds a selection of apps.
func (r *resolver) to(s ast.Selection) To {
	return To{r.appSelectors(s.Items), r.appSelectors(s.Except)}
}

func (r *resolver) appSelectors(list []ast.Selector) []AppSelector {
	var selectors []AppSelector
	for _, item := range list {
		s := AppSelector{Name: item.Name.Text}
		switch item.Kind.Text {
		case "everything":
			s.Kind = Everything
		case "app":
			s.Kind = IsApp
			if _, ok := r.rb.Apps[s.Name]; !ok {
				r.unknown(item.Name, "app", keysOf(r.rb.Apps))
			}
		case "tag":
			s.Kind = HasTag
			s.Tag = r.tag(item.Name)
		}
		selectors = append(selectors, s)
	}
	r.onceSelector(list)
	return selectors
}

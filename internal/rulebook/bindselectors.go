package rulebook

// How selectors are bound.

import (
	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/language/ast"
)

// Warnings about people.
const (
	DomainOfNobody diag.Code = "domain-of-nobody"
)

// The selectors by the words that they begin with.
var (
	personKinds = map[string]SelectorKind{"everyone": Everyone, "people": People, "type": OfType, "group": InGroup, "user": IsUser, "domain": OfDomain}
	appKinds    = map[string]SelectorKind{"everything": Everything, "app": IsApp, "tag": HasTag}
)

// who binds a selection of people.
func (r *resolver) who(s ast.Selection) Who {
	return Who{r.personSelectors(s.Items), r.personSelectors(s.Except)}
}

func (r *resolver) personSelectors(list []ast.Selector) []PersonSelector {
	var selectors []PersonSelector
	for _, item := range list {
		s := PersonSelector{Kind: personKinds[item.Kind.Text], Name: item.Name.Text}
		switch s.Kind {
		case InGroup:
			s.Group, _ = r.group(item.Name)
		case IsUser:
			if _, ok := r.rb.People[s.Name]; !ok && !r.rb.Open {
				r.unknown(item.Name, "user", keysOf(r.rb.People))
			}
		case OfDomain:
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
		s := AppSelector{Kind: appKinds[item.Kind.Text], Name: item.Name.Text}
		switch s.Kind {
		case IsApp:
			if _, ok := r.rb.Apps[s.Name]; !ok {
				r.unknown(item.Name, "app", keysOf(r.rb.Apps))
			}
		case HasTag:
			s.Tag = r.tag(item.Name)
		}
		selectors = append(selectors, s)
	}
	r.onceSelector(list)
	return selectors
}

package rulebook

// Whom and what a question is about that stands in no file.

import (
	"fmt"
	"maps"
	"slices"

	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/language"
	"briskwarden.example/briskwarden/language/ast"
)

// Scoped reads selectors as a policy has them behind "who" and "to"; empty ones are everyone and everything.
// An unknown group, user, app or tag is an error.
func (rb *Rulebook) Scoped(who, to string) (Who, To, error) {
	if who == "" {
		who = "everyone"
	}
	if to == "" {
		to = "everything"
	}
	tree, err := language.Parse("(asked)", fmt.Appendf(nil, "promise \"asked\" {\nwho %s\nto %s\nalways grant\n}", who, to))
	if err != nil {
		return Who{}, To{}, err
	}
	if len(tree.Decls) != 1 {
		return Who{}, To{}, fmt.Errorf("%q and %q are no selectors", who, to)
	}
	scope := tree.Decls[0].(*ast.Promise).Scope
	w, t := Who{}, To{}
	for _, x := range []struct {
		from []ast.Selector
		to   *[]PersonSelector
	}{{scope.Who.Items, &w.Items}, {scope.Who.Except, &w.Except}} {
		for _, item := range x.from {
			s, err := rb.personSelector(item)
			if err != nil {
				return w, t, err
			}
			*x.to = append(*x.to, s)
		}
	}
	for _, x := range []struct {
		from []ast.Selector
		to   *[]AppSelector
	}{{scope.To.Items, &t.Items}, {scope.To.Except, &t.Except}} {
		for _, item := range x.from {
			s, err := rb.appSelector(item)
			if err != nil {
				return w, t, err
			}
			*x.to = append(*x.to, s)
		}
	}
	return w, t, nil
}

var personKinds = map[string]SelectorKind{"everyone": Everyone, "people": People, "type": OfType, "group": InGroup, "user": IsUser, "domain": OfDomain}

func (rb *Rulebook) personSelector(item ast.Selector) (PersonSelector, error) {
	s := PersonSelector{Kind: personKinds[item.Kind.Text], Name: item.Name.Text}
	switch s.Kind {
	case InGroup:
		id, known := rb.Groups.Lookup(s.Name)
		if !known {
			return s, fmt.Errorf("there is no group %q; %s", s.Name, demand.NearestOrAll(s.Name, rb.Groups.Names()))
		}
		s.Group = id
	case IsUser:
		if rb.People[s.Name] == nil {
			return s, fmt.Errorf("there is no user %q; %s", s.Name, demand.NearestOrAll(s.Name, slices.Sorted(maps.Keys(rb.People))))
		}
	}
	return s, nil
}

var appKinds = map[string]SelectorKind{"everything": Everything, "app": IsApp, "tag": HasTag}

func (rb *Rulebook) appSelector(item ast.Selector) (AppSelector, error) {
	s := AppSelector{Kind: appKinds[item.Kind.Text], Name: item.Name.Text}
	switch s.Kind {
	case IsApp:
		if rb.Apps[s.Name] == nil {
			return s, fmt.Errorf("there is no app %q; %s", s.Name, demand.NearestOrAll(s.Name, rb.AppNames()))
		}
	case HasTag:
		id, known := rb.Tags[s.Name]
		if !known {
			return s, fmt.Errorf("there is no tag %q; %s", s.Name, demand.NearestOrAll(s.Name, slices.Sorted(maps.Keys(rb.Tags))))
		}
		s.Tag = id
	}
	return s, nil
}

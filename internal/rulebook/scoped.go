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
	var w Who
	var t To
	if w.Items, err = bound(scope.Who.Items, rb.personSelector); err == nil {
		w.Except, err = bound(scope.Who.Except, rb.personSelector)
	}
	if err == nil {
		t.Items, err = bound(scope.To.Items, rb.appSelector)
	}
	if err == nil {
		t.Except, err = bound(scope.To.Except, rb.appSelector)
	}
	return w, t, err
}

// bound binds selectors one by one.
func bound[T any](list []ast.Selector, bind func(ast.Selector) (T, error)) (selectors []T, err error) {
	for _, item := range list {
		s, err := bind(item)
		if err != nil {
			return nil, err
		}
		selectors = append(selectors, s)
	}
	return selectors, nil
}

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

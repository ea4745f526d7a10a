package rulebook

// Whom and what policies, waivers and promises are for.

import (
	"slices"
)

// Who selects people.
type Who struct {
	Items, Except []PersonSelector
}

// SelectorKind tells selectors apart.
type SelectorKind uint8

// PersonSelector selects people.
type PersonSelector struct {
	Kind  SelectorKind
	Group int32
	Name  string
}

// Holds reports whether the person is selected; what is excepted always wins.
func (w *Who) Holds(p *Person) bool {
	return selects(w.Items, p) && !selects(w.Except, p)
}

func selects(list []PersonSelector, p *Person) bool {
	for i := range list {
		if list[i].Holds(p) {
			return true
		}
	}
	return false
}

// Holds reports whether the one selector selects the person.
func (s *PersonSelector) Holds(p *Person) bool {
	switch s.Kind {
	case Everyone:
		return true
	case People:
		return p.Type != "service"
	case InGroup:
		return p.In(s.Group)
	case IsUser:
		return p.ID == s.Name
	case OfType:
		return p.Type == s.Name
	}
	return Domain(p.ID) == s.Name
}

// String is the selector as it is written.
func (s PersonSelector) String() string {
	switch s.Kind {
	case Everyone:
		return "everyone"
	case People:
		return "people"
	}
	return map[SelectorKind]string{InGroup: "group ", IsUser: "user ", OfType: "type ", OfDomain: "domain "}[s.Kind] + s.Name
}

// To selects apps.
type To struct {
	Items, Except []AppSelector
}

// AppSelector selects apps.
type AppSelector struct {
	Kind SelectorKind
	Tag  int
	Name string
}

// Holds reports whether the app is selected; what is excepted always wins.
func (t *To) Holds(a *App) bool {
	holds := func(s AppSelector) bool {
		return s.Kind == Everything || s.Kind == IsApp && s.Name == a.Name || s.Kind == HasTag && slices.Contains(a.Tags, s.Tag)
	}
	return slices.ContainsFunc(t.Items, holds) && !slices.ContainsFunc(t.Except, holds)
}

// Within reports whether an action is among those of the policy.
func (p *Policy) Within(action string) bool { return slices.Contains(p.Doing, action) }

// The kinds of selectors, of people and of apps.
const (
	Everyone SelectorKind = iota
	People                // everyone but service accounts
	InGroup
	IsUser
	OfType
	OfDomain
	Everything
	IsApp
	HasTag
)

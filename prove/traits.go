package prove

// What breaking sign-ons can have in common: the comparisons of the rulebook.

import (
	"slices"
	"strings"

	"briskwarden.example/briskwarden/internal/condition"
	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/logic"
	"briskwarden.example/briskwarden/internal/possible"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/search"
	"briskwarden.example/briskwarden/language/ast"
)

// traits are the comparisons of a rulebook, by its number in the world: each as it stands, and with "not",
// and for each fact that it is unknown.
func traits(number int, rb *rulebook.Rulebook) (list []search.Trait) {
	seen := map[string]bool{}
	add := func(text string, holds func(*possible.Space) logic.Lit) {
		if !seen[text] {
			seen[text] = true
			list = append(list, search.Trait{Text: text, Holds: holds})
		}
	}
	for _, c := range rb.Comparisons {
		add(c.Tree.String(), func(sp *possible.Space) logic.Lit { return sp.Condition(number, c.Node).Must })
	}
	for _, c := range rb.Comparisons {
		add(negated(c.Tree), func(sp *possible.Space) logic.Lit { return sp.Condition(number, c.Node).May.Not() })
	}
	for _, f := range unknowable(rb) {
		n := condition.IsUnknown(f)
		add(f.Name+" is unknown", func(sp *possible.Space) logic.Lit { return sp.Condition(number, n).Must })
	}
	return list
}

// unknowable are the facts that comparisons ask about and that can be unknown.
func unknowable(rb *rulebook.Rulebook) (list []*fact.Fact) {
	for _, c := range rb.Comparisons {
		f, known := rb.Facts.Lookup(c.Tree.Fact.Text)
		if !known {
			continue
		}
		switch f.Type {
		case fact.Methods, fact.Baselines, fact.Clock:
			continue
		}
		switch f.Slot {
		case fact.Group, fact.Tag, fact.UserID, fact.UserType:
			continue
		}
		if !slices.Contains(list, f) {
			list = append(list, f)
		}
	}
	return list
}

// negated is a comparison with "not", where the language puts it.
func negated(c *ast.Compare) string {
	n := *c
	pairs := [][2]ast.Op{{ast.In, ast.NotIn}, {ast.Is, ast.IsNot}, {ast.Within, ast.NotWithin}}
	for _, p := range pairs {
		if c.Known != ast.NoKnown || c.Op != p[0] && c.Op != p[1] {
			continue
		}
		if n.Op = p[0]; c.Op == p[0] {
			n.Op = p[1]
		}
		if c.Op != ast.Is || len(c.Values) != 1 || !isYesNo(c.Values[0].Text) {
			return n.String()
		}
	}
	switch c.Known {
	case ast.IsKnown, ast.IsNotUnknown:
		n.Known = ast.IsUnknown
		return n.String()
	case ast.IsUnknown, ast.IsNotKnown:
		n.Known = ast.IsKnown
		return n.String()
	}
	return "not " + c.String()
}

func isYesNo(word string) bool { return word == "yes" || word == "no" }

// asked are the questions about what is unknown, which the world has to know of.
func asked(rb *rulebook.Rulebook) (list []possible.Asked) {
	for _, f := range unknowable(rb) {
		list = append(list, possible.Asked{Who: &rulebook.Who{}, When: condition.IsUnknown(f)})
	}
	return list
}

// told is a conjunction of traits, and one of those that do not go without saying.
func told(list []search.SharedTrait) (all, brief string) {
	var texts, telling []string
	for _, t := range list {
		texts = append(texts, t.Text)
		if !t.Given {
			telling = append(telling, t.Text)
		}
	}
	return strings.Join(texts, " and "), strings.Join(telling, " and ")
}

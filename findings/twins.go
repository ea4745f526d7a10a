package findings

// People, and groups, whose names are easily taken for each other.

import (
	"cmp"
	"slices"

	"briskwarden.example/briskwarden/internal/directory"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/token"
)

// named is a person or a group by where it is named first.
type named struct {
	name string
	at   token.Pos
}

// twins finds names that are equal when folded. Decisions compare them exactly: what is said of one is not said of the other.
func (c *checker) twins() {
	people, groups := map[string][]named{}, map[string][]named{}
	for id, p := range c.rb.People {
		people[directory.Fold(id)] = append(people[directory.Fold(id)], named{id, posOf(p.Origin.File, p.Origin.Line)})
	}
	for id, at := range c.rb.GroupPlaces {
		name := c.rb.Groups.Name(id)
		groups[directory.Fold(name)] = append(groups[directory.Fold(name)], named{name, at})
	}
	c.alikeNames("users", people)
	c.alikeNames("groups", groups)
}

func (c *checker) alikeNames(kind string, byFolded map[string][]named) {
	for _, list := range byFolded {
		if len(list) < 2 {
			continue
		}
		slices.SortFunc(list, func(a, b named) int { return cmp.Compare(a.name, b.name) })
		var names []string
		for _, n := range list {
			names = append(names, n.name)
		}
		c.warn(Twins, ast.Name{Pos: list[len(list)-1].at}, "give one of them another name, if they are not meant to be two", "%s whose names are easily taken for each other: %s", kind, spell.Few(names, 5))
	}
}

package findings

// Names and words that nothing has, though something nearly like them does.

import (
	"maps"
	"slices"
	"strings"

	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/token"
)

func posOf(file string, line int) token.Pos {
	return token.Pos{File: file, Line: int32(line), Column: 1}
}

// nearGroups finds groups that only user blocks name, and that are called nearly as one that
// something else names: whoever is in it slips past what names the other.
func (c *checker) nearGroups() {
	meant := c.groupsMeant()
	var names []string
	for name := range meant {
		names = append(names, name)
	}
	slices.Sort(names)
	seen := map[string]bool{}
	for d := range c.rb.Declarations() {
		u, ok := d.(*ast.User)
		if !ok {
			continue
		}
		for _, g := range u.Groups {
			if meant[g.Text] || seen[g.Text] {
				continue
			}
			seen[g.Text] = true
			if near := spell.Like(g.Text, names); near != "" {
				c.warn(NearGroup, g, "write "+near+", or say that the group is one of its own: group "+g.String()+" { }",
					"only user blocks name the group %s, and nearly so is %s called", g.Text, near)
			}
		}
	}
}

// groupsMeant are the groups that a file, a group block or a selector names.
func (c *checker) groupsMeant() map[string]bool {
	meant := map[string]bool{}
	for id := range c.rb.GroupPlaces {
		meant[c.rb.Groups.Name(id)] = true
	}
	for d := range c.rb.Declarations() {
		for _, s := range ast.Selectors(d) {
			if s.Kind.Text == "group" {
				meant[s.Name.Text] = true
			}
		}
		for _, cond := range ast.Conditions(d) {
			for compare := range ast.Comparisons(cond) {
				if compare.Fact.Text == "group" {
					for _, v := range compare.Values {
						meant[v.Text] = true
					}
				}
			}
		}
	}
	for _, p := range c.rb.People { // of files too, which name groups that no block does
		if !strings.HasSuffix(p.Origin.File, ".warden") {
			for _, g := range p.Groups {
				meant[c.rb.Groups.Name(g)] = true
			}
		}
	}
	return meant
}

// comparedWords finds words that a condition compares with, and that nothing in the inventory or
// the directory has.
func (c *checker) comparedWords() {
	known, sorted := c.knownWords(), map[string][]string{}
	for d := range c.rb.Declarations() {
		for _, cond := range ast.Conditions(d) {
			for compare := range ast.Comparisons(cond) {
				words := known[compare.Fact.Text]
				if len(words) == 0 || compare.Known != ast.NoKnown {
					continue
				}
				names, done := sorted[compare.Fact.Text]
				if !done {
					names = slices.Sorted(maps.Keys(words))
					sorted[compare.Fact.Text] = names
				}
				for _, v := range compare.Values {
					if words[v.Text] {
						continue
					}
					like := spell.Like(v.Text, names)
					if !private[compare.Fact.Text] || c.rb.Logged != nil || like != "" {
						c.warn(WordOfNothing, v, wordHelp(like, names), "nothing that the rulebook knows of has %s %s", compare.Fact.Text, v.Text)
					}
				}
			}
		}
	}
}

// private are the facts that people's own devices bring, which no inventory has: without a log
// only what is nearly a known word is told.
var private = map[string]bool{"device.os": true, "device.form": true}

func wordHelp(like string, names []string) string {
	if like != "" {
		return "did you mean " + like + "? Words compare exactly"
	}
	return "known here: " + spell.Few(names, 8)
}

// knownWords are the words that devices and people have, by the facts that are words.
func (c *checker) knownWords() map[string]map[string]bool {
	words := map[string]map[string]bool{}
	add := func(name, word string) {
		if word == "" {
			return
		}
		if words[name] == nil {
			words[name] = map[string]bool{}
		}
		words[name][word] = true
	}
	attributes := map[string]*fact.Attribute{}
	for _, a := range c.rb.Facts.Attributes() {
		if a.Type == fact.Word && !a.FromRequest {
			attributes[a.Name] = a
			if a.Default.Known {
				add(a.Name, a.Default.Word)
			}
		}
	}
	if c.rb.Logged != nil {
		for word := range c.rb.Logged.OS {
			add("device.os", word)
		}
		for word := range c.rb.Logged.Form {
			add("device.form", word)
		}
	}
	for _, d := range c.rb.Devices {
		add("device.os", d.OS)
		add("device.form", d.Form)
		for name, v := range d.Attributes {
			if text, isText := v.(string); isText && attributes["device."+name] != nil {
				add("device."+name, text)
			}
		}
	}
	for _, p := range c.rb.People {
		add("user.id", p.ID)
		for name, a := range attributes {
			if !a.OfDevice && a.Index < len(p.Attributes) && p.Attributes[a.Index].Known {
				add(name, p.Attributes[a.Index].Word)
			}
		}
	}
	if c.rb.Open { // others are known outside
		maps.DeleteFunc(words, func(name string, _ map[string]bool) bool { return strings.HasPrefix(name, "user.") })
	}
	return words
}

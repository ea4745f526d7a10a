package rulebook

// Names that are not known, or stand twice.

import (
	"errors"
	"slices"
	"strings"

	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/place"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/signon"
)

// Set finds a declared set for a membership fact.
func (n *names) Set(f *fact.Fact, name ast.Name) (int, bool) {
	switch f.Slot {
	case fact.Network:
		return n.network(name)
	case fact.Group:
		id, ok := n.r.group(name)
		return int(id), ok
	case fact.Tag:
		return n.r.tag(name), true
	case fact.Time:
		return n.declared(name, "schedule", n.schedules)
	case fact.UserHas:
		return n.userHas(name), true
	case fact.DeviceMeets:
		return n.declared(name, "baseline", n.baselines)
	}
	return n.declared(name, "scopes", n.scopes)
}

func (n *names) declared(name ast.Name, what string, known map[string]int) (int, bool) {
	id, ok := known[name.Text]
	if !ok {
		n.r.unknown(name, what, keysOf(known))
	}
	return id, ok
}

func (n *names) network(name ast.Name) (int, bool) {
	if id, ok := n.networks[name.Text]; ok {
		return id, true
	}
	if id, ok := n.literals[name.Text]; ok {
		return id, true
	}
	prefixes, err := place.ParseItem(name.Text)
	switch {
	case errors.Is(err, place.ErrNotAddress):
		n.r.unknown(name, "network", keysOf(n.networks))
		return 0, false
	case err != nil:
		n.r.fail(name, "", "%v", err)
		return 0, false
	}
	literal := place.List{File: name.Pos.File}
	literal.Add(int(name.Pos.Line), prefixes)
	id := n.r.addNetwork(literal)
	n.literals[name.Text] = id
	return id, true
}

func (n *names) userHas(name ast.Name) int {
	if id, ok := n.within[name.Text]; ok {
		return id
	}
	d := n.demand.CompileWithin(name, &n.r.errors)
	id := len(n.r.rb.Within)
	n.r.rb.Within = append(n.r.rb.Within, d)
	n.within[name.Text] = id
	return id
}

// countryHelp suggests the code that a text of two letters was meant to be.
func countryHelp(text string) string {
	meant := strings.ToUpper(text)
	switch meant { // what is said of these in everyday life is not what ISO 3166-1 assigns
	case "UK":
		meant = "GB"
	case "EL":
		meant = "GR"
	}
	if signon.IsCountry(meant) {
		return "write " + meant
	}
	return "countries are ISO 3166-1 alpha-2 codes in capitals, such as NO"
}

// Countries are the codes that a country or a set of countries stands for.
func (n *names) Countries(name ast.Name) ([]string, bool) {
	if signon.IsCountry(name.Text) {
		return []string{name.Text}, true
	}
	if _, ok := n.r.decls.countries.byName[name.Text]; ok {
		return n.r.flatten(name.Text), true
	}
	if len(name.Text) == 2 {
		n.r.fail(name, countryHelp(name.Text), "there is no country %q", name.Text)
		return nil, false
	}
	n.r.unknown(name, "countries", keysOf(n.r.decls.countries.byName))
	return nil, false
}

// flatten lists the codes of a set of countries, those of the sets that it names included.
func (r *resolver) flatten(set string) []string {
	var codes []string
	seen := map[string]bool{set: true}
	for open := []string{set}; len(open) > 0; open = open[1:] {
		for _, item := range r.decls.countries.byName[open[0]].Items {
			switch {
			case signon.IsCountry(item.Text):
				codes = append(codes, item.Text)
			case r.decls.countries.byName[item.Text] != nil && !seen[item.Text]:
				seen[item.Text] = true
				open = append(open, item.Text)
			}
		}
	}
	slices.Sort(codes)
	return slices.Compact(codes)
}

// group finds a group; where people come from elsewhere, groups may too.
func (r *resolver) group(name ast.Name) (int32, bool) {
	id, ok := r.rb.Groups.Lookup(name.Text)
	switch {
	case ok:
		return id, true
	case r.rb.Open:
		return r.rb.Groups.Add(name.Text), true
	}
	r.unknown(name, "group", r.rb.Groups.Names())
	return 0, false
}

// tag finds a tag; one that no app carries is a warning.
func (r *resolver) tag(name ast.Name) int {
	id, known := r.tagID(name.Text)
	if !known {
		r.warn(UnusedTag, name, "give it to an app, or mend its spelling", "no app carries the tag %q", name.Text)
	}
	return id
}

// tagID is the id of a tag, which is new if nobody named it before.
func (r *resolver) tagID(tag string) (id int, known bool) {
	id, known = r.rb.Tags[tag]
	if !known {
		id = len(r.rb.Tags)
		r.rb.Tags[tag] = id
	}
	return id, known
}

// addNetwork gives a network its id.
func (r *resolver) addNetwork(lists ...place.List) int {
	r.prefixes = append(r.prefixes, lists)
	return len(r.prefixes) - 1
}

package findings

// Networks that are not what a policy takes them for.

import (
	"net/netip"
	"slices"
	"strings"

	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language/ast"
)

// networkNames are the declarations of networks, by name.
func (c *checker) networkNames() map[string]ast.Name {
	names := map[string]ast.Name{}
	for d := range c.rb.Declarations() {
		if n, ok := d.(*ast.Network); ok {
			names[n.Name.Text] = n.Name
		}
	}
	return names
}

// overlaps finds networks of which one is trusted and the other is not, though some address lies in both.
func (c *checker) overlaps() {
	names, nets := c.networkNames(), c.rb.Networks
	with := map[string][]string{} // by the trusted one
	for _, set := range nets.Table.Together() {
		for a := range set.All() {
			for b := range set.All() {
				if a < len(nets.Names) && b < len(nets.Names) && nets.Trusted.Has(a) && !nets.Trusted.Has(b) && !slices.Contains(with[nets.Names[a]], nets.Names[b]) {
					with[nets.Names[a]] = append(with[nets.Names[a]], nets.Names[b])
				}
			}
		}
	}
	for name, others := range with {
		slices.Sort(others)
		c.warn(OverlappingNetworks, names[name], "take the addresses out of one of them, or accept it if they are as trusted there",
			"the network %s is trusted, and some of its addresses lie in %s too, which is not", name, spell.Few(others, 3))
	}
}

// unlocated finds networks that no geo source knows, where a policy blocks by country: whoever
// is there is blocked, since nobody can tell where that is.
func (c *checker) unlocated() {
	policy, label := c.blocksByCountry()
	if policy == "" || len(c.rb.Atlas) == 0 {
		return
	}
	names, nets := c.networkNames(), c.rb.Networks
	first := map[int]netip.Prefix{}
	for p, id := range nets.Table.Prefixes() {
		if _, done := first[id]; done || id >= len(nets.Names) || nets.Anonymous.Has(id) {
			continue
		}
		if at, known := c.rb.Atlas.Locate(p.Addr()); !known || at.Country == "" {
			first[id] = p
		}
	}
	for id, p := range first {
		c.warn(UnlocatedNetwork, names[nets.Names[id]], "add it to a geo source, or let the case ask first whether the network is "+nets.Names[id],
			"no geo source knows where %s of the network %s is, and the case %q of %s blocks by country", p, nets.Names[id], label, policy)
	}
}

// blocksByCountry finds a case that blocks whoever is not in some countries.
func (c *checker) blocksByCountry() (policy, label string) {
	for _, p := range c.rb.Policies {
		for i, k := range p.Cases {
			if k.Kind == rulebook.Block && !draft(p) && asksCountry(p.Decl.Cases[i].Cond) {
				return p.Name, k.Label
			}
		}
	}
	return "", ""
}

func asksCountry(cond ast.Cond) bool {
	for compare := range ast.Comparisons(cond) {
		if compare.Fact.Text == "country" && compare.Known == ast.NoKnown {
			return true
		}
	}
	return false
}

// owners finds devices of the inventory whose owner nobody knows.
func (c *checker) owners() {
	if c.rb.Open {
		return
	}
	type owned struct{ device, owner string }
	wrong := map[string][]owned{}
	at := map[string]int{}
	for id, d := range c.rb.Devices {
		if d.Owner == "" || c.rb.People[d.Owner] != nil {
			continue
		}
		wrong[d.File] = append(wrong[d.File], owned{id, d.Owner})
		if line, there := at[d.File]; !there || d.Line < line {
			at[d.File] = d.Line
		}
	}
	for file, list := range wrong {
		slices.SortFunc(list, func(a, b owned) int { return strings.Compare(a.device, b.device) })
		var texts []string
		for _, x := range list {
			texts = append(texts, x.device+" of "+x.owner)
		}
		c.warn(UnknownOwner, ast.Name{Pos: posOf(file, at[file])}, "mend the owner, or take the device out; device.owned is no for everybody until then",
			"devices whose owner nobody knows: %s", spell.Few(texts, 3))
	}
}

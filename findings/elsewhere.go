package findings

// Conditions by address that a change of protocol gets past.

import (
	"slices"
	"strings"

	"briskwarden.example/briskwarden/internal/place"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/language/ast"
)

// elsewhere finds blocks and step-ups for "not in these networks" where the networks list
// only IPv4, so that each address of IPv6 counts as elsewhere.
func (c *checker) elsewhere() {
	for _, p := range c.rb.Policies {
		for i, k := range p.Cases {
			if k.Kind != rulebook.Block && k.Kind != rulebook.StepUp {
				continue
			}
			for _, compare := range outside(p.Decl.Cases[i].Cond, true) {
				if names := c.onlyIPv4(compare); names != "" {
					c.warn(OnlyIPv4, labelOf(p, i), "list the IPv6 addresses of these places too, or accept it if they have none",
						"the case %q takes every IPv6 address for elsewhere: %s only IPv4", k.Label, names)
					break
				}
			}
		}
	}
}

// outside are the comparisons that are true for an address outside some networks.
func outside(c ast.Cond, positive bool) (list []*ast.Compare) {
	var parts []ast.Cond
	switch c := c.(type) {
	case *ast.And:
		parts = c.Parts
	case *ast.Or:
		parts = c.Parts
	case *ast.Paren:
		return outside(c.X, positive)
	case *ast.Surely:
		return outside(c.X, positive)
	case *ast.Not:
		return outside(c.X, !positive)
	case *ast.Compare:
		of := c.Fact.Text == "network" || c.Fact.Text == "network.trusted"
		if of && c.Known == ast.NoKnown && contrary(c) == positive {
			list = append(list, c)
		}
	}
	for _, p := range parts {
		list = append(list, outside(p, positive)...)
	}
	return list
}

// onlyIPv4 tells which networks are asked about, if they list addresses of IPv4 and none of IPv6.
func (c *checker) onlyIPv4(compare *ast.Compare) string {
	var names []string
	var v4, v6 bool
	add := func(name string, has4, has6 bool) {
		names, v4, v6 = append(names, name), v4 || has4, v6 || has6
	}
	if compare.Fact.Text == "network.trusted" {
		for id := range c.rb.Networks.Trusted.All() {
			has4, has6 := c.rb.Networks.Table.Lists(id)
			add(c.rb.Networks.Names[id], has4, has6)
		}
	} else {
		for _, v := range compare.Values {
			if id := slices.Index(c.rb.Networks.Names, v.Text); id >= 0 {
				has4, has6 := c.rb.Networks.Table.Lists(id)
				add(v.Text, has4, has6)
			} else if prefixes, err := place.ParseItem(v.Text); err == nil {
				add(v.Text, prefixes[0].Addr().Is4(), prefixes[0].Addr().Is6())
			}
		}
	}
	switch {
	case !v4 || v6:
		return ""
	case len(names) == 1:
		return names[0] + " lists"
	}
	return strings.Join(names, " and ") + " list"
}

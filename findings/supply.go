package findings

// Facts that are asked for, and that nothing supplies.

import (
	"slices"
	"strings"

	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/place"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/language/ast"
)

// supply finds blocks, step-ups, risk factors and alerts that ask for facts which nothing supplies.
func (c *checker) supply() {
	missing := c.unsupplied()
	for _, p := range c.rb.Policies {
		for i, k := range p.Cases {
			if k.Kind == rulebook.Block || k.Kind == rulebook.StepUp {
				c.asksFor(p.Decl.Cases[i].Cond, missing, labelOf(p, i), "the case \""+k.Label+"\"")
			}
		}
	}
	for d := range c.rb.Declarations() {
		switch d := d.(type) {
		case *ast.Risk:
			for _, f := range d.Factors {
				c.asksFor(f.Cond, missing, f.Add, "the factor of "+f.Add.Text)
			}
		case *ast.Alert:
			c.asksFor(d.When, missing, d.Name, "the alert "+d.Name.String())
		}
	}
}

func (c *checker) asksFor(cond ast.Cond, missing map[string]string, at ast.Name, what string) {
	var told []string
	for compare := range ast.Comparisons(cond) {
		name := compare.Fact.Text
		why, ok := missing[name]
		if !ok || compare.Known != ast.NoKnown || slices.Contains(told, name) {
			continue
		}
		told = append(told, name)
		unless := "it is always unknown"
		if name == "country" {
			unless = "it is unknown unless the sign-on states it"
		}
		c.warn(Unsupplied, at, why, "%s asks for %s, which nothing supplies: %s", what, name, unless)
	}
}

// unsupplied are the facts that nothing supplies, and what would.
func (c *checker) unsupplied() map[string]string {
	missing := map[string]string{}
	if c.rb.Past == nil && len(c.rb.Callers) == 0 { // a service supplies them
		for _, name := range []string{"new.country", "new.device", "odd.hour", "travel.speed"} {
			missing[name] = "name past sign-ons in the rulebook block: history \"signons/*.jsonl\""
		}
	}
	positioned := func(s place.Source) bool { _, ok := s.(*place.Database); return ok }
	if _, ok := missing["travel.speed"]; !ok && !slices.ContainsFunc(c.rb.Atlas, positioned) {
		missing["travel.speed"] = "name a MaxMind DB with positions in the rulebook block: geo \"geo/positions.mmdb\""
	}
	if len(c.rb.Atlas) == 0 {
		missing["country"] = "name a source in the rulebook block: geo \"geo/geofeed.csv\"; or accept it if sign-ons state their country"
	}
	if len(c.rb.Devices) == 0 {
		missing["device.owned"] = "name an inventory in the rulebook block: devices \"devices/fleet.jsonl\""
	}
	if !c.rb.Accepts(rulebook.CredentialCompromise) {
		missing["user.compromised"] = "declare who tells of it: signals NAME { … accept credential-compromise }"
	}
	for _, a := range c.rb.Facts.Attributes() {
		if !a.FromRequest && !a.Default.Known && !c.stated(a) {
			missing[a.Name] = "let a source state it, give it a default, or let sign-ons state it: from request"
		}
	}
	return missing
}

// stated reports whether some user or device has the attribute.
func (c *checker) stated(a *fact.Attribute) bool {
	if a.OfDevice {
		name := strings.TrimPrefix(a.Name, "device.")
		for _, d := range c.rb.Devices {
			if d.Attributes[name] != nil {
				return true
			}
		}
		return false
	}
	for _, p := range c.rb.People {
		if a.Index < len(p.Attributes) && p.Attributes[a.Index].Known {
			return true
		}
	}
	return c.rb.Open
}

// weak are the methods that are easily talked or intercepted out of somebody.
var weak = []string{"text-code", "call-code", "email-code"}

// sensitive is the tag of the apps for which they are too weak.
const sensitive = "sensitive"

// weakMethods finds weak methods that are accepted for sensitive apps.
func (c *checker) weakMethods() {
	tag, ok := c.rb.Tags[sensitive]
	if !ok {
		return
	}
	named := map[string]ast.Demand{}
	for d := range c.rb.Declarations() {
		if n, ok := d.(*ast.NamedDemand); ok {
			named[n.Name.Text] = n.Demand
		}
	}
	for _, p := range c.rb.Policies {
		app := c.appWith(&p.To, tag)
		if app == "" {
			continue
		}
		for i := range p.Cases {
			if m := weakIn(p.Decl.Cases[i].Outcome.Demand, named); m != "" {
				c.warn(WeakMethod, labelOf(p, i), "ask for a passkey, a security key or an app code", "the case %q accepts %s for the sensitive app %s",
					p.Cases[i].Label, m, app)
			}
		}
	}
}

// appWith is the first app by name with the tag among those selected.
func (c *checker) appWith(to *rulebook.To, tag int) (name string) {
	for _, a := range c.rb.Apps {
		if slices.Contains(a.Tags, tag) && to.Holds(a) && (name == "" || a.Name < name) {
			name = a.Name
		}
	}
	return name
}

// weakIn is a weak method that a demand accepts, or "".
func weakIn(d ast.Demand, named map[string]ast.Demand) string {
	for atom := range ast.Atoms(d) {
		if atom.Kind == ast.AtomDevice || atom.Kind == ast.AtomEnrol {
			continue
		}
		if slices.Contains(weak, atom.Name.Text) {
			return atom.Name.Text
		}
		if inner, ok := named[atom.Name.Text]; ok {
			if m := weakIn(inner, named); m != "" {
				return m
			}
		}
	}
	return ""
}

package findings

// What is let out to client applications unasked.

import (
	"slices"

	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/signon"
)

// consent finds apps whose data client applications get without anybody having a say: no
// policy surely speaks of consent there, and the rulebook's unmatched is grant.
func (c *checker) consent() {
	if c.rb.Unmatched != signon.Grant {
		return
	}
	var open []string
	for d := range c.rb.Declarations() {
		app, ok := d.(*ast.App)
		if ok && !slices.ContainsFunc(c.rb.Policies, func(p *rulebook.Policy) bool {
			return p.To.Holds(c.rb.Apps[app.Name.Text]) && p.Within(rulebook.Consent) && c.enforced(p) && forAll(&p.Who) && speaks(p)
		}) {
			open = append(open, app.Name.Text)
		}
	}
	if len(open) == 0 {
		return
	}
	const most = 3
	for d := range c.rb.Declarations() {
		if top, ok := d.(*ast.Rulebook); ok {
			c.warn(ConsentUnasked, top.Unmatched, `write a policy "who people  to everything  doing consent"; its last case could be "review by group G"`,
				"client applications get the data of %s unasked: unmatched is grant, and no enforced policy for all people decides on consent there", spell.Few(open, most))
		}
	}
}

// scopes finds items of sets that no scope ever matches, such as two scopes in one string.
func (c *checker) scopes() {
	for d := range c.rb.Declarations() {
		set, ok := d.(*ast.Scopes)
		if !ok {
			continue
		}
		for _, item := range set.Items {
			if !signon.IsScope(item.Text) {
				c.warn(ImpossibleScope, item, "a scope is printable ASCII without spaces, double quotes and backslashes; write each of several in its own string",
					"%q is never asked for: it is no scope (RFC 6749)", item.Text)
			}
		}
	}
}

// forAll reports whether a policy is for everybody, or for all but service accounts.
func forAll(w *rulebook.Who) bool {
	return len(w.Except) == 0 && slices.ContainsFunc(w.Items, func(s rulebook.PersonSelector) bool {
		return s.Kind == rulebook.Everyone || s.Kind == rulebook.People
	})
}

// speaks reports whether no case of the policy abstains.
func speaks(p *rulebook.Policy) bool {
	return !slices.ContainsFunc(p.Cases, func(k rulebook.Case) bool { return k.Kind == rulebook.Abstain })
}

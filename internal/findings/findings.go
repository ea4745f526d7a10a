// Package findings has what check warns of: what is no error, and yet hardly meant.
package findings

import (
	"fmt"
	"time"
	"unicode/utf8"

	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/language/ast"
)

// The codes of the findings.
const (
	PolicyForNobody diag.Code = "policy-for-nobody"
	EmptyGroup      diag.Code = "empty-group"
	UnreachableCase diag.Code = "unreachable-case"
	WaiverOver      diag.Code = "waiver-over"
	WaiverEnding    diag.Code = "waiver-ending"
	Unused          diag.Code = "unused"
	AppOfNoPolicy   diag.Code = "app-of-no-policy"
	UndatedExpect   diag.Code = "undated-expectation"
)

// Check returns all warnings about a rulebook without errors, those of its resolution
// included, as of the instant now.
func Check(rb *rulebook.Rulebook, now time.Time) diag.List {
	c := &checker{rb: rb, now: now, list: append(diag.List(nil), rb.Diagnostics...)}
	c.policies()
	c.groups()
	c.waivers()
	c.unused()
	c.apps()
	c.expectations()
	c.list.Sort()
	return c.list
}

type checker struct {
	rb   *rulebook.Rulebook
	now  time.Time
	list diag.List
}

func (c *checker) warn(code diag.Code, at ast.Name, help, format string, args ...any) {
	c.list.Add(code, diag.Warning, at.Pos, utf8.RuneCountInString(at.String()), help, format, args...)
}

func (c *checker) policies() {
	for _, p := range c.rb.Policies {
		if !c.rb.Open && !c.anybody(&p.Who) {
			c.warn(PolicyForNobody, p.Decl.Name, "mend its who, or take the policy out", "nobody is among the people of the policy %s", p.Name)
		}
		first := map[string]string{}
		for i, k := range p.Cases {
			if k.When == nil {
				continue
			}
			if label, ok := first[k.Text]; ok {
				c.warn(UnreachableCase, p.Decl.Cases[i].Label, "take one of them out, or change its condition",
					"the case %q is never reached: the case %q before it has the same condition", k.Label, label)
				continue
			}
			first[k.Text] = k.Label
		}
	}
}

func (c *checker) anybody(who *rulebook.Who) bool {
	for _, p := range c.rb.People {
		if who.Holds(p) {
			return true
		}
	}
	return false
}

func (c *checker) groups() {
	if c.rb.Open {
		return
	}
	filled := map[int32]bool{}
	for _, p := range c.rb.People {
		for _, g := range p.Groups {
			filled[g] = true
		}
	}
	for d := range c.rb.Declarations() {
		g, ok := d.(*ast.Group)
		if !ok {
			continue
		}
		if id, known := c.rb.Groups.Lookup(g.Name.Text); known && !filled[id] {
			c.warn(EmptyGroup, g.Name, "add members, or take the group out", "nobody is in the group %s", g.Name)
		}
	}
}

// soon is how long before its end a waiver is told of.
const soon = 30 * 24 * time.Hour

func (c *checker) waivers() {
	for _, w := range c.rb.Waivers {
		switch {
		case !c.now.Before(w.Until):
			c.warn(WaiverOver, w.Decl.Until, "take the waiver out, or give it a later date with a reason", "the waiver %s is over since %s", w.Name, w.Decl.Until)
		case !c.now.Before(w.Until.Add(-soon)):
			c.warn(WaiverEnding, w.Decl.Until, "ask its owner, "+w.Decl.Owner.Text+", whether it is still needed", "the waiver %s ends on %s", w.Name, w.Decl.Until)
		}
	}
}

func (c *checker) expectations() {
	for _, e := range c.rb.Expects {
		if e.Decl.SignOn.At.Given() {
			continue
		}
		if why := c.whyDated(&e.Decl.SignOn); why != "" {
			c.warn(UndatedExpect, e.Decl.Name, "say when: at 2026-11-23T08:15", "the expectation %q needs an \"at\": %s", e.Name, why)
		}
	}
}

// floor is the floor as it is written; nil where it is not.
func (c *checker) floor() ast.Demand {
	for d := range c.rb.Declarations() {
		if rulebook, ok := d.(*ast.Rulebook); ok {
			return rulebook.Floor
		}
	}
	return nil
}

// whyDated tells what makes the decision on a sign-on depend on when it is; "" when nothing does.
func (c *checker) whyDated(s *ast.SignOn) string {
	person, app := c.rb.People[s.User.Text], c.rb.Apps[s.App.Text]
	if person == nil || app == nil || person.BreakGlass {
		return ""
	}
	action := s.Doing.Text
	if action == "" {
		action = rulebook.SignOn
	}
	for _, p := range c.rb.Policies {
		if !p.Who.Holds(person) || !p.To.Holds(app) || !p.Within(action) && !p.Within(rulebook.EnrolMethod) {
			continue
		}
		why := dated(p.Decl)
		if limit := p.Decl.Session; why == "" && limit != nil && limit.Lasts.Given() && s.Session.Given() {
			why = "the age of the session"
		}
		if why != "" {
			return fmt.Sprintf("the policy %s depends on %s", p.Name, why)
		}
	}
	if why := datedDemand(c.floor()); why != "" {
		return "the floor depends on " + why
	}
	for _, w := range c.rb.Waivers {
		if w.Who.Holds(person) && w.To.Holds(app) {
			return fmt.Sprintf("the waiver %s ends on a date", w.Name)
		}
	}
	return ""
}

package findings

// What is declared, and nothing uses.

import (
	"slices"

	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/language/ast"
)

// uses are the declarations that something asks about, by kind and name.
type uses map[[2]string]bool

// factSets are the kinds of declared sets that facts ask about, by fact.
var factSets = map[string]string{"network": "network", "time": "schedule", "country": "countries", "device": "baseline"}

func (u uses) declaration(d ast.Decl) {
	for _, c := range ast.Conditions(d) {
		for compare := range ast.Comparisons(c) {
			for _, v := range compare.Values {
				u[[2]string{factSets[compare.Fact.Text], v.Text}] = true
			}
			u[[2]string{"fact", compare.Fact.Text}] = true
			for _, v := range compare.Values { // of "user has D", and of "time after A"
				u[[2]string{"demand", v.Text}], u[[2]string{"fact", v.Text}] = true, true
			}
		}
	}
	for _, demand := range ast.Demands(d) {
		for atom := range ast.Atoms(demand) {
			u[[2]string{map[bool]string{true: "baseline", false: "demand"}[atom.Kind == ast.AtomDevice], atom.Name.Text}] = true
		}
	}
	if caller, ok := d.(*ast.Caller); ok {
		for _, n := range caller.From {
			u[[2]string{"network", n.Text}] = true
		}
	}
	if countries, ok := d.(*ast.Countries); ok {
		for _, item := range countries.Items {
			u[[2]string{"countries", item.Text}] = true
		}
	}
}

// unused finds networks, schedules, baselines, sets of countries, demands, attributes and a risk
// model that nothing asks about.
func (c *checker) unused() {
	asked := uses{}
	for d := range c.rb.Declarations() {
		asked.declaration(d)
	}
	for d := range c.rb.Declarations() {
		head := d.Head()
		switch d := d.(type) {
		case *ast.Network:
			if d.Trusted.IsValid() && asked[[2]string{"fact", "network.trusted"}] || d.Anonymous.IsValid() && asked[[2]string{"fact", "network.anonymous"}] {
				continue
			}
		case *ast.Schedule, *ast.Baseline, *ast.Countries, *ast.NamedDemand:
		case *ast.Attribute:
			if asked[[2]string{"fact", head.Name.Text}] {
				continue
			}
		case *ast.Risk:
			if asked[[2]string{"fact", "risk"}] || asked[[2]string{"fact", "risk.band"}] {
				continue
			}
		default:
			continue
		}
		if kind := head.Keyword.Text; !asked[[2]string{kind, head.Name.Text}] {
			c.warn(Unused, head.Name, "use it, or take it out", "nothing asks about the %s %s", kindNames[kind], head.Name)
		}
	}
}

// enforced reports whether the policy is enforced for anybody by now.
func (c *checker) enforced(p *rulebook.Policy) bool {
	return len(p.Stages) == 0 || slices.ContainsFunc(p.Stages, func(s rulebook.StageLine) bool {
		return s.Stage == rulebook.Enforce && !c.now.Before(s.From)
	})
}

var kindNames = map[string]string{"network": "network", "schedule": "schedule", "baseline": "baseline", "countries": "set of countries", "demand": "demand",
	"attribute": "attribute", "risk": "risk model"}

// apps finds apps that no policy is for.
func (c *checker) apps() {
	covered, enforced := c.coverage()
	for d := range c.rb.Declarations() {
		app, ok := d.(*ast.App)
		if !ok {
			continue
		}
		switch name := app.Name.Text; {
		case !covered[name]:
			c.warn(AppOfNoPolicy, app.Name, "write a policy for it; until then the rulebook's unmatched decides", "no policy is for the app %s", app.Name)
		case !enforced[name]:
			c.warn(AppNotEnforced, app.Name, "enforce one of its policies; until then the rulebook's unmatched decides",
				"no policy for signing on to the app %s is enforced", app.Name)
		}
	}
}

// coverage are the apps that some policy is for, and those with one for signing on that is enforced.
func (c *checker) coverage() (covered, enforced map[string]bool) {
	covered, enforced = map[string]bool{}, map[string]bool{}
	for _, p := range c.rb.Policies {
		stops := p.Within(rulebook.SignOn) && c.enforced(p)
		if all := len(c.rb.Apps); p.To.IsEverything() && len(covered) == all && (!stops || len(enforced) == all) {
			continue
		}
		for app := range c.rb.AppsOf(&p.To) {
			covered[app.Name] = true
			if stops {
				enforced[app.Name] = true
			}
		}
	}
	return covered, enforced
}

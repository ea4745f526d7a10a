package rulebook

// How expectations and promises are bound.

import (
	"slices"

	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/signon"
)

func (r *resolver) expects() {
	for _, d := range r.decls.expects.list {
		if !d.Outcome.Given() {
			continue
		}
		r.expectedNames(&d.SignOn)
		tell := clauseBinder{rb: r.rb, errors: &r.errors}
		tell.signOn(&d.SignOn) // for its errors; it is told anew when it is run, by the clock of then
		r.rb.Expects = append(r.rb.Expects, &Expect{Name: d.Name.Text, Want: r.want(d), Decl: d})
	}
}

// expectedNames reports unknown names: in an expectation they could only be slips.
func (r *resolver) expectedNames(s *ast.SignOn) {
	if s.User.Given() && r.rb.People[s.User.Text] == nil && !r.rb.Open {
		r.unknown(s.User, "user", keysOf(r.rb.People))
	}
	if s.App.Given() && r.rb.Apps[s.App.Text] == nil {
		r.unknown(s.App, "app", keysOf(r.rb.Apps))
	}
	if s.Doing.Given() && !r.rb.Actions[s.Doing.Text] {
		r.unknown(s.Doing, "action", keysOf(r.rb.Actions))
	}
	if _, known := r.rb.Groups.Lookup(s.Group.Text); s.Group.Given() && !known && !r.rb.Open {
		r.unknown(s.Group, "group", r.rb.Groups.Names())
	}
	r.once(s.Scopes)
	methods := slices.Clone(s.Presented)
	for _, h := range s.Having {
		methods = append(methods, h.Method)
		if h.App.Given() && r.rb.Apps[h.App.Text] == nil {
			r.unknown(h.App, "app", keysOf(r.rb.Apps))
		}
	}
	r.once(s.Presented)
	for _, m := range methods {
		if _, ok := r.rb.Methods.Lookup(m.Text); !ok && m.Text != demand.ChangePassword {
			r.unknown(m, "method", r.rb.Methods.Names())
		}
	}
}

func (r *resolver) want(d *ast.Expect) Want {
	w := Want{By: d.By.Text, Case: d.Case.Text}
	w.Outcome, _ = signon.ParseOutcome(d.Outcome.Text)
	if d.By.Given() && d.By.Text != "floor" {
		i := slices.IndexFunc(r.rb.Policies, func(p *Policy) bool { return p.Name == d.By.Text })
		switch {
		case i < 0:
			r.unknown(d.By, "policy", keysOf(r.decls.policies.byName))
		case d.Case.Given():
			var labels []string
			for _, c := range r.rb.Policies[i].Cases {
				labels = append(labels, c.Label)
			}
			if !slices.Contains(labels, d.Case.Text) {
				r.fail(d.Case, spell.Hint(d.Case.Text, labels), "the policy %s has no case %q", d.By, d.Case.Text)
			}
		}
	}
	for _, m := range d.Asking {
		if _, ok := r.rb.Methods.Lookup(m.Text); !ok {
			r.unknown(m, "method", r.rb.Methods.Names())
		}
		w.Asking = append(w.Asking, m.Text)
	}
	r.once(d.Asking)
	return w
}

package findings

// Policies and cases that say the same.

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"briskwarden.example/briskwarden/internal/rulebook"
)

// repeated finds policies that say the same, and rules that are kept in two policies for the
// same people, apps and actions.
func (c *checker) repeated() {
	type rule struct {
		scope int // the number of the people, apps, actions and stages that it is for
		text  string
	}
	scopes, policies := map[string]int{}, map[rule]*rulebook.Policy{}
	for _, p := range c.rb.Policies {
		scope := scopeKey(p)
		if _, seen := scopes[scope]; !seen {
			scopes[scope] = len(scopes)
		}
		key := rule{scopes[scope], casesKey(p)}
		if first, ok := policies[key]; ok {
			c.warn(SamePolicy, p.Decl.Name, "take one of them out", "the policy %s says the same as %s (%s:%d)", p.Name, first.Name,
				first.Decl.Name.Pos.File, first.Decl.Name.Pos.Line)
			continue
		}
		policies[key] = p
	}
	type kept struct {
		policy *rulebook.Policy
		label  string
	}
	cases := map[rule]kept{}
	for _, of := range slices.SortedFunc(maps.Keys(policies), func(a, b rule) int { return cmp.Compare(policies[a].Name, policies[b].Name) }) {
		p := policies[of]
		for i := range p.Cases[:len(p.Cases)-1] {
			k := &p.Cases[i]
			key := rule{of.scope, caseKey(k)}
			if first, ok := cases[key]; ok && first.policy != p {
				c.warn(SameCase, labelOf(p, i), "keep the rule in one place", "the case %q says the same as the case %q of %s, for the same people and apps",
					k.Label, first.label, first.policy.Name)
			} else {
				cases[key] = kept{p, k.Label}
			}
		}
	}
}

// scopeKey is equal for policies for the same people, apps, actions and stages, however they are ordered.
func scopeKey(p *rulebook.Policy) string {
	var key strings.Builder
	fmt.Fprint(&key, whoKey(&p.Who), appsKey(p.To.Items), appsKey(p.To.Except), p.Doing)
	for _, s := range p.Stages {
		fmt.Fprint(&key, s.Stage, s.From.Unix())
		if s.For != nil {
			key.WriteString(whoKey(s.For))
		}
	}
	return key.String()
}

func whoKey(w *rulebook.Who) string {
	sorted := func(list []rulebook.PersonSelector) []rulebook.PersonSelector {
		return slices.SortedFunc(slices.Values(list), func(a, b rulebook.PersonSelector) int {
			return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Name, b.Name))
		})
	}
	return fmt.Sprintf("%v%v", sorted(w.Items), sorted(w.Except))
}

func appsKey(list []rulebook.AppSelector) string {
	return fmt.Sprintf("%v", slices.SortedFunc(slices.Values(list), func(a, b rulebook.AppSelector) int {
		return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.Name, b.Name))
	}))
}

func casesKey(p *rulebook.Policy) string {
	var key strings.Builder
	for i := range p.Cases {
		key.WriteString(caseKey(&p.Cases[i]))
	}
	fmt.Fprint(&key, p.Session.Lasts, p.Session.Idle)
	return key.String()
}

// caseKey is equal for cases that decide the same on the same condition.
func caseKey(k *rulebook.Case) string {
	demand := ""
	if k.Demand != nil {
		demand = k.Demand.Text
	}
	return fmt.Sprintf("%q %d %q %q;", k.Text, k.Kind, demand, k.Group)
}

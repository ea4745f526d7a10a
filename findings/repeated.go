package findings

// Policies and cases that say the same.

import (
	"cmp"
	"fmt"
	"slices"

	"briskwarden.example/briskwarden/internal/rulebook"
)

// repeated finds policies that say the same, and rules that are kept in two policies for the
// same people, apps and actions.
func (c *checker) repeated() {
	policies := map[string]*rulebook.Policy{}
	for _, p := range c.rb.Policies {
		key := scopeKey(p) + casesKey(p)
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
	cases := map[string]kept{}
	for _, p := range policiesByName(policies) {
		for i := range p.Cases[:len(p.Cases)-1] {
			k := &p.Cases[i]
			key := scopeKey(p) + caseKey(k)
			if first, ok := cases[key]; ok && first.policy != p {
				c.warn(SameCase, labelOf(p, i), "keep the rule in one place", "the case %q says the same as the case %q of %s, for the same people and apps",
					k.Label, first.label, first.policy.Name)
			} else {
				cases[key] = kept{p, k.Label}
			}
		}
	}
}

func policiesByName(m map[string]*rulebook.Policy) (list []*rulebook.Policy) {
	for _, p := range m {
		list = append(list, p)
	}
	slices.SortFunc(list, func(a, b *rulebook.Policy) int { return cmp.Compare(a.Name, b.Name) })
	return list
}

// scopeKey is equal for policies for the same people, apps, actions and stages, however they are ordered.
func scopeKey(p *rulebook.Policy) string {
	key := whoKey(&p.Who) + fmt.Sprint(appsKey(p.To.Items), appsKey(p.To.Except), p.Doing)
	for _, s := range p.Stages {
		key += fmt.Sprint(s.Stage, s.From.Unix())
		if s.For != nil {
			key += whoKey(s.For)
		}
	}
	return key
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

func casesKey(p *rulebook.Policy) (key string) {
	for i := range p.Cases {
		key += caseKey(&p.Cases[i])
	}
	return key + fmt.Sprint(p.Session.Lasts, p.Session.Idle)
}

// caseKey is equal for cases that decide the same on the same condition.
func caseKey(k *rulebook.Case) string {
	demand := ""
	if k.Demand != nil {
		demand = k.Demand.Text
	}
	return fmt.Sprintf("%q %d %q %q;", k.Text, k.Kind, demand, k.Group)
}

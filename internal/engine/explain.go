package engine

// What an explanation tells.

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"briskwarden.example/briskwarden/internal/condition"
	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// explainer tells in words how a frame's sign-on was decided, and by which facts.
type explainer struct{ *frame }

var _ condition.ExplainedFacts = explainer{}

// explain tells which policies spoke, which stood by and why, and what decided.
func (f explainer) explain(d *signon.Decision, action string, r *ruling) {
	x := d.Explanation
	var watched []signon.Entry
	applies := make(map[*rulebook.Policy]bool, len(f.candidates))
	for i := range f.candidates {
		h := &f.candidates[i]
		applies[h.policy.Policy] = true
		e := f.entry(h)
		x.Policies = append(x.Policies, e)
		switch {
		case h.stage == rulebook.Watch:
			watched = append(watched, e)
		case h.kase.Kind != rulebook.Abstain && h.outcome == r.outcome:
			x.Deciding = append(x.Deciding, e)
		}
	}
	if x.Skipped != nil {
		for _, p := range f.rb.Policies {
			if !applies[p] {
				x.Skipped = append(x.Skipped, signon.Skipped{Policy: p.Name, Why: f.whySkipped(p, action)})
			}
		}
	}
	for _, w := range f.waived {
		x.Waivers = append(x.Waivers, w.Name)
	}
	x.Lapsed = f.lapsed()
	x.Ground = f.groundOf(r)
	if watched != nil {
		x.Watch = &signon.Watch{Outcome: f.rule(f.candidates, true).outcome, Policies: watched}
	}
	x.Known = f.whatIsKnown(d.Next)
	if f.rb.Risk != nil {
		x.Risk = f.rb.Risk.Explain(f)
	}
}

// lapsed are the waivers that are over, and without which something is missing.
func (f explainer) lapsed() (names []string) {
	for _, w := range f.target.waivers {
		if !f.now.Before(w.Until) && f.concerns(w) && slices.ContainsFunc(f.unmet, func(a demand.Asked) bool { return f.wouldLift(w, a) }) {
			names = append(names, w.Name)
		}
	}
	return names
}

func (f explainer) wouldLift(w *rulebook.Waiver, a demand.Asked) bool {
	if a.Terms == &noTerms { // nothing lifts the floor
		return false
	}
	terms := *a.Terms
	terms.Lifts = append(slices.Clone(terms.Lifts), &w.Lift)
	return a.Demand.Met(&f.proof, &terms) || !a.Demand.CanBeMet(&f.proof, a.Terms) && a.Demand.CanBeMet(&f.proof, &terms)
}

func (f explainer) entry(h *candidate) signon.Entry {
	return signon.Entry{Policy: h.policy.Name, Stage: h.stage.String(), Case: h.kase.Label, Outcome: h.kase.Word,
		Sure: h.sure, Why: f.whyCase(h), At: h.kase.Pos.File + ":" + strconv.Itoa(int(h.kase.Pos.Line))}
}

// mostPassed is how many of the cases that an "otherwise" passed over are told.
const mostPassed = 3

func (f explainer) whyCase(h *candidate) string {
	if h.kase.When != nil {
		return condition.Why(h.kase.When, f)
	}
	var passed []string
	more := 0
	for i := range h.policy.Cases[:len(h.policy.Cases)-1] {
		c := &h.policy.Cases[i]
		switch {
		case c.When.Eval(f) != known.False:
		case len(passed) == mostPassed:
			more++
		default:
			passed = append(passed, fmt.Sprintf("not %q: %s", c.Label, condition.Why(c.When, f)))
		}
	}
	switch {
	case len(h.policy.Cases) == 1:
		return "it is the policy's only case"
	case len(passed) == 0:
		return "no case before it is sure"
	case more > 0:
		passed = append(passed, fmt.Sprintf("nor %d more", more))
	}
	return strings.Join(passed, "; ")
}

// whySkipped is the one reason why a policy does not apply.
func (f explainer) whySkipped(p *rulebook.Policy, action string) string {
	app, user := f.target.app, f.person
	switch {
	case !p.To.Holds(app):
		if i := slices.IndexFunc(p.To.Except, func(s rulebook.AppSelector) bool {
			only := rulebook.To{Items: []rulebook.AppSelector{s}}
			return only.Holds(app)
		}); i >= 0 && (&rulebook.To{Items: p.To.Items}).Holds(app) {
			s := p.Decl.Scope.To.Except[i]
			return fmt.Sprintf("to: %s is excepted (%s %s)", app.Name, s.Kind.Text, s.Name)
		}
		return fmt.Sprintf("to: %s is not among its apps", app.Name)
	case !p.Within(action):
		return fmt.Sprintf("doing: %s is not among its actions", action)
	case !p.Who.Holds(user):
		if i := slices.IndexFunc(p.Who.Except, func(s rulebook.PersonSelector) bool { return s.Holds(user) }); i >= 0 &&
			(&rulebook.Who{Items: p.Who.Items}).Holds(user) {
			s := p.Decl.Scope.Who.Except[i]
			return strings.TrimSpace(fmt.Sprintf("who: %s is excepted (%s %s", user.ID, s.Kind.Text, s.Name.Text)) + ")"
		}
		return fmt.Sprintf("who: %s is not among its people", user.ID)
	}
	return "stage: it is a draft"
}

// failedChecks are the labels of the checks that are not true.
func (f *frame) failedChecks(baseline int, labels []string) []string {
	for _, c := range f.rb.Baselines[baseline].Checks {
		if c.When.Eval(f) != known.True {
			labels = append(labels, c.Label)
		}
	}
	return labels
}

package engine

// What is written into a decision: demands, next steps, the message, the session.

import (
	"fmt"
	"slices"
	"time"

	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/schedule"
	"briskwarden.example/briskwarden/signon"
)

// FloorName is the policy name under which the floor stands in demands.
const FloorName = "floor"

// write puts the ruling into the decision: what was asked, what is to be done, for how long it holds.
func (f *frame) write(d *signon.Decision, r *ruling) {
	d.Outcome = r.outcome
	f.unmet = f.unmet[:0]
	var limits limits
	for i := range f.candidates {
		h := &f.candidates[i]
		if h.stage != rulebook.Enforce || h.kase.Kind == rulebook.Abstain {
			continue
		}
		limits.add(&h.policy.Session)
		if h.kase.Kind == rulebook.StepUp {
			f.addDemand(d, h.policy.Name, h.kase.Demand, h.terms, h.met, h.outcome == r.outcome)
		}
	}
	if r.floorAsked {
		f.addDemand(d, FloorName, f.rb.Floor, &noTerms, r.floorMet, r.floor == r.outcome)
	}
	d.Session = limits.text
	f.setMessage(d, r)
	if r.outcome == signon.Review {
		f.addReviews(d)
	}
	if r.hard == nil && !(r.outcome == signon.Block && r.unmatched && f.rb.Unmatched == signon.Block) {
		f.addSteps(d)
	}
}

// addDemand notes a demand, and keeps it for the next steps when it is what the outcome waits for.
func (f *frame) addDemand(d *signon.Decision, policy string, asked *demand.Demand, terms *demand.Terms, met, decides bool) {
	said := false
	for i := len(d.Demands) - 1; i >= 0 && d.Demands[i].Policy == policy && !said; i-- {
		said = d.Demands[i].Demand == asked.Text
	}
	if !said {
		d.Demands = append(d.Demands, signon.Demand{Policy: policy, Demand: asked.Text, Met: met})
	}
	if !met && decides {
		f.unmet = append(f.unmet, demand.Asked{Demand: asked, Terms: terms})
	}
	for _, g := range asked.Graces(&f.proof, terms) {
		notice := fmt.Sprintf("Enrol %s %s by %s", article(g.Method.Name), g.Method.Name, schedule.DateOf(g.Deadline, f.rb.Zone))
		if !slices.Contains(d.Notices, notice) {
			d.Notices = append(d.Notices, notice)
		}
	}
}

func article(noun string) string {
	switch noun[0] {
	case 'a', 'e', 'i', 'o', 'u':
		return "an"
	}
	return "a"
}

// limits are the shortest session limits so far.
type limits struct {
	text        signon.SessionLimits
	lasts, idle time.Duration
}

func (l *limits) add(s *rulebook.Session) {
	if s.LastsText != "" && (l.text.Lifetime == "" || s.Lasts < l.lasts) {
		l.lasts, l.text.Lifetime = s.Lasts, s.LastsText
	}
	if s.IdleText != "" && (l.text.Idle == "" || s.Idle < l.idle) {
		l.idle, l.text.Idle = s.Idle, s.IdleText
	}
}

// setMessage says what the person signing on is told.
func (f *frame) setMessage(d *signon.Decision, r *ruling) {
	own := false
	if d.Message, own = f.message(r); d.Explanation != nil {
		d.Explanation.BuiltIn = d.Message != "" && !own
	}
}

// message is for the person signing on: it says what happens and nothing of the policies. It is
// the policy's own where a case that is sure blocks with one; a block that stands because
// something is unknown does not claim that it is so.
func (f *frame) message(r *ruling) (text string, own bool) {
	switch r.outcome {
	case signon.Grant:
		return "", false
	case signon.Review:
		return "Your request waits for a review.", false
	case signon.StepUp:
		return "Please confirm that it is you.", false
	}
	sure, unsure := false, false
	for i := range f.candidates {
		h := &f.candidates[i]
		switch {
		case h.stage != rulebook.Enforce || h.kase.Kind != rulebook.Block:
		case h.sure && h.kase.Message != "":
			return h.kase.Message, true
		default:
			sure, unsure = sure || h.sure, unsure || !h.sure
		}
	}
	switch {
	case unsure && !sure:
		return "Something about this sign-on could not be verified.", false
	case r.hard != nil:
		return "You cannot sign on here under these circumstances.", false
	case len(f.unmet) == 0:
		return "You have no access here.", false
	}
	return "You cannot give here what is asked for.", false
}

func (f *frame) addReviews(d *signon.Decision) {
	for i := range f.candidates {
		h := &f.candidates[i]
		if h.stage != rulebook.Enforce || h.kase.Kind != rulebook.Review ||
			slices.ContainsFunc(d.Next, func(s signon.Step) bool { return s.Group == h.kase.Group }) {
			continue
		}
		addStep(d, signon.WaitForReview).Group = h.kase.Group
	}
}

// addStep adds a next step, in space that was used before where there is some.
func addStep(d *signon.Decision, do signon.StepKind) *signon.Step {
	if len(d.Next) < cap(d.Next) {
		d.Next = d.Next[:len(d.Next)+1]
	} else {
		d.Next = append(d.Next, signon.Step{})
	}
	s := &d.Next[len(d.Next)-1]
	*s = signon.Step{Do: do, AnyOf: s.AnyOf[:0], Checks: s.Checks[:0]}
	return s
}

// addSteps lists what the person can do about the unmet demands.
func (f *frame) addSteps(d *signon.Decision) {
	if len(f.unmet) == 0 {
		return
	}
	plan := f.planner.Together(&f.proof, f.unmet)
	if d.Outcome == signon.Block {
		for _, b := range plan.Baselines {
			s := addStep(d, signon.Remedy)
			s.Baseline, s.Checks = f.rb.Baselines[b].Name, f.failedChecks(b, s.Checks)
		}
		if len(plan.Enrol) > 0 {
			f.addSets(addStep(d, signon.EnrolElsewhere), plan.Enrol)
		}
		return
	}
	if len(plan.Verify) > 0 {
		f.addSets(addStep(d, signon.Verify), plan.Verify)
	}
	if len(plan.Enrol) > 0 {
		f.addSets(addStep(d, signon.Enrol), plan.Enrol)
	}
	if plan.Change {
		addStep(d, signon.ChangePassword)
	}
	f.setChallenge(d, plan.Verify)
}

// addSets names the methods of each set.
func (f *frame) addSets(s *signon.Step, sets []demand.Set) {
	for _, set := range sets {
		if len(s.AnyOf) < cap(s.AnyOf) {
			s.AnyOf = s.AnyOf[:len(s.AnyOf)+1]
		} else {
			s.AnyOf = append(s.AnyOf, nil)
		}
		names := &s.AnyOf[len(s.AnyOf)-1]
		*names = (*names)[:0]
		set.Each(func(id int) { *names = append(*names, f.rb.Methods.All()[id].Name) })
	}
}

// levels are the values of acr_values.
var levels = [...]string{"", "aal1", "aal2", "aal3"}

// setChallenge gives what a resource server puts into an RFC 9470 challenge: the highest level
// that every set reaches, and the shortest age that is asked for.
func (f *frame) setChallenge(d *signon.Decision, sets []demand.Set) {
	level := len(levels)
	for _, set := range sets {
		level = min(level, f.rb.Methods.Level(set))
	}
	if level < len(levels) {
		d.ACR = levels[level]
	}
	for _, a := range f.unmet {
		if age, ok := a.Demand.MaxAge(&f.proof, a.Terms); ok && (d.MaxAge == signon.NoMaxAge || age < d.MaxAge) {
			d.MaxAge = age
		}
	}
}

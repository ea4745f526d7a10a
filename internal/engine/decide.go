package engine

// The course of a decision, emergency accounts, waivers, and whether somebody may enrol.

import (
	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// enrolment is what is known of whether the user may enrol at the prompt.
type enrolment uint8

const (
	unasked enrolment = iota
	asking
	allowed
	refused
)

// decide works out the decision on a sign-on.
func (f *frame) decide(so *signon.SignOn, d *signon.Decision) error {
	f.begin(so)
	action := so.Action
	if action == "" {
		action = rulebook.SignOn
	}
	stop, ground, err := f.identify(action)
	f.stopped = ground != signon.GroundPolicies
	switch {
	case err != nil:
		return err
	case ground != signon.GroundPolicies:
		d.Message = stop
		if d.Explanation != nil {
			d.Explanation.BuiltIn = true
			d.Explanation.Ground = ground
		}
		f.noneAsked(d, ground)
		return nil
	}
	if err := f.checkStated(); err != nil {
		return err
	}
	if err := f.suppose(); err != nil {
		return err
	}
	f.gather(d)
	f.learn()
	if f.person.BreakGlass {
		f.breakGlass(d)
		f.noneAsked(d, signon.GroundBreakGlass)
		return nil
	}
	f.waive()
	f.candidates = f.gatherCandidates(f.index, f.candidates[:0], d.Explanation != nil || f.trace != nil)
	r := f.rule(f.candidates, false)
	if f.trace != nil { // whoever counts needs no words
		f.fillTrace(f.trace, r.outcome, f.groundOf(&r))
		return nil
	}
	f.write(d, &r)
	if d.Explanation != nil {
		explainer{f}.explain(d, action, &r)
	}
	return nil
}

// noneAsked traces a decision for which no policy was asked.
func (f *frame) noneAsked(d *signon.Decision, ground signon.Ground) {
	if f.trace != nil {
		f.fillTrace(f.trace, d.Outcome, ground)
	}
}

// begin takes a sign-on up.
func (f *frame) begin(so *signon.SignOn) {
	f.so, f.now = so, so.Time
	if f.now.IsZero() {
		f.now = f.e.Now()
	}
}

// mostUnknown is how many methods that are not known are told by name.
const mostUnknown = 20

// breakGlass decides for an emergency account, whose demand alone counts.
func (f *frame) breakGlass(d *signon.Decision) {
	f.enrol = refused
	asked := f.rb.BreakGlass
	met := asked.Met(&f.proof, &noTerms)
	d.Demands = append(d.Demands, signon.Demand{Policy: "break-glass", Demand: asked.Text, Met: met})
	d.Notices = append(d.Notices, "This is an emergency account: its own demand alone decides, and no policy is asked.")
	if d.Explanation != nil {
		d.Explanation.Ground = signon.GroundBreakGlass
	}
	if met {
		d.Outcome = signon.Grant
		return
	}
	f.unmet = append(f.unmet[:0], demand.Asked{Demand: asked, Terms: &noTerms})
	if asked.CanBeMet(&f.proof, &noTerms) {
		d.Outcome = signon.StepUp
	}
	f.setMessage(d, &ruling{outcome: d.Outcome})
	f.addSteps(d)
}

// waive finds the waivers in force.
func (f *frame) waive() {
	for _, w := range f.target.waivers {
		if f.now.Before(w.Until) && f.concerns(w) {
			f.waived = append(f.waived, w)
			f.lifts = append(f.lifts, &w.Lift)
		}
	}
}

// concerns reports whether a waiver is for the sign-on, over or not.
func (f *frame) concerns(w *rulebook.Waiver) bool {
	return w.Who.Holds(f.person) && (w.When == nil || w.When.Eval(f) == known.True)
}

// MayEnrol tells whether the user may enrol at the prompt: whether the same sign-on would
// not be blocked for the action enrol-method, with no enrolment possible in that.
func (f *frame) MayEnrol() bool {
	if f.enrol == unasked {
		f.enrol = asking
		f.enrolled = f.gatherCandidates(f.target.index(rulebook.EnrolMethod), f.enrolled[:0], false)
		r := f.rule(f.enrolled, false)
		f.enrol = refused
		if r.outcome != signon.Block {
			f.enrol = allowed
		}
	}
	return f.enrol == allowed
}

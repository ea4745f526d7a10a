package engine

import (
	"context"
	"fmt"

	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/posture"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// candidate is a case of an applying policy: one that was unknown, or the one taken.
type candidate struct {
	policy *policy
	kase   *rulebook.Case
	terms  *demand.Terms // on which its demand, if any, is made; once it is ruled on
	stage  rulebook.Stage
	sure   bool

	ruled   bool           // whether the two below are worked out
	outcome signon.Outcome // what the case comes to, its demand asked
	met     bool           // whether its demand, if any, is met
}

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
	f.gather(d)
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
		f.explain(d, action, &r)
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

// identify finds the user, the app and the action. Where one of them stops the sign-on, stop says so
// to the person, and ground is no longer that policies decide.
func (f *frame) identify(action string) (stop string, ground signon.Ground, err error) {
	if f.person, err = f.who(); err != nil {
		return "", ground, fmt.Errorf("the user %q cannot be looked up: %w", f.so.User, err)
	}
	target, declared := f.e.targets[f.so.App]
	switch {
	case f.so.User == "":
		return "No user is named.", signon.GroundUnknownUser, nil
	case f.person == nil:
		return fmt.Sprintf("The user %q is not known.", f.so.User), signon.GroundUnknownUser, nil
	case f.person.Active == known.False:
		return fmt.Sprintf("The user %q is disabled.", f.so.User), signon.GroundDisabledUser, nil
	case f.so.App == "":
		return "No app is named.", signon.GroundUnknownTarget, nil
	case !declared:
		return fmt.Sprintf("The app %q is not known.", f.so.App), signon.GroundUnknownTarget, nil
	}
	if f.target, f.index = target, target.index(action); f.index == nil {
		return fmt.Sprintf("The action %q is not known.", action), signon.GroundUnknownTarget, nil
	}
	return "", signon.GroundPolicies, nil
}

// who finds the user, who in a log is often the one of the sign-on before.
func (f *frame) who() (*rulebook.Person, error) {
	if p := f.last; p != nil && p.ID == f.so.User {
		return p, nil
	}
	p, err := f.e.Person(f.ctx, f.so.User)
	if f.e.sources.People == nil { // so that nobody changes
		f.last = p
	}
	return p, err
}

// Person finds a user, in the rulebook or outside; nil is one that is not known.
func (e *Engine) Person(ctx context.Context, id string) (*rulebook.Person, error) {
	if p, ok := e.rb.People[id]; ok || e.sources.People == nil || id == "" {
		return p, nil
	}
	p, found, err := e.sources.People.Person(ctx, id)
	if err != nil || !found {
		return nil, err
	}
	return e.rb.Bind(p)
}

// gather readies what does not depend on any policy: the device and the proof.
func (f *frame) gather(d *signon.Decision) {
	so := f.so
	if so.Device != nil {
		f.hasDevice = true
		f.record = f.recordOf(so.Device.ID)
		f.device = so.Device
		if f.record != nil {
			f.merged = *so.Device
			posture.Merge(&f.merged, f.record)
			f.device = &f.merged
		}
	}
	p := &f.proof
	p.Enrolled, p.Now, p.Joined = f.person.Methods, f.now, f.person.JoinedDay
	p.Session, p.Started, p.Device, p.App = so.Session.ID, so.Session.Started, f.device.ID, so.App
	for _, name := range so.Presented {
		switch id, ok := f.methodID(name); {
		case ok && id == demand.ChangedPassword:
			p.Changed = true
		case ok:
			p.Presented.Add(id)
		}
	}
	for i := range so.Evidence {
		e := &so.Evidence[i]
		if id, ok := f.methodID(e.Method); ok && !e.Time.IsZero() {
			p.Records = append(p.Records, demand.Record{Method: id, Time: e.Time, Session: e.Session, Device: e.Device, App: e.App})
		}
	}
	f.noticeUnknownMethods(d)
}

// mostUnknown is how many methods that are not known are told by name.
const mostUnknown = 20

// noticeUnknownMethods gives a notice of each method that is not known, and so counts for nothing.
func (f *frame) noticeUnknownMethods(d *signon.Decision) {
	for _, name := range f.unknownMethods[:min(len(f.unknownMethods), mostUnknown)] {
		d.Notices = append(d.Notices, fmt.Sprintf("The method %q is not known and counts for nothing.", name))
	}
	if more := len(f.unknownMethods) - mostUnknown; more > 0 {
		d.Notices = append(d.Notices, fmt.Sprintf("Nor are %d more, which count for nothing.", more))
	}
}

// recordOf finds the record of a device, which in a log is often that of the sign-on before.
func (f *frame) recordOf(id string) *posture.Record {
	switch outside := f.e.sources.Inventory; {
	case id == "":
		return nil
	case outside != nil:
		record, err := outside.Device(f.ctx, id)
		if err != nil {
			f.fail(fmt.Errorf("the device %q cannot be looked up: %w", id, err))
			return nil
		}
		return record
	case f.lastDevice != id:
		f.lastDevice, f.lastRecord = id, f.rb.Devices.Device(id)
	}
	return f.lastRecord
}

// methodID finds a method that was presented or recorded. One that the rulebook does not
// know is noted once.
func (f *frame) methodID(name string) (int, bool) {
	if m, ok := f.rb.Methods.Lookup(name); ok {
		return m.ID, true
	}
	if name == demand.ChangePassword {
		return demand.ChangedPassword, true
	}
	if name != "" && !f.noted[name] {
		if f.noted == nil {
			f.noted = map[string]bool{}
		}
		f.noted[name] = true
		f.unknownMethods = append(f.unknownMethods, name)
	}
	return 0, false
}

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
	f.told(d, &ruling{outcome: d.Outcome})
	f.next(d)
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

// gatherCandidates walks the cases of every policy that applies; watched says whether those on watch count.
func (f *frame) gatherCandidates(x *index, list []candidate, watched bool) []candidate {
	f.matched = x.matching(f.person, f.matched[:0])
	for _, p := range f.matched {
		stage := rulebook.Enforce
		if p.staged {
			stage = p.StageOf(f.person, f.now)
		}
		if stage == rulebook.Enforce || stage == rulebook.Watch && watched {
			list = f.addCandidates(p, stage, list)
		}
	}
	return list
}

// addCandidates takes the first case that is true, and keeps those before it that are unknown.
func (f *frame) addCandidates(p *policy, stage rulebook.Stage, list []candidate) []candidate {
	for i, when := range p.conditions {
		switch when.Eval(f) {
		case known.Unknown:
			list = append(list, candidate{policy: p, kase: &p.Cases[i], stage: stage})
		case known.True:
			return append(list, candidate{policy: p, kase: &p.Cases[i], stage: stage, sure: true})
		}
	}
	return append(list, candidate{policy: p, kase: &p.Cases[len(p.conditions)], stage: stage, sure: true})
}

// termsOf are the terms on which a policy makes its demands of this person.
func (f *frame) termsOf(p *policy) *demand.Terms {
	if !p.staged && len(f.lifts) == 0 {
		return &p.terms
	}
	terms := p.terms
	terms.Enforced, terms.Lifts = p.EnforcedFrom(f.person), f.lifts
	f.terms = append(f.terms, terms)
	return &f.terms[len(f.terms)-1]
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

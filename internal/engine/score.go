package engine

// Questions about a sign-on, a device or a waiver other than the decision.

import (
	"context"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/internal/history"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/posture"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/signon"
)

// Risk scores a sign-on by the rulebook's model, and tells the factors if explain asks for
// them, given the sure score. It is nil for a user, app or action that is not known.
func (e *Engine) Risk(ctx context.Context, so *signon.SignOn, explain func(score int) bool) (risk *signon.Risk, err error) {
	err = e.withFrame(ctx, func(f *frame) error {
		if known, err := f.ready(so); err != nil || !known {
			return err
		}
		if score := e.rb.Risk.Score(f); explain(int(score.Low)) {
			risk = e.rb.Risk.Explain(explainer{f})
		} else {
			risk = &signon.Risk{Low: int(score.Low), High: int(score.High)}
		}
		return nil
	})
	return risk, err
}

// Teach has a history learn a sign-on.
func (e *Engine) Teach(ctx context.Context, past *history.Past, so *signon.SignOn) error {
	q, err := e.Query(ctx, so)
	if err == nil {
		past.Learn(&history.SignOn{Query: q, ID: so.ID})
	}
	return err
}

// Query is what a history is asked, or taught, about a sign-on.
func (e *Engine) Query(ctx context.Context, so *signon.SignOn) (q history.Query, err error) {
	err = e.withFrame(ctx, func(f *frame) error {
		f.begin(so)
		if so.Device != nil {
			f.device = so.Device
			f.hasDevice = true
		}
		q = *f.query()
		return nil
	})
	return q, err
}

// FailedChecks are the labels of the checks of some baselines that are not true of a device
// of the inventory in a person's hands. It is not asked where the case, if one is given, cannot
// be about the device.
func (e *Engine) FailedChecks(person *rulebook.Person, record *posture.Record, k *rulebook.Case, baselines []int, at time.Time) (labels []string, asked bool) {
	_ = e.withFrame(context.Background(), func(f *frame) error {
		f.begin(&signon.SignOn{User: person.ID, Time: at, Device: &record.Device})
		f.person, f.device, f.hasDevice, f.record = person, &record.Device, true, record
		f.target = &target{app: &rulebook.App{}} // a device is the same for every app
		if asked = k == nil || k.When == nil || k.When.Eval(f) != known.False; !asked {
			return nil
		}
		for _, b := range baselines {
			labels = f.failedChecks(b, labels)
		}
		return nil
	})
	return labels, asked
}

// LiftsFor are what some waivers take off a person: those that are not over at an instant, and that hold wherever the person signs on
// from and on whatever device.
func (e *Engine) LiftsFor(waivers []*rulebook.Waiver, person *rulebook.Person, at time.Time) (lifts []*demand.Lift) {
	if len(waivers) == 0 {
		return nil
	}
	_ = e.withFrame(context.Background(), func(f *frame) error {
		f.begin(&signon.SignOn{User: person.ID, Time: at})
		f.person, f.target = person, &target{app: &rulebook.App{}}
		for _, w := range waivers {
			if at.Before(w.Until) && ofPeople(w.Decl.When) && f.concerns(w) {
				lifts = append(lifts, &w.Lift)
			}
		}
		return nil
	})
	return lifts
}

// ofPeople reports whether a condition asks about people alone.
func ofPeople(cond ast.Cond) bool {
	for compare := range ast.Comparisons(cond) {
		if name := compare.Fact.Text; name != "group" && !strings.HasPrefix(name, "user.") {
			return false
		}
	}
	return true
}

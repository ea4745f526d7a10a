package engine

// The alerts that a sign-on raises.

import (
	"context"

	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// alerts adds those that the sign-on raises, which came out in some way. Of somebody, or of an app, whom the rulebook does not
// know, nothing is known: an alert on what else is true is raised all the same.
func (f *frame) alerts(list []*rulebook.Alert, outcome signon.Outcome, stopped bool) []*rulebook.Alert {
	who, to := f.person, f.target
	if stopped {
		defer func() { f.person, f.target = who, to }()
		if f.person == nil {
			f.person = &rulebook.Person{ID: f.so.User}
		}
		if f.target = f.e.targets[f.so.App]; f.target == nil {
			f.target = &target{app: &rulebook.App{Name: f.so.App}}
		}
		var unused signon.Decision
		f.gather(&unused)
	}
	for _, a := range f.rb.Alerts {
		if a.Concerns(f.person, f.target.app, outcome) && a.When.Eval(f) == known.True {
			list = append(list, a)
		}
	}
	return list
}

// Raised are the alerts that a sign-on raises which came out in some way, beside what a program remembers.
func (e *Engine) Raised(ctx context.Context, so *signon.SignOn, recalled *Recalled, outcome signon.Outcome) (list []*rulebook.Alert, err error) {
	if len(e.rb.Alerts) == 0 {
		return nil, nil
	}
	err = e.withFrame(ctx, func(f *frame) error {
		f.recalled = recalled
		known, err := f.ready(so)
		if err == nil {
			list = f.alerts(nil, outcome, !known)
		}
		return err
	})
	return list, err
}

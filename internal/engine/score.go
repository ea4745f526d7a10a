package engine

import (
	"cmp"
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
func (e *Engine) Risk(so *signon.SignOn, explain func(score int) bool) (*signon.Risk, error) {
	f := e.frames.Get().(*frame)
	defer func() {
		f.release()
		e.frames.Put(f)
	}()
	f.begin(so)
	stop, err := f.identify(cmp.Or(so.Action, rulebook.SignOn))
	if err != nil || stop != "" {
		return nil, err
	}
	if err := f.checkStated(); err != nil {
		return nil, err
	}
	var unused signon.Decision
	f.gather(&unused)
	if score := e.rb.Risk.Score(f); !explain(int(score.Low)) {
		return &signon.Risk{Low: int(score.Low), High: int(score.High)}, nil
	}
	return e.rb.Risk.Explain(f), nil
}

// Before is what a history is asked, or taught, about a sign-on.
func (e *Engine) Before(so *signon.SignOn) history.Query {
	q := history.Query{User: so.User, At: so.Time, Country: so.Country}
	if q.At.IsZero() {
		q.At = e.Now()
	}
	if so.Device != nil {
		q.Device = so.Device.ID
	}
	if so.IP.IsValid() {
		q.Place = e.locate(so.IP.Unmap())
		q.Country = cmp.Or(q.Country, q.Place.Country)
	}
	return q
}

// FailedChecks are the labels of the checks of some baselines that are not true of a device
// of the inventory in a person's hands. It is not asked where the case, if one is given, cannot
// be about the device.
func (e *Engine) FailedChecks(person *rulebook.Person, record *posture.Record, k *rulebook.Case, baselines []int, at time.Time) (labels []string, asked bool) {
	f := e.frames.Get().(*frame)
	defer func() {
		f.release()
		e.frames.Put(f)
	}()
	f.begin(&signon.SignOn{User: person.ID, Time: at, Device: &record.Device})
	f.person, f.device, f.hasDevice, f.record = person, &record.Device, true, record
	f.target = &target{app: &rulebook.App{}} // a device is the same for every app
	if k != nil && k.When != nil && k.When.Eval(f) == known.False {
		return nil, false
	}
	for _, b := range baselines {
		labels = f.failedChecks(b, labels)
	}
	return labels, true
}

// LiftsFor are what the waivers take off a person, for some app of the policy: those that are not
// over at an instant, and that hold wherever the person signs on from and on whatever device.
func (e *Engine) LiftsFor(p *rulebook.Policy, person *rulebook.Person, at time.Time) (lifts []*demand.Lift) {
	f := e.frames.Get().(*frame)
	defer func() {
		f.release()
		e.frames.Put(f)
	}()
	f.begin(&signon.SignOn{User: person.ID, Time: at})
	f.person, f.target = person, &target{app: &rulebook.App{}}
	for _, w := range e.rb.Waivers {
		if at.Before(w.Until) && ofPeople(w.Decl.When) && f.concerns(w) && e.rb.ShareApp(&p.To, &w.To) {
			lifts = append(lifts, &w.Lift)
		}
	}
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

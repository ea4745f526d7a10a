package engine

// Decisions beside what a program remembers of the person and the session.

import (
	"context"
	"time"

	"briskwarden.example/briskwarden/internal/history"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/posture"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// Recalled is what a program remembers that concerns one sign-on, beside what the sign-on states.
type Recalled struct {
	Person    *rulebook.Person // who signs on, as rulebook and program know them; nil is somebody not known
	Past      history.Source   // in place of the engine's own
	Ended     bool             // the session that the sign-on names
	LastGrant time.Time        // in that session, or its start where there was none: from when on it is idle
	Signals   Signalled

	Learned history.SignOn // filled in: what the sign-on teaches if it is granted
}

// Signalled is what signals say of the person and the device, and who sent them.
type Signalled struct {
	Compromised   known.Truth // that somebody else knows a credential of the person
	CompromisedBy string      // where it is unknown: who should have said so, and is silent
	RiskBy        string      // what raised the person's risk, such as "a signal from fleet"; empty: the directory
	Compliant     known.Truth // of the device; unknown where no signal said
	CompliantAt   time.Time
	CompliantBy   string
}

// comply has a signal's word on the compliance of a device stand, beside its record in the inventory: a word that loosens,
// only if the device has not reported since.
func (s *Signalled) comply(merged *signon.Device, record *posture.Record) (heard bool) {
	switch {
	case s.Compliant == known.False:
		merged.Compliant = signon.No
	case s.Compliant == known.True && !(record.Compliant == signon.No && record.Reported.After(s.CompliantAt)):
		merged.Compliant = signon.Yes
	default:
		return false
	}
	return true
}

// DecideRecalled decides as [Engine.Decide] does, beside what a program remembers: of the person, of the past
// and of the session that is all that counts. It fills in what a grant teaches.
func (e *Engine) DecideRecalled(ctx context.Context, so *signon.SignOn, recalled *Recalled, d *signon.Decision, explain bool) error {
	return e.decide(ctx, so, recalled, d, explained(explain), nil)
}

// DecideAlerting decides as [Engine.DecideRecalled] does, and gives the alerts that the decision raises.
func (e *Engine) DecideAlerting(ctx context.Context, so *signon.SignOn, recalled *Recalled, d *signon.Decision, explain bool) (raised []*rulebook.Alert, err error) {
	err = e.decide(ctx, so, recalled, d, explained(explain), func(f *frame) {
		if len(e.rb.Alerts) > 0 {
			raised = f.alerts(nil, d.Outcome, f.stopped)
		}
	})
	return raised, err
}

// Beside is an engine that decides beside what is remembered of one person and session, and knows that person.
func (e *Engine) Beside(recalled *Recalled) *Engine {
	c := e.copy()
	c.beside = recalled
	return c
}

// With is an engine like this one, of a rulebook with other people.
func (e *Engine) With(people map[string]*rulebook.Person) *Engine {
	return New(e.rb.With(people), e.sources)
}

// Individual is the history of one user: what the rulebook's files say of it, and the sign-ons that a program kept.
// Lost is when the last of those was that the program did not keep; zero is that it kept all.
func (e *Engine) Individual(user string, kept []history.SignOn, lost time.Time) *history.Individual {
	past := e.rb.Past
	if past == nil {
		past = e.nothing()
	}
	return past.Individual(user, kept, lost)
}

// pastSource is what tells what was before; nil is nothing.
func (f *frame) pastSource() history.Source {
	if f.recalled != nil {
		return f.recalled.Past
	}
	return f.e.sources.History
}

// learn fills in what the sign-on teaches whoever remembers.
func (f *frame) learn() {
	if f.recalled != nil {
		f.recalled.Learned = f.lesson()
	}
}

// lesson is what the sign-on teaches a history.
func (f *frame) lesson() history.SignOn {
	if !f.history.done {
		f.query()
	}
	return history.SignOn{Query: f.historyQuery, ID: f.so.ID}
}

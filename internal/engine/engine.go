// Package engine compiles a resolved rulebook once and then decides on sign-ons: many at
// a time, without locks, always the same way, and explaining itself when asked.
package engine

import (
	"context"
	"net/netip"
	"sync"
	"time"

	"briskwarden.example/briskwarden/internal/condition"
	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/internal/directory"
	"briskwarden.example/briskwarden/internal/history"
	"briskwarden.example/briskwarden/internal/place"
	"briskwarden.example/briskwarden/internal/posture"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// People looks up users that the rulebook's files do not have.
type People interface {
	Person(ctx context.Context, id string) (person directory.Person, found bool, err error)
}

// Places tells where addresses are; the zero location is unknown.
type Places interface {
	Locate(ctx context.Context, addr netip.Addr) (place.Location, error)
}

// Inventory looks devices up; nil is one that it does not have. Nobody changes what it gives.
type Inventory interface {
	Device(ctx context.Context, id string) (*posture.Record, error)
}

// Sources supply facts that neither the sign-on nor the rulebook has. What is nil supplies
// nothing, but for Places, Inventory and History, which are then what the rulebook's files say.
// An error of any of them blocks the sign-on that it was asked for.
type Sources struct {
	People    People
	Places    Places
	Inventory Inventory
	History   history.Source
	Clock     func() time.Time // nil is time.Now
}

// Engine decides by one rulebook. It is safe for concurrent use.
type Engine struct {
	rb      *rulebook.Rulebook
	sources Sources
	targets map[string]*target
	frames  sync.Pool
	beside  *Recalled // of every sign-on; nil where each brings its own, or none
	nothing func() *history.Past
}

// target is what the engine keeps of an app.
type target struct {
	app     *rulebook.App
	signOn  index
	others  map[string]*index // by action other than sign-on
	waivers []*rulebook.Waiver
}

// policy is what the engine keeps of a policy, so that walking its cases touches little memory.
type policy struct {
	*rulebook.Policy
	conditions []condition.Node // of all cases but the otherwise
	terms      demand.Terms     // of everybody, unless its stages or a waiver make a difference
	staged     bool             // it has stage lines; else it is enforced
}

// index finds the index of an action; nil for one that is not known.
func (t *target) index(action string) *index {
	if action == rulebook.SignOn {
		return &t.signOn
	}
	return t.others[action]
}

// New compiles a rulebook that has no errors.
func New(rb *rulebook.Rulebook, sources Sources) *Engine {
	if sources.Clock == nil {
		sources.Clock = time.Now
	}
	if sources.History == nil && rb.Past != nil {
		sources.History = rb.Past
	}
	e := &Engine{rb: rb, sources: sources, targets: make(map[string]*target, len(rb.Apps))}
	e.frames.New = func() any { return newFrame(e) }
	e.nothing = sync.OnceValue(func() *history.Past { return history.NewPast(rb.Zone) })
	for name, app := range rb.Apps {
		e.targets[name] = &target{app: app, others: map[string]*index{}}
	}
	for _, t := range e.targets {
		for _, w := range rb.Waivers {
			if w.To.Holds(t.app) {
				t.waivers = append(t.waivers, w)
			}
		}
		for action := range rb.Actions {
			if action != rulebook.SignOn {
				t.others[action] = &index{}
			}
		}
	}
	for _, p := range rb.Policies {
		e.addPolicy(p)
	}
	return e
}

// addPolicy puts the policy into the index of every app and action that it is for.
func (e *Engine) addPolicy(source *rulebook.Policy) {
	p := &policy{Policy: source, staged: len(source.Stages) > 0,
		terms: demand.Terms{Lasts: source.Session.Lasts, Limited: source.Session.LastsText != "",
			Idle: source.Session.Idle, IdleLimited: source.Session.IdleText != ""}}
	for _, c := range source.Cases[:len(source.Cases)-1] {
		p.conditions = append(p.conditions, c.When)
	}
	for _, t := range e.reached(source) {
		for _, action := range p.Doing {
			t.index(action).add(p)
		}
	}
}

// reached are the apps that a policy is for.
func (e *Engine) reached(p *rulebook.Policy) (targets []*target) {
	named := make(map[string]bool, len(p.To.Items))
	for _, item := range p.To.Items {
		if item.Kind != rulebook.IsApp {
			named = nil
			break
		}
		named[item.Name] = true
	}
	if named != nil {
		for name := range named {
			if t := e.targets[name]; p.To.Holds(t.app) {
				targets = append(targets, t)
			}
		}
		return targets
	}
	for _, t := range e.targets {
		if p.To.Holds(t.app) {
			targets = append(targets, t)
		}
	}
	return targets
}

// Learning is an engine that decides by a history of its own: that begins with what the rulebook's
// files say, and is taught by whoever asks.
func (e *Engine) Learning() (*Engine, *history.Past) {
	if e.rb.Past == nil {
		return e.LearningAnew()
	}
	return e.taught(e.rb.Past.Branch())
}

// LearningAnew is an engine that decides by a history of its own, which begins with nothing.
func (e *Engine) LearningAnew() (*Engine, *history.Past) { return e.taught(history.NewPast(e.rb.Zone)) }

func (e *Engine) taught(past *history.Past) (*Engine, *history.Past) {
	learning := e.copy()
	learning.sources.History = past
	return learning, past
}

// copy is the same engine, to be changed before it is used.
func (e *Engine) copy() *Engine {
	c := &Engine{rb: e.rb, sources: e.sources, targets: e.targets, beside: e.beside, nothing: e.nothing}
	c.frames.New = func() any { return newFrame(c) }
	return c
}

// Now is the instant of a sign-on that does not say when it is.
func (e *Engine) Now() time.Time { return e.sources.Clock() }

// Rulebook is the rulebook by which the engine decides.
func (e *Engine) Rulebook() *rulebook.Rulebook { return e.rb }

// Decide decides on the sign-on and writes the decision into d, whose slices are used again.
// With explain it tells how it came about. After an error, such as that the sign-on is not
// valid, d is a block that says so.
func (e *Engine) Decide(ctx context.Context, so *signon.SignOn, d *signon.Decision, explain bool) error {
	return e.decide(ctx, so, e.beside, d, explained(explain), nil)
}

// Reasons decides as [Engine.Decide] does, and tells how it came about but for the policies that did not apply: of a rulebook with
// many, those are nearly all.
func (e *Engine) Reasons(ctx context.Context, so *signon.SignOn, d *signon.Decision) error {
	return e.decide(ctx, so, e.beside, d, &signon.Explanation{Policies: []signon.Entry{}, Waivers: []string{}}, nil)
}

// explained is an explanation to be filled in; nil is that none is asked for.
func explained(asked bool) *signon.Explanation {
	if !asked {
		return nil
	}
	return &signon.Explanation{Policies: []signon.Entry{}, Skipped: []signon.Skipped{}, Waivers: []string{}}
}

// decide decides; an explanation tells of the policies that did not apply if its list of them is not nil.
func (e *Engine) decide(ctx context.Context, so *signon.SignOn, recalled *Recalled, d *signon.Decision, x *signon.Explanation, then func(*frame)) error {
	d.Reset(so.ID, e.rb.Digest)
	d.Explanation = x
	err := so.Validate()
	if err == nil {
		err = e.withFrame(ctx, func(f *frame) error {
			f.recalled = recalled
			err := f.decide(so, d)
			if err == nil && then != nil {
				then(f)
			}
			return err
		})
	}
	if err != nil {
		*d = signon.Refused(so.ID, err)
	}
	return err
}

// withFrame lends a frame to what asks about one sign-on. Its error, or else that of a source
// that was asked meanwhile, is given back.
func (e *Engine) withFrame(ctx context.Context, ask func(*frame) error) error {
	f := e.frames.Get().(*frame)
	f.ctx = ctx
	err := ask(f)
	if err == nil {
		err = f.failed
	}
	f.release()
	e.frames.Put(f)
	return err
}

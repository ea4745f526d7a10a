// Package engine compiles a resolved rulebook once and then decides on sign-ons: many at
// a time, without locks, always the same way, and explaining itself when asked.
package engine

import (
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
	Person(id string) (person directory.Person, found bool, err error)
}

// Geo tells where an address is.
type Geo interface {
	Locate(netip.Addr) (at place.Location, known bool)
}

// Sources supply facts that neither the sign-on nor the rulebook has. What is nil supplies
// nothing, but for Geo, Inventory and History, which are then what the rulebook's files say.
type Sources struct {
	People    People
	Geo       Geo
	Inventory posture.Inventory
	History   history.Source
	Clock     func() time.Time // nil is time.Now
}

// Engine decides by one rulebook. It is safe for concurrent use.
type Engine struct {
	rb         *rulebook.Rulebook
	sources    Sources
	ownGeo     bool // Geo is the rulebook's, which never changes
	ownDevices bool // and so is Inventory
	targets    map[string]*target
	frames     sync.Pool
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
	ownGeo, ownDevices := false, false
	if sources.Geo == nil {
		sources.Geo, ownGeo = rb.Atlas, true
	}
	if sources.Inventory == nil {
		sources.Inventory, ownDevices = rb.Devices, true
	}
	if sources.History == nil && rb.Past != nil {
		sources.History = rb.Past
	}
	e := &Engine{rb: rb, sources: sources, ownGeo: ownGeo, ownDevices: ownDevices, targets: make(map[string]*target, len(rb.Apps))}
	e.frames.New = func() any { return newFrame(e) }
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
		e.place(p)
	}
	return e
}

// place puts the policy into the index of every app and action that it is for.
func (e *Engine) place(source *rulebook.Policy) {
	p := &policy{Policy: source, staged: len(source.Stages) > 0,
		terms: demand.Terms{Lasts: source.Session.Lasts, Limited: source.Session.LastsText != ""}}
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

// locate tells where an address is, as far as the geo sources know.
func (e *Engine) locate(addr netip.Addr) place.Location {
	at, _ := e.sources.Geo.Locate(addr)
	return at
}

// Now is the instant of a sign-on that does not say when it is.
func (e *Engine) Now() time.Time { return e.sources.Clock() }

// Rulebook is the rulebook by which the engine decides.
func (e *Engine) Rulebook() *rulebook.Rulebook { return e.rb }

// Decide decides on the sign-on and writes the decision into d, whose slices are used again.
// With explain it tells how it came about. After an error, such as that the sign-on is not
// valid, d is a block that says so.
func (e *Engine) Decide(so *signon.SignOn, d *signon.Decision, explain bool) error {
	f := e.frames.Get().(*frame)
	d.Reset(so.ID, e.rb.Digest)
	if explain {
		d.Explanation = &signon.Explanation{Policies: []signon.Entry{}, Skipped: []signon.Skipped{}, Waivers: []string{}}
	}
	err := so.Validate()
	if err == nil {
		err = f.decide(so, d)
	}
	f.release()
	e.frames.Put(f)
	if err != nil {
		*d = signon.Refused(so.ID, err)
	}
	return err
}

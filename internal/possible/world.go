package possible

// What all spaces share.

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"briskwarden.example/briskwarden/internal/condition"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// World is what all spaces of some rulebooks share: their comparisons, and what can be stated about the
// facts that they ask about.
type World struct {
	From, Until time.Time // the sign-ons are from the one on, and before the other
	Kinds       []*Kind   // of people whom nothing tells apart

	ctx    context.Context
	sides  []*side
	axes   []*axis // in the order in which they are stated
	byName map[string]*axis
	scopes []scopeKind
	turns  []time.Time // of the schedules, From first
	geo    bool        // some side has a source that tells where addresses are
	owned  bool        // somebody asks whose a device is
	once   sync.Mutex  // for what is worked out when it is first asked

	naming sync.Mutex
	canon  map[string]string // by what was asked of an axis: what was asked first with the same answers
	firsts map[string]string // by the answers: what was asked first

	failing sync.Mutex
	failed  error // the first sign-on that could not be asked about
}

// side is one of the rulebooks.
type side struct {
	number int
	engine *engine.Engine
	rb     *rulebook.Rulebook
	leaves map[string]*leaf // by key
	order  []*leaf
}

// leaf is a comparison of a rulebook. Those that ask the same are one.
type leaf struct {
	condition.Question
	side      *side
	node      condition.Node
	axis      *axis // of what it asks about; nil where that is no axis
	timelines map[string][]timeline
	states    []known.Truth // of a schedule, at each turn
	rows      []row         // of a score
}

// Asked is what a question adds to a rulebook.
type Asked struct {
	Who  *rulebook.Who
	When condition.Node // nil is none
}

// New prepares what is possible from one instant on, before another. The questions are those of each
// side beyond what its rulebook asks.
func New(ctx context.Context, engines []*engine.Engine, from, until time.Time, questions [][]Asked) (*World, error) {
	w := &World{From: from, Until: until, ctx: ctx, byName: map[string]*axis{}, canon: map[string]string{}, firsts: map[string]string{}}
	for i, e := range engines {
		if !e.Listed() {
			return nil, fmt.Errorf("people, places or devices come from a program: they cannot be gone through")
		}
		s := &side{number: i, engine: e, rb: e.Rulebook(), leaves: map[string]*leaf{}}
		w.sides = append(w.sides, s)
		w.geo = w.geo || len(s.rb.Atlas) > 0
		s.each(func(n condition.Node) { s.register(n) })
		for _, q := range questions[i] {
			if q.When != nil {
				s.register(q.When)
			}
		}
	}
	w.findAxes()
	w.findKinds(questions)
	w.findTurns()
	w.findScopes()
	for _, a := range w.axes {
		a.classes()
	}
	return w, w.Err()
}

// each gives all conditions of a rulebook.
func (s *side) each(f func(condition.Node)) {
	for _, p := range s.rb.Policies {
		for i := range p.Cases {
			if when := p.Cases[i].When; when != nil {
				f(when)
			}
		}
	}
	for _, v := range s.rb.Waivers {
		if v.When != nil {
			f(v.When)
		}
	}
	for _, b := range s.rb.Baselines {
		for _, c := range b.Checks {
			f(c.When)
		}
	}
	if s.rb.Risk != nil {
		for _, x := range s.rb.Risk.Factors {
			f(x.When)
		}
	}
	for _, p := range s.rb.Promises {
		if p.When != nil {
			f(p.When)
		}
	}
}

// register notes the comparisons of a condition.
func (s *side) register(n condition.Node) { condition.Fold(n, registering{s}) }

// registering is an algebra that only notes comparisons.
type registering struct{ *side }

func (registering) And([]struct{}) (none struct{})       { return none }
func (registering) Or([]struct{}) (none struct{})        { return none }
func (registering) Not(struct{}) (none struct{})         { return none }
func (registering) Surely(struct{}) (none struct{})      { return none }
func (registering) Known(struct{}, bool) (none struct{}) { return none }

// Comparison notes it.
func (r registering) Comparison(n condition.Node) (none struct{}) {
	q := condition.Asked(n)
	if r.leaves[q.Key] == nil {
		l := &leaf{Question: q, side: r.side, node: n, timelines: map[string][]timeline{}}
		r.leaves[q.Key] = l
		r.order = append(r.order, l)
	}
	return none
}

// leaf finds a comparison that was registered.
func (s *side) leaf(n condition.Node) *leaf { return s.leaves[condition.Asked(n).Key] }

// attribute is the declared attribute that a leaf asks about, or nil.
func (l *leaf) attribute() *fact.Attribute { return l.side.rb.Facts.Attribute(l.Fact.Slot) }

// each gives all comparisons of all sides.
func (w *World) each(f func(*leaf)) {
	for _, s := range w.sides {
		for _, l := range s.order {
			f(l)
		}
	}
}

// probe asks for facts of a sign-on; the error is that of a value that the side refuses.
func (w *World) probe(s *side, so *signon.SignOn, ask func(condition.Facts)) error {
	return s.engine.Probe(w.ctx, Told(s.rb, so), ask)
}

// signalled are the facts that signals bring, and of which event.
var signalled = map[string]rulebook.Event{"user.risk": rulebook.RiskLevelChange, "user.compromised": rulebook.CredentialCompromise}

// Told is a sign-on as a rulebook hears of it: without what signals would tell that it does not accept.
func Told(rb *rulebook.Rulebook, so *signon.SignOn) *signon.SignOn {
	told := so
	for name, event := range signalled {
		if _, supposed := told.Suppose[name]; supposed && !rb.Accepts(event) {
			without := *told
			without.Suppose = maps.Clone(told.Suppose)
			delete(without.Suppose, name)
			told = &without
		}
	}
	return told
}

// Unlike are attributes that sign-ons state, and that have one type in one rulebook and another in the other: no sign-on can state
// them to both.
func (w *World) Unlike() (names []string) {
	types := map[string]fact.Type{}
	for _, s := range w.sides {
		for _, l := range s.order {
			a := l.attribute()
			if a == nil || !a.FromRequest {
				continue
			}
			if t, there := types[l.Fact.Name]; there && t != l.Fact.Type && !slices.Contains(names, l.Fact.Name) {
				names = append(names, l.Fact.Name)
			}
			types[l.Fact.Name] = l.Fact.Type
		}
	}
	slices.Sort(names)
	return names
}

// ask asks for facts of a sign-on that no side should refuse.
func (w *World) ask(s *side, so *signon.SignOn, ask func(condition.Facts)) {
	if err := w.probe(s, so, ask); err != nil {
		w.failing.Lock()
		defer w.failing.Unlock()
		if w.failed == nil {
			w.failed = fmt.Errorf("internal error: a sign-on of the analysis is refused (%w); please report it with the rulebook: %+v", err, so)
		}
	}
}

// GivenUp is the error that time or memory did not reach before anything could be asked: nothing is decided.
type GivenUp struct{ Why string }

func (e *GivenUp) Error() string { return e.Why }

// giveUp notes that nothing can be decided.
func (w *World) giveUp(why string) {
	w.failing.Lock()
	defer w.failing.Unlock()
	if w.failed == nil {
		w.failed = &GivenUp{why}
	}
}

// late reports whether the time is over, which is then noted.
func (w *World) late() bool {
	if w.ctx.Err() == nil {
		return false
	}
	w.giveUp("the time ran out while it was worked out what can be so, and when; allow more, or shorten the span")
	return true
}

// Err is that of the first sign-on that could not be asked about: what was found in spaces is then worth nothing.
func (w *World) Err() error {
	w.failing.Lock()
	defer w.failing.Unlock()
	return w.failed
}

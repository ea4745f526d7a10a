package engine

// The space in which one sign-on is decided.

import (
	"context"
	"time"

	"briskwarden.example/briskwarden/internal/condition"
	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/history"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/place"
	"briskwarden.example/briskwarden/internal/posture"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/set"
	"briskwarden.example/briskwarden/signon"
)

// frame is one sign-on while it is decided. Frames are used again.
type frame struct {
	e      *Engine
	rb     *rulebook.Rulebook
	failed error  // the first of a source
	trace  *Trace // of the decision, for who asked for one; nil for nobody

	stopped bool // user, app, action or session decide by themselves

	request
	values
	scratch
	lately
}

// request is what is decided on. It does not change once it is identified and gathered.
type request struct {
	ctx       context.Context // of who asks, for the sources
	so        *signon.SignOn
	now       time.Time
	person    *rulebook.Person
	target    *target
	index     *index         // of the target, for the action
	device    *signon.Device // merged with the inventory's record; never nil
	hasDevice bool
	record    *posture.Record // of the inventory; nil is none
	complied  bool            // a signal says whether the device is compliant
	supposed  map[fact.Slot]*fact.Value
	recalled  *Recalled // nil where nothing is remembered but what the rulebook's files say
}

// values are the facts of the request that take some work.
type values struct {
	networks     lazy[set.Set]
	where        lazy[place.Location] // of the address
	history      lazy[history.Facts]
	historyQuery history.Query // that the history was asked
	risk         lazy[known.Interval]
	baselines    []lazy[known.Truth]
	enrol        enrolment
}

// reset makes nothing worked out.
func (v *values) reset() {
	v.networks.reset()
	v.where.reset()
	v.history.reset()
	v.risk.reset()
	clear(v.baselines)
	v.enrol = unasked
}

// lazy is a fact that is worked out at most once for a sign-on.
type lazy[T any] struct {
	value T
	done  bool
}

func (l *lazy[T]) reset() {
	if l.done {
		*l = lazy[T]{}
	}
}

// scratch is memory to decide in, and to lay out what was decided.
type scratch struct {
	proof      demand.Proof
	merged     signon.Device // what is stated of a device that the inventory knows
	lifts      []*demand.Lift
	waived     []*rulebook.Waiver // in force
	candidates []candidate
	enrolled   []candidate // while it is asked whether the user may enrol
	terms      []demand.Terms
	unmet      []demand.Asked
	planner    demand.Planner
	matched    []*policy
	traced     signon.Decision // what is traced

	unknownMethods []string        // methods that the rulebook does not know, each once
	noted          map[string]bool // the same
}

// reset keeps the memory, and nothing that was in it.
func (s *scratch) reset() {
	s.proof.Presented, s.proof.Changed, s.proof.Records = 0, false, s.proof.Records[:0]
	s.lifts, s.waived, s.candidates, s.enrolled = s.lifts[:0], s.waived[:0], s.candidates[:0], s.enrolled[:0]
	s.terms, s.unmet = s.terms[:0], s.unmet[:0]
	if s.noted != nil {
		s.unknownMethods, s.noted = nil, nil
	}
}

// lately is what was found for sign-ons before, and stays so: in a log the next is often alike.
type lately struct {
	lists      addressCache[set.Set]        // the networks of addresses
	locations  addressCache[place.Location] // where they are, by the rulebook's own files
	last       *rulebook.Person             // where all are the rulebook's
	lastDevice string                       // in the rulebook's own inventory,
	lastRecord *posture.Record              // and its record
}

func newFrame(e *Engine) *frame {
	f := &frame{e: e, rb: e.rb, request: request{device: &noDevice}, values: values{baselines: make([]lazy[known.Truth], len(e.rb.Baselines))}}
	f.proof.Methods = e.rb.Methods
	f.proof.Posture, f.proof.Enrolment = f, f
	return f
}

// release forgets the sign-on, and keeps the memory.
func (f *frame) release() {
	f.failed, f.request = nil, request{device: &noDevice}
	f.values.reset()
	f.scratch.reset()
}

var _ condition.Facts = (*frame)(nil)

var (
	noDevice  signon.Device
	noConsent signon.Consent
)

// fail notes that a source could not be asked, so that the sign-on is refused.
func (f *frame) fail(err error) {
	if f.failed == nil {
		f.failed = err
	}
}

var unknownValue fact.Value

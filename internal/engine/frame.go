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

// frame is one sign-on while it is decided: its facts, worked out when they are first asked
// for, and the space to work in. Frames are used again.
type frame struct {
	e      *Engine
	rb     *rulebook.Rulebook
	ctx    context.Context // of who asks, for the sources
	failed error           // the first of a source
	so     *signon.SignOn
	now    time.Time
	person *rulebook.Person
	target *target
	index  *index          // of the target, for the action
	trace  *Trace          // of the decision, for who asked for one; nil for nobody
	traced signon.Decision // what is traced
	proof  demand.Proof
	lifts  []*demand.Lift
	waived []*rulebook.Waiver // in force
	enrol  enrolment

	device    *signon.Device // merged with the inventory's record; never nil
	merged    signon.Device
	hasDevice bool
	record    *posture.Record // of the inventory; nil is none

	networks  lazy[set.Set]
	where     lazy[place.Location] // of the address
	history   lazy[history.Facts]
	before    history.Query // that the history was asked
	risk      lazy[known.Interval]
	baselines []lazy[known.Truth]

	lists  addressCache[set.Set]        // the networks of addresses
	places addressCache[place.Location] // where they are, by the rulebook's own files

	last       *rulebook.Person // the person found before, where all are the rulebook's
	lastDevice string           // the device found before in the rulebook's own inventory,
	lastRecord *posture.Record  // and its record

	candidates []candidate
	enrolled   []candidate // while it is asked whether the user may enrol
	terms      []demand.Terms
	unmet      []demand.Asked
	planner    demand.Planner
	matched    []*policy

	unknownMethods []string        // methods that the rulebook does not know, each once
	noted          map[string]bool // the same
}

// lazy is a fact that is worked out at most once for a sign-on.
type lazy[T any] struct {
	value T
	done  bool
}

func newFrame(e *Engine) *frame {
	f := &frame{e: e, rb: e.rb, device: &noDevice, baselines: make([]lazy[known.Truth], len(e.rb.Baselines))}
	f.proof.Methods = e.rb.Methods
	f.proof.Posture, f.proof.Enrolment = f, f
	return f
}

// release forgets the sign-on and keeps the space.
func (f *frame) release() {
	clear(f.baselines)
	f.ctx, f.failed, f.so, f.person, f.target, f.index = nil, nil, nil, nil, nil, nil
	f.enrol, f.waived, f.lifts = unasked, f.waived[:0], f.lifts[:0]
	if f.hasDevice {
		f.device, f.hasDevice = &noDevice, false
	}
	if f.record != nil {
		f.record, f.merged = nil, signon.Device{}
	}
	f.networks, f.risk = lazy[set.Set]{}, lazy[known.Interval]{}
	if f.where.done {
		f.where = lazy[place.Location]{}
	}
	if f.history.done {
		f.history = lazy[history.Facts]{}
	}
	p := &f.proof
	p.Presented, p.Changed, p.Records = 0, false, p.Records[:0]
	if f.noted != nil {
		f.unknownMethods, f.noted = nil, nil
	}
	f.candidates, f.enrolled, f.terms, f.unmet = f.candidates[:0], f.enrolled[:0], f.terms[:0], f.unmet[:0]
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

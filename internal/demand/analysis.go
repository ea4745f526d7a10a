package demand

// Demands for those who ask what holds for every possible sign-on.

import (
	"slices"
	"time"
)

// Algebra has the truth values of an analysis, and what demands ask of a sign-on in them.
type Algebra[T any] interface {
	And(parts ...T) T
	Or(parts ...T) T
	Not(x T) T
	Shown(method int, fresh *Fresh) T // it is proved that freshly; of [ChangedPassword] too
	Enrolled(method int) T
	Meets(baseline int) T
	InGrace(grace time.Duration) T // of an enrol
	Lifted(covers func(*Lift) bool) T
}

// Means say with what a demand is to be met.
type Means uint8

// The means, each with more than the one before.
const (
	WithProof     Means = iota // with what is proved: it is met
	WithEnrolled               // and with the methods that the user is enrolled in
	WithEnrolling              // and with those that the user could enrol in
)

// Fold works out in an algebra whether a demand is met, or can be by the means: as it is written, or with
// what is lifted taken out.
func Fold[T any](d *Demand, methods *Methods, a Algebra[T], means Means) T {
	f := folding[T]{a, methods, means, false}
	written, _ := f.node(d.root)
	f.lifting = true
	held, gone := f.node(d.root)
	return a.Or(written, held, gone)
}

type folding[T any] struct {
	Algebra[T]
	methods *Methods
	means   Means
	lifting bool
}

func (f *folding[T]) no() T  { return f.Or() }
func (f *folding[T]) yes() T { return f.And() }

// node tells whether a part holds, and whether it is gone, as [evaluation.node] does.
func (f *folding[T]) node(n *node) (held, gone T) {
	lifted := f.no()
	if f.lifting {
		lifted = f.Lifted(func(l *Lift) bool { return l.covers(n) })
	}
	switch n.op {
	case named:
		held, gone = f.node(n.parts[0])
	case and, or:
		var holds, goes []T
		for _, part := range n.parts {
			h, g := f.node(part)
			goes = append(goes, g)
			if n.op == and {
				holds = append(holds, f.Or(h, g))
			} else {
				holds = append(holds, f.And(h, f.Not(g)))
			}
		}
		gone = f.And(goes...)
		if held = f.Or(holds...); n.op == and {
			held = f.And(holds...)
		}
	default:
		held, gone = f.atom(n), f.no()
	}
	return f.Or(lifted, held), f.Or(lifted, gone)
}

func (f *folding[T]) atom(n *node) T {
	switch {
	case n.op == deviceMeets:
		return f.Meets(n.baseline)
	case n.op == changePassword && f.means > WithProof:
		return f.yes()
	case n.op == changePassword:
		return f.Shown(ChangedPassword, &n.fresh)
	case f.means == WithEnrolling:
		return f.yes()
	case n.op == level:
		return f.reach(n)
	case n.op == enrol && n.hasGrace:
		return f.Or(f.Enrolled(n.method.ID), f.InGrace(n.grace))
	case n.op == enrol:
		return f.Enrolled(n.method.ID)
	}
	return f.has(n.method.ID, &n.fresh)
}

// has tells whether a method is at hand.
func (f *folding[T]) has(method int, fresh *Fresh) T {
	if f.means > WithProof {
		return f.Or(f.Shown(method, fresh), f.Enrolled(method))
	}
	return f.Shown(method, fresh)
}

// reach tells whether the methods at hand reach a level, as [Methods.Reach] does.
func (f *folding[T]) reach(n *node) T {
	t := f.methods
	any := func(s Set) T {
		var list []T
		s.Each(func(id int) { list = append(list, f.has(id, &n.fresh)) })
		return f.Or(list...)
	}
	var all Set
	kinds := make([]T, len(t.kinds))
	for k := range t.kinds {
		kinds[k] = any(t.kinds[k])
		all |= t.kinds[k]
	}
	two := f.Or(f.And(kinds[0], kinds[1]), f.And(kinds[0], kinds[2]), f.And(kinds[1], kinds[2]))
	switch n.level {
	case 1:
		return any(all)
	case 2:
		return f.Or(any(t.verifies), two)
	}
	return f.Or(any(t.strong&t.verifies), f.And(any(t.strong), two))
}

// HasGrace reports whether somewhere in a demand an enrolment may be late, so that it counts when somebody joined.
func (d *Demand) HasGrace() bool { return d.root.hasGraceWithin() }

func (n *node) hasGraceWithin() bool {
	return n.hasGrace || slices.ContainsFunc(n.parts, (*node).hasGraceWithin)
}

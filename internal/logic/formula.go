package logic

// Formulas, and how they are put together.

import (
	"encoding/binary"
	"slices"
)

// Formula is a formula in the making, with its solver. Equal parts are built once.
type Formula struct {
	*Solver
	gates map[string]Lit
	key   []byte
}

// NewFormula returns a formula without variables.
func NewFormula() *Formula {
	return &Formula{Solver: newSolver(), gates: map[string]Lit{}}
}

// Variable adds a variable.
func (f *Formula) Variable() Lit { return f.variable() }

// Prefer has a literal be tried as true first.
func (f *Formula) Prefer(l Lit) { f.vars[l.variable()].phase = l&1 == 0 }

// Variables counts the variables.
func (f *Formula) Variables() int { return len(f.vars) }

// Require has one of the literals be true in all that is found from now on.
func (f *Formula) Require(oneOf ...Lit) { f.add(oneOf...) }

// Imply has the consequence be true wherever all conditions are.
func (f *Formula) Imply(consequence Lit, conditions ...Lit) {
	list := make([]Lit, 0, len(conditions)+1)
	for _, c := range conditions {
		list = append(list, c.Not())
	}
	f.add(append(list, consequence)...)
}

// And is true where all parts are.
func (f *Formula) And(parts ...Lit) Lit {
	list := make([]Lit, 0, len(parts))
	for _, l := range parts {
		switch l {
		case No:
			return No
		case Yes:
		default:
			list = append(list, l)
		}
	}
	slices.Sort(list)
	list = slices.Compact(list)
	for i := 1; i < len(list); i++ {
		if list[i] == list[i-1].Not() {
			return No
		}
	}
	switch len(list) {
	case 0:
		return Yes
	case 1:
		return list[0]
	}
	f.key = f.key[:0]
	for _, l := range list {
		f.key = binary.LittleEndian.AppendUint32(f.key, uint32(l))
	}
	if gate, built := f.gates[string(f.key)]; built {
		return gate
	}
	gate := f.variable()
	f.gates[string(f.key)] = gate
	back := []Lit{gate}
	for _, l := range list {
		f.add(gate.Not(), l)
		back = append(back, l.Not())
	}
	f.add(back...)
	return gate
}

// Or is true where some part is.
func (f *Formula) Or(parts ...Lit) Lit {
	list := make([]Lit, len(parts))
	for i, l := range parts {
		list[i] = l.Not()
	}
	return f.And(list...).Not()
}

// If is one of two, as the condition says.
func (f *Formula) If(condition, then, otherwise Lit) Lit {
	if then == otherwise {
		return then
	}
	return f.Or(f.And(condition, then), f.And(condition.Not(), otherwise))
}

// Weighed is a literal and what it adds to a sum where it is true.
type Weighed struct {
	Lit    Lit
	Weight int // more than 0
}

// AtLeast is true where the weights of the literals that are true add up to a bound.
func (f *Formula) AtLeast(list []Weighed, bound int) Lit {
	rest := make([]int, len(list)+1) // what the literals from there on can add
	for i := len(list) - 1; i >= 0; i-- {
		rest[i] = rest[i+1] + list[i].Weight
	}
	type sum struct{ from, bound int }
	built := map[sum]Lit{}
	var from func(at, bound int) Lit
	from = func(at, bound int) Lit {
		switch {
		case bound <= 0:
			return Yes
		case rest[at] < bound:
			return No
		}
		if l, again := built[sum{at, bound}]; again {
			return l
		}
		with, without := from(at+1, bound-list[at].Weight), from(at+1, bound)
		l := f.Or(without, f.And(list[at].Lit, with))
		built[sum{at, bound}] = l
		return l
	}
	return from(0, bound)
}

// Three is a proposition of three values: unknown where it may be true and need not.
type Three struct {
	Must Lit // it is true
	May  Lit // it is not false
}

// The propositions that always have one of the three values.
var (
	True    = Three{Yes, Yes}
	False   = Three{No, No}
	Unknown = Three{No, Yes}
)

// Not3 is the strong negation.
func (x Three) Not() Three { return Three{x.May.Not(), x.Must.Not()} }

// And3 is the strong conjunction.
func (f *Formula) And3(parts []Three) Three {
	must, may := make([]Lit, len(parts)), make([]Lit, len(parts))
	for i, p := range parts {
		must[i], may[i] = p.Must, p.May
	}
	return Three{f.And(must...), f.And(may...)}
}

// Or3 is the strong disjunction.
func (f *Formula) Or3(parts []Three) Three {
	must, may := make([]Lit, len(parts)), make([]Lit, len(parts))
	for i, p := range parts {
		must[i], may[i] = p.Must, p.May
	}
	return Three{f.Or(must...), f.Or(may...)}
}

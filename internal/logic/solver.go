// Package logic decides whether propositions can be true together: formulas that are built up from
// variables with "and", "or" and "not", and a solver that finds values for the variables, or that there
// are none.
//
// The solver decides on one variable after the other, and draws from each decision what follows: a clause all of whose literals but
// one are false makes that one true. Where a clause has none left, it finds out which decisions led there, keeps that as a
// new clause, and goes back to the decision from which on the clause says more. It ends with values for all variables, or with
// a conflict that rests on no decision.
package logic

import (
	"context"
	"slices"
)

// Lit is a variable, or its negation.
type Lit int32

// The propositions that are always false and always true.
const (
	No  Lit = 0
	Yes Lit = 1
)

// Not is the negation.
func (l Lit) Not() Lit { return l ^ 1 }

func (l Lit) variable() int { return int(l >> 1) }

// Answer is what a solver finds.
type Answer uint8

// The answers of a solver.
const (
	Undecided  Answer = iota // the time ran out
	Impossible               // there are no such values
	Possible
)

// Solver finds values for variables that make clauses true. It learns a clause from every conflict, and
// keeps what it learned from one question to the next. The zero Solver is not ready: use newSolver.
//
// A clause is watched by its first two literals: only when one of them becomes false is it looked at.
// Variables that were in conflicts lately are decided on first.
type Solver struct {
	clauses []clause
	watches [][]watch // by literal: clauses to look at when it becomes false
	values  []int8    // by literal: 1 true, -1 false, 0 open
	vars    []variable
	trail   []Lit // the literals that are true, in the order in which they became so
	limits  []int // where in the trail each decision stands
	next    int   // in the trail, from where on it is not propagated yet
	order   heap
	step    float64 // by how much a conflict raises the activity of a variable
	seen    []bool  // variables, while a conflict is looked into
	learned int     // how many learned clauses there are
	most    int     // how many there may be until some are forgotten
	broken  bool    // the clauses contradict each other
	room    []Lit   // for more clauses
	scratch []Lit

	// Conflicts counts the conflicts that were met, as a measure of the work.
	Conflicts int
	model     []int8
}

type clause struct {
	lits    []Lit
	learned bool
	gone    bool
	spread  int // of how many decisions its literals were when it was learned; less is worth more
}

type watch struct {
	clause int32
	other  Lit // some other literal of it: true, and there is nothing to look at
}

type variable struct {
	level    int32
	reason   int32 // the clause that forced it, or noReason
	activity float64
	phase    bool // the value that it had last
}

const noReason = -1

func newSolver() *Solver {
	s := &Solver{step: 1, most: 4000}
	s.order.less = func(a, b int32) bool { return s.vars[a].activity > s.vars[b].activity }
	constant := s.variable()
	s.assign(constant.Not(), noReason)
	return s
}

// variable adds a variable.
func (s *Solver) variable() Lit {
	n := len(s.vars)
	s.vars = append(s.vars, variable{reason: noReason})
	s.values = append(s.values, 0, 0)
	s.watches = append(s.watches, nil, nil)
	s.seen = append(s.seen, false)
	s.order.add(int32(n))
	return Lit(2 * n)
}

// add adds a clause: that one of the literals is true.
func (s *Solver) add(lits ...Lit) {
	s.backTo(0)
	s.scratch = append(s.scratch[:0], lits...)
	list := s.scratch
	slices.Sort(list)
	list = slices.Compact(list)
	kept := list[:0]
	for i, l := range list {
		if s.values[l] > 0 || i > 0 && list[i-1] == l.Not() {
			return
		}
		if s.values[l] == 0 {
			kept = append(kept, l)
		}
	}
	switch len(kept) {
	case 0:
		s.broken = true
	case 1:
		s.assign(kept[0], noReason)
		s.broken = s.broken || s.propagate() != noReason
	default:
		s.attach(clause{lits: s.kept(kept)})
	}
}

// kept copies literals to where clauses are kept, one after the other.
func (s *Solver) kept(lits []Lit) []Lit {
	const chunk = 1 << 14
	if len(s.room) < len(lits) {
		s.room = make([]Lit, max(chunk, len(lits)))
	}
	list := s.room[:len(lits):len(lits)]
	s.room = s.room[len(lits):]
	copy(list, lits)
	return list
}

func (s *Solver) attach(c clause) int32 {
	n := int32(len(s.clauses))
	s.clauses = append(s.clauses, c)
	s.watches[c.lits[0]] = append(s.watches[c.lits[0]], watch{n, c.lits[1]})
	s.watches[c.lits[1]] = append(s.watches[c.lits[1]], watch{n, c.lits[0]})
	return n
}

func (s *Solver) assign(l Lit, reason int32) {
	s.values[l], s.values[l.Not()] = 1, -1
	v := &s.vars[l.variable()]
	v.level, v.reason, v.phase = int32(len(s.limits)), reason, l&1 == 0
	s.trail = append(s.trail, l)
}

// propagate draws the conclusions of what is true, and gives a clause that is then false, or noReason.
func (s *Solver) propagate() int32 {
	for s.next < len(s.trail) {
		no := s.trail[s.next].Not()
		s.next++
		list := s.watches[no]
		kept := list[:0]
		for i := 0; i < len(list); i++ {
			w := list[i]
			if s.values[w.other] > 0 {
				kept = append(kept, w)
				continue
			}
			c := &s.clauses[w.clause]
			if c.gone {
				continue
			}
			if c.lits[0] == no {
				c.lits[0], c.lits[1] = c.lits[1], no
			}
			first := c.lits[0]
			if s.values[first] > 0 {
				kept = append(kept, watch{w.clause, first})
				continue
			}
			if s.watchAnother(w.clause, c) {
				continue
			}
			kept = append(kept, watch{w.clause, first})
			if s.values[first] < 0 {
				kept = append(kept, list[i+1:]...)
				s.watches[no] = kept
				s.next = len(s.trail)
				return w.clause
			}
			s.assign(first, w.clause)
		}
		s.watches[no] = kept
	}
	return noReason
}

// watchAnother watches a literal that is not false in place of the second.
func (s *Solver) watchAnother(n int32, c *clause) bool {
	for k := 2; k < len(c.lits); k++ {
		if l := c.lits[k]; s.values[l] >= 0 {
			c.lits[1], c.lits[k] = l, c.lits[1]
			s.watches[l] = append(s.watches[l], watch{n, c.lits[0]})
			return true
		}
	}
	return false
}

// backTo takes back all decisions but the first few.
func (s *Solver) backTo(level int) {
	if len(s.limits) <= level {
		return
	}
	for i := len(s.trail) - 1; i >= s.limits[level]; i-- {
		l := s.trail[i]
		s.values[l], s.values[l.Not()] = 0, 0
		s.order.add(int32(l.variable()))
	}
	s.trail = s.trail[:s.limits[level]]
	s.limits = s.limits[:level]
	s.next = len(s.trail)
}

// Solve looks for values that make all clauses and the assumptions true. It gives up when the context
// is done.
func (s *Solver) Solve(ctx context.Context, assumptions ...Lit) Answer {
	s.backTo(0)
	if s.broken {
		return Impossible
	}
	for round := 1; ctx.Err() == nil; round++ {
		switch a := s.search(ctx, assumptions, 100*luby(round)); {
		case a != Undecided:
			s.backTo(0)
			return a
		}
		s.backTo(0)
	}
	return Undecided
}

// luby is the sequence 1 1 2 1 1 2 4 …, by which searches are begun anew.
func luby(i int) int {
	for k := 1; ; k++ {
		if i == 1<<k-1 {
			return 1 << (k - 1)
		}
		if i < 1<<k-1 {
			return luby(i - 1<<(k-1) + 1)
		}
	}
}

// search looks for values until so many conflicts were met.
func (s *Solver) search(ctx context.Context, assumptions []Lit, conflicts int) Answer {
	for {
		if conflict := s.propagate(); conflict != noReason {
			if len(s.limits) == 0 {
				s.broken = true
				return Impossible
			}
			s.resolve(conflict)
			s.Conflicts++
			if conflicts--; conflicts <= 0 || s.Conflicts%64 == 0 && ctx.Err() != nil {
				return Undecided
			}
			continue
		}
		if s.learned > s.most {
			s.forget()
		}
		l, ok := s.assumed(assumptions)
		if !ok {
			return Impossible
		}
		if l < 0 {
			if l = s.open(); l < 0 {
				s.model = append(s.model[:0], s.values...)
				return Possible
			}
		}
		s.limits = append(s.limits, len(s.trail))
		s.assign(l, noReason)
	}
}

// resolve learns from a conflict and goes back to where it would not have come to it.
func (s *Solver) resolve(conflict int32) {
	lits, level := s.learn(conflict)
	spread := s.spread(lits)
	s.backTo(level)
	s.step /= 0.95
	if len(lits) == 1 {
		s.assign(lits[0], noReason)
		return
	}
	n := s.attach(clause{lits: lits, learned: true, spread: spread})
	s.learned++
	s.assign(lits[0], n)
}

// spread counts the decisions that the literals hang on.
func (s *Solver) spread(lits []Lit) int {
	levels := make([]int32, len(lits))
	for i, l := range lits {
		levels[i] = s.vars[l.variable()].level
	}
	slices.Sort(levels)
	return len(slices.Compact(levels))
}

// assumed gives the next assumption to decide on; -1 when there is none, and not ok when one is false.
func (s *Solver) assumed(assumptions []Lit) (l Lit, ok bool) {
	for len(s.limits) < len(assumptions) {
		switch l := assumptions[len(s.limits)]; {
		case s.values[l] > 0:
			s.limits = append(s.limits, len(s.trail))
		case s.values[l] < 0:
			return -1, false
		default:
			return l, true
		}
	}
	return -1, true
}

// open is the variable to decide on next, with the value that it had last; -1 when all have one.
func (s *Solver) open() Lit {
	for !s.order.empty() {
		v := int(s.order.pop())
		l := Lit(2 * v)
		if s.values[l] != 0 {
			continue
		}
		if s.vars[v].phase {
			return l
		}
		return l.Not()
	}
	return -1
}

// forget drops the half of the learned clauses that is worth least.
func (s *Solver) forget() {
	locked := func(n int32) bool {
		l := s.clauses[n].lits[0]
		return s.values[l] > 0 && s.vars[l.variable()].reason == n
	}
	var list []int32
	for n := range s.clauses {
		if c := &s.clauses[n]; c.learned && !c.gone && c.spread > 2 && !locked(int32(n)) {
			list = append(list, int32(n))
		}
	}
	slices.SortStableFunc(list, func(a, b int32) int { return s.clauses[b].spread - s.clauses[a].spread })
	for _, n := range list[:len(list)/2] {
		s.clauses[n].gone, s.clauses[n].lits = true, nil
		s.learned--
	}
	for l := range s.watches {
		s.watches[l] = slices.DeleteFunc(s.watches[l], func(w watch) bool { return s.clauses[w.clause].gone })
	}
	s.most += s.most / 10
}

// Holds tells the value of a literal in what Solve found last.
func (s *Solver) Holds(l Lit) bool {
	return int(l) < len(s.model) && s.model[l] > 0
}

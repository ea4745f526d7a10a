package logic

// What is learned from conflicts.

import "slices"

// learn finds what follows from a conflict: a clause with one literal of the last decision, and the
// level to go back to, where that literal is then forced.
func (s *Solver) learn(conflict int32) (lits []Lit, level int) {
	lits = []Lit{0}
	open, i, at := 0, len(s.trail), Lit(-1)
	for {
		c := &s.clauses[conflict]
		for _, l := range c.lits {
			v := l.variable()
			if l == at || s.seen[v] || s.vars[v].level == 0 {
				continue
			}
			s.seen[v] = true
			s.raise(v)
			if int(s.vars[v].level) == len(s.limits) {
				open++
			} else {
				lits = append(lits, l)
			}
		}
		for i--; !s.seen[s.trail[i].variable()]; i-- {
		}
		at = s.trail[i]
		s.seen[at.variable()] = false
		if open--; open == 0 {
			break
		}
		conflict = s.vars[at.variable()].reason
	}
	lits[0] = at.Not()
	marked := slices.Clone(lits[1:])
	lits = append(lits[:1], slices.DeleteFunc(lits[1:], s.implied)...)
	for _, l := range marked {
		s.seen[l.variable()] = false
	}
	for k := 1; k < len(lits); k++ {
		if l := int(s.vars[lits[k].variable()].level); l > level {
			level = l
			lits[1], lits[k] = lits[k], lits[1]
		}
	}
	return lits, level
}

// implied reports a literal of a learned clause that is false because others of it are.
func (s *Solver) implied(l Lit) bool {
	reason := s.vars[l.variable()].reason
	if reason == noReason {
		return false
	}
	for _, r := range s.clauses[reason].lits {
		if v := r.variable(); v != l.variable() && !s.seen[v] && s.vars[v].level > 0 {
			return false
		}
	}
	return true
}

// raise makes it more likely that a variable is decided on soon.
func (s *Solver) raise(v int) {
	if s.vars[v].activity += s.step; s.vars[v].activity > 1e100 {
		for i := range s.vars {
			s.vars[i].activity *= 1e-100
		}
		s.step *= 1e-100
	}
	s.order.up(int32(v))
}

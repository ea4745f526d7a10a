package demand

import "slices"

// mostWays is how many alternatives are followed and listed; a demand that offers more
// lists the first ones.
const mostWays = 64

// Asked is an unmet demand and the terms on which it is made.
type Asked struct {
	Demand *Demand
	Terms  *Terms
}

// Plan is what would meet some demands together.
type Plan struct {
	Verify    []Set // sets of enrolled methods to present, by preference
	Enrol     []Set // sets of methods to enrol in
	Change    bool  // the password is to be changed
	Baselines []int // the device is to be mended to meet these
}

// way is one alternative that would meet a demand.
type way struct {
	present Set    // methods to present
	enrol   Set    // methods that an enrol asks for
	change  bool   // change the password
	mend    uint64 // baselines to meet, by their index among those that fail
}

func (w way) within(v way) bool {
	return w.present.Within(v.present) && w.enrol.Within(v.enrol) && (!w.change || v.change) && w.mend&^v.mend == 0
}

func (w way) and(v way) way {
	return way{w.present | v.present, w.enrol | v.enrol, w.change || v.change, w.mend | v.mend}
}

// Planner finds what would meet demands. It keeps its space for the next time; the zero
// Planner is ready to use, by one goroutine at a time.
type Planner struct {
	evaluation
	failing []int // baselines that the device fails
	space   []way // where lists of ways are made
	plan    Plan
}

// Together finds what would meet all the demands, at the prompt if that can be, else with
// the device mended or an enrolment made elsewhere. The plan is good until the next call.
func (l *Planner) Together(p *Proof, asked []Asked) *Plan {
	l.evaluation = evaluation{proof: p}
	l.failing, l.space = l.failing[:0], l.space[:0]
	l.plan = Plan{Verify: l.plan.Verify[:0], Enrol: l.plan.Enrol[:0], Baselines: l.plan.Baselines[:0]}
	ways := l.list(way{})
	for _, a := range asked {
		l.terms, l.lifting = a.Terms, false
		alternatives, _ := l.ways(a.Demand.root)
		if len(a.Terms.Lifts) > 0 {
			l.lifting = true
			lifted, gone := l.ways(a.Demand.root)
			if gone {
				lifted = l.list(way{})
			}
			alternatives = l.smallest(l.list(alternatives...), lifted)
		}
		ways = l.cross(ways, alternatives)
	}
	l.choose(ways)
	return &l.plan
}

// list makes a list of ways in the planner's space.
func (l *Planner) list(ways ...way) []way {
	start := len(l.space)
	l.space = append(l.space, ways...)
	return l.space[start:len(l.space):len(l.space)]
}

// smallest puts lists together, and leaves out every way that asks for all that another asks for.
func (l *Planner) smallest(a, b []way) []way {
	all := l.list(a...)
	if len(b) > 0 {
		start := len(l.space) - len(all)
		l.space = append(l.space, b...)
		all = l.space[start:len(l.space):len(l.space)]
	}
	start := len(l.space)
	for i, w := range all {
		superfluous := slices.ContainsFunc(all[:i], func(v way) bool { return v.within(w) }) ||
			slices.ContainsFunc(all[i+1:], func(v way) bool { return v.within(w) && !w.within(v) })
		if !superfluous {
			if l.space = append(l.space, w); len(l.space)-start == mostWays {
				break
			}
		}
	}
	return l.space[start:len(l.space):len(l.space)]
}

func (l *Planner) cross(a, b []way) []way {
	if len(a) == 1 && a[0] == (way{}) {
		return b
	}
	start := len(l.space)
	for _, v := range a {
		for _, w := range b {
			l.space = append(l.space, v.and(w))
		}
	}
	return l.smallest(l.space[start:len(l.space):len(l.space)], nil)
}

// choose picks the ways that ask for the least beyond what the person can do here: first
// without mending the device, then without enrolling, then without a new password.
func (l *Planner) choose(ways []way) {
	plan := &l.plan
	if len(ways) == 0 {
		return
	}
	missing := func(w way) Set { return w.present &^ l.proof.Enrolled }
	least := slices.MinFunc(ways, func(a, b way) int {
		return compare(a.mend != 0, b.mend != 0)*8 + compare(!missing(a).Empty(), !missing(b).Empty())*4 +
			compare(!a.enrol.Empty(), !b.enrol.Empty())*2 + compare(a.change, b.change)
	})
	plan.Change = least.change
	for i, b := range l.failing {
		if least.mend&(1<<i) != 0 {
			plan.Baselines = append(plan.Baselines, b)
		}
	}
	fewest := (missing(least) | least.enrol).Len()
	for _, w := range ways {
		if w.mend == least.mend && missing(w).Empty() == missing(least).Empty() {
			fewest = min(fewest, (missing(w) | w.enrol).Len())
		}
	}
	for _, w := range ways {
		if w.mend != least.mend || w.change != least.change || missing(w).Empty() != missing(least).Empty() {
			continue
		}
		if needed := missing(w) | w.enrol; !needed.Empty() && needed.Len() == fewest && !slices.Contains(plan.Enrol, needed) {
			plan.Enrol = append(plan.Enrol, needed)
		}
		if missing(w).Empty() && !w.present.Empty() && w.enrol == least.enrol {
			plan.Verify = append(plan.Verify, w.present)
		}
	}
}

func compare(a, b bool) int {
	switch {
	case a == b:
		return 0
	case a:
		return 1
	}
	return -1
}

func (l *Planner) ways(n *node) (alternatives []way, gone bool) {
	if l.lifted(n) {
		return nil, true
	}
	switch n.op {
	case named:
		return l.ways(n.parts[0])
	case or:
		gone = true
		for _, part := range n.parts {
			w, g := l.ways(part)
			alternatives, gone = l.smallest(alternatives, w), gone && g
		}
		return alternatives, gone
	case and:
		alternatives, gone = l.list(way{}), true
		for _, part := range n.parts {
			if w, g := l.ways(part); !g {
				alternatives, gone = l.cross(alternatives, w), false
			}
		}
		return alternatives, gone
	}
	if l.atom(n) {
		return l.list(way{}), false
	}
	return l.waysOf(n), false
}

// waysOf are the ways to meet an atom that is not met.
func (l *Planner) waysOf(n *node) []way {
	var w way
	switch n.op {
	case method:
		w.present.Add(n.method.ID)
	case level:
		shown := l.proof.shown(&n.fresh, l.terms)
		if ways := l.reaching(n.level, shown, l.proof.Enrolled); len(ways) > 0 {
			return ways
		}
		var every Set
		for _, m := range l.proof.Methods.All() {
			every.Add(m.ID)
		}
		ways := l.reaching(n.level, shown, every)
		return slices.DeleteFunc(ways, func(w way) bool { return w.present.Len() > ways[0].present.Len() })
	case changePassword:
		w.change = true
	case deviceMeets:
		i := slices.Index(l.failing, n.baseline)
		if i < 0 {
			i = len(l.failing)
			l.failing = append(l.failing, n.baseline)
		}
		w.mend = 1 << min(i, 63)
	case enrol:
		w.enrol.Add(n.method.ID)
	}
	return l.list(w)
}

// reaching are the smallest sets from those at hand that reach the level beside what is
// shown: one method, or two.
func (l *Planner) reaching(wanted int, shown, atHand Set) []way {
	start := len(l.space)
	at := atHand &^ shown
	var alone Set // those that reach it by themselves
	at.Each(func(id int) {
		var one Set
		one.Add(id)
		if l.proof.Methods.Reach(wanted, shown|one) {
			alone.Add(id)
			l.space = append(l.space, way{present: one})
		}
	})
	rest := at &^ alone
	rest.Each(func(a int) {
		rest.Each(func(b int) {
			var two Set
			two.Add(a)
			two.Add(b)
			if b > a && l.proof.Methods.Reach(wanted, shown|two) {
				l.space = append(l.space, way{present: two})
			}
		})
	})
	return l.space[start:len(l.space):len(l.space)]
}

package demand

// The smallest ways to meet demands.
//
// A demand's tree is multiplied out from its leaves up: an atom gives the ways to meet it, "or" puts the
// ways of its parts together, "and" joins each of one part with each of the next. After every step a way
// goes that asks for all that another asks for, so that lists stay short; mostWays ends those that do not.

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

// Planner finds what would meet demands. It keeps its arena for the next time; the zero
// Planner is ready to use, by one goroutine at a time.
type Planner struct {
	evaluation
	failing []int // baselines that the device fails
	arena   []way // where lists of ways are made
	plan    Plan
}

// Together finds what would meet all the demands, at the prompt if that can be, else with
// the device mended or an enrolment made elsewhere. The plan is good until the next call.
func (l *Planner) Together(p *Proof, asked []Asked) *Plan {
	l.evaluation = evaluation{proof: p}
	l.failing, l.arena = l.failing[:0], l.arena[:0]
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
			start := len(l.arena)
			l.arena = append(append(l.arena, alternatives...), lifted...)
			alternatives = l.smallest(start)
		}
		ways = l.cross(ways, alternatives)
	}
	l.choose(ways)
	return &l.plan
}

// list makes a list of ways in the planner's arena.
func (l *Planner) list(ways ...way) []way {
	start := len(l.arena)
	l.arena = append(l.arena, ways...)
	return l.arena[start:len(l.arena):len(l.arena)]
}

// smallest leaves out, of the ways from start on, each that asks for all that another asks for.
func (l *Planner) smallest(start int) []way {
	list, end := l.arena[start:], len(l.arena)
	for i, w := range list {
		kept := l.arena[end:]
		superfluous := slices.ContainsFunc(kept, func(v way) bool { return v.within(w) }) ||
			slices.ContainsFunc(list[i+1:], func(v way) bool { return v.within(w) && !w.within(v) })
		if !superfluous && len(kept) < mostWays {
			l.arena = append(l.arena, w)
		}
	}
	return l.moved(start, l.arena[end:])
}

// moved moves a list that was made further on in the arena to start, and gives up what lay between.
func (l *Planner) moved(start int, list []way) []way {
	end := start + copy(l.arena[start:], list)
	l.arena = l.arena[:end]
	return l.arena[start:end:end]
}

func (l *Planner) cross(a, b []way) []way {
	if len(a) == 1 && a[0] == (way{}) {
		return b
	}
	start := len(l.arena)
	for _, v := range a {
		for _, w := range b {
			l.arena = append(l.arena, v.and(w))
		}
	}
	return l.smallest(start)
}

// burden weighs what a way asks for beyond what the person can do here: mending the device
// most, then enrolling for what is to be presented, then enrolling because a policy says
// so, then a new password.
func (l *Planner) burden(w way) (burden int) {
	if w.mend != 0 {
		burden += 8
	}
	if !w.present.Within(l.proof.Enrolled) {
		burden += 4
	}
	if w.enrol != 0 {
		burden += 2
	}
	if w.change {
		burden++
	}
	return burden
}

// choose picks the ways of the least burden.
func (l *Planner) choose(ways []way) {
	if len(ways) == 0 {
		return
	}
	least, lightest := ways[0], l.burden(ways[0])
	for _, w := range ways[1:] {
		if b := l.burden(w); b < lightest {
			least, lightest = w, b
		}
	}
	plan := &l.plan
	plan.Change = least.change
	for i, b := range l.failing {
		if least.mend&(1<<i) != 0 {
			plan.Baselines = append(plan.Baselines, b)
		}
	}
	fewest := MaxMethods
	for _, w := range ways {
		if l.burden(w) != lightest || w.mend != least.mend {
			continue
		}
		missing := w.present &^ l.proof.Enrolled
		if missing == 0 && w.present != 0 && w.enrol == least.enrol {
			plan.Verify = append(plan.Verify, w.present)
		}
		needed := missing | w.enrol
		if n := needed.Len(); n < fewest {
			fewest, plan.Enrol = n, plan.Enrol[:0]
		}
		if needed != 0 && needed.Len() == fewest && !slices.Contains(plan.Enrol, needed) {
			plan.Enrol = append(plan.Enrol, needed)
		}
	}
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
		start := len(l.arena)
		end := start
		for _, part := range n.parts {
			w, g := l.ways(part)
			w = l.moved(end, w)
			end, gone = end+len(w), gone && g
		}
		return l.smallest(start), gone
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
		return l.fewestMissing(l.reaching(n.level, shown, every))
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

// fewestMissing are the ways for which the person would have to enrol in the fewest methods.
func (l *Planner) fewestMissing(ways []way) []way {
	missing := func(w way) int { return (w.present &^ l.proof.Enrolled).Len() }
	fewest := MaxMethods
	for _, w := range ways {
		fewest = min(fewest, missing(w))
	}
	return slices.DeleteFunc(ways, func(w way) bool { return missing(w) > fewest })
}

// reaching are the smallest sets from those at hand that reach the level beside what is
// shown: one method, or two.
func (l *Planner) reaching(wanted int, shown, atHand Set) []way {
	start := len(l.arena)
	at := atHand &^ shown
	var alone Set // those that reach it by themselves
	at.Each(func(id int) {
		var one Set
		one.Add(id)
		if l.proof.Methods.Reach(wanted, shown|one) {
			alone.Add(id)
			l.arena = append(l.arena, way{present: one})
		}
	})
	rest := at &^ alone
	rest.Each(func(a int) {
		rest.Each(func(b int) {
			var two Set
			two.Add(a)
			two.Add(b)
			if b > a && l.proof.Methods.Reach(wanted, shown|two) {
				l.arena = append(l.arena, way{present: two})
			}
		})
	})
	return l.arena[start:len(l.arena):len(l.arena)]
}

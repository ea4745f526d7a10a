package possible

// The formula of one app and action, in the making.
//
// Each fact, such as where a sign-on comes from or what is proved, is an axis, and its values are parted into cells of which the
// engine itself says that a comparison goes alike everywhere in them. Each question, such as a comparison, becomes a proposition;
// binding says which cells make it true, and that a sign-on lies in one cell of every axis. Cells that nothing asked tells
// apart share a variable, so that the formula grows with what policies ask and not with what there is.

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/condition"
	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/logic"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// Space is the possible sign-ons to one app for one action, as a formula. What is asked of it is told
// first; [Space.Bind] then binds the cells to it, and only after that is there anything to find.
type Space struct {
	*logic.Formula
	App, Action string

	w         *World
	factors   map[*axis]*factor
	moments   map[int64]*moment
	schedules []*scheduled
	nodes     map[nodeKey]logic.Three
	risks     map[int][]logic.Three // of the factors, by side
	scopes    *scopeSpace
	proof     proofSpace
	enrolling map[int]logic.Lit // whether the user may enrol, by side
	rulings   map[ruled]Ruling
	clock     clockSpace
}

type nodeKey struct {
	side int
	node condition.Node
}

// factor is an axis in a space: what is asked of its cells, and which of them is so.
type factor struct {
	axis   *axis
	props  map[string]*prop
	order  []*prop
	groups [][]int     // cells that nothing asked tells apart
	lits   []logic.Lit // that it is one of a group
	within []logic.Lit // that the parent's cell is of a class

	answers [][]timeline // of each group, to what is asked, by class of the parent's
	needed  bool         // its cells are bound even if nothing is asked
}

// answer is that of a group to what was asked, where the parent is in a class.
func (f *factor) answer(group, class, asked int) timeline {
	return f.answers[group][class*len(f.order)+asked]
}

// prop is something asked of the cells of an axis.
type prop struct {
	is logic.Three
	at func(class, cell int) timeline // the class is of the parent's cells
}

// moment is whether the sign-on is not before an instant.
type moment struct {
	at    time.Time
	since logic.Lit
}

// scheduled is a comparison with schedules.
type scheduled struct {
	leaf *leaf
	is   logic.Three
}

// NewSpace begins the space of the sign-ons to an app for an action.
func (w *World) NewSpace(app, action string) *Space {
	sp := &Space{Formula: logic.NewFormula(), App: app, Action: action, w: w, factors: map[*axis]*factor{}, moments: map[int64]*moment{},
		nodes: map[nodeKey]logic.Three{}, risks: map[int][]logic.Three{}, enrolling: map[int]logic.Lit{}, rulings: map[ruled]Ruling{}}
	sp.proof.begin()
	sp.factor(w.byName[personAxis]).needed = true
	return sp
}

func (sp *Space) factor(a *axis) *factor {
	f := sp.factors[a]
	if f == nil {
		f = &factor{axis: a, props: map[string]*prop{}}
		sp.factors[a] = f
		if a.parent != nil {
			sp.factor(a.parent)
		}
	}
	return f
}

// three is a new proposition of three values.
func (sp *Space) three() logic.Three {
	x := logic.Three{Must: sp.Variable(), May: sp.Variable()}
	sp.Imply(x.May, x.Must)
	return x
}

// prop asks something of the cells of an axis; what has the same key is asked once.
func (sp *Space) prop(a *axis, key string, at func(class, cell int) timeline) logic.Three {
	f := sp.factor(a)
	key = sp.w.canonical(a, key, at)
	p := f.props[key]
	if p == nil {
		p = &prop{sp.three(), at}
		f.props[key] = p
		f.order = append(f.order, p)
	}
	return p.is
}

// canonical is the key under which something is asked of an axis: that of whatever was asked first and has
// the same answers. So what two rulebooks ask alike is one proposition.
func (w *World) canonical(a *axis, key string, at func(class, cell int) timeline) string {
	key = a.name + "\x00" + key
	w.naming.Lock()
	first, known := w.canon[key]
	w.naming.Unlock()
	if known {
		return first
	}
	var b strings.Builder
	b.WriteString(a.name + "\x00")
	for class := range a.keys {
		for cell := range a.cells {
			if a.allowed(class, cell) {
				c := at(class, cell)
				c.key(&b)
			}
		}
	}
	w.naming.Lock()
	defer w.naming.Unlock()
	first, known = w.firsts[b.String()]
	if !known {
		first = key
		w.firsts[b.String()] = key
	}
	w.canon[key] = first
	return first
}

// OfKind asks something of the person: true or false, by kind.
func (sp *Space) OfKind(key string, is func(*Kind) bool) logic.Lit {
	return sp.prop(sp.w.byName[personAxis], key, func(_, k int) timeline { return alwaysOf(is(sp.w.Kinds[k])) }).Must
}

// who is whether selectors of a side select the person.
func (sp *Space) who(s *side, w *rulebook.Who) logic.Lit {
	return sp.OfKind(fmt.Sprintf("who %d %q", s.number, w.Canonical()), func(k *Kind) bool {
		p := k.persons[s.number]
		return p != nil && w.Holds(p)
	})
}

// Who is whether selectors of a rulebook, by its number, select the person.
func (sp *Space) Who(number int, w *rulebook.Who) logic.Lit { return sp.who(sp.w.sides[number], w) }

// Since is whether the sign-on is not before an instant.
func (sp *Space) Since(at time.Time) logic.Lit { return sp.since(at) }

// since is whether the sign-on is not before an instant.
func (sp *Space) since(at time.Time) logic.Lit {
	switch {
	case !at.After(sp.w.From):
		return logic.Yes
	case !at.Before(sp.w.Until):
		return logic.No
	}
	m := sp.moments[at.UnixNano()]
	if m == nil {
		m = &moment{at, sp.Variable()}
		sp.moments[at.UnixNano()] = m
	}
	return m.since
}

// goes is a timeline as a proposition.
func (sp *Space) goes(c timeline) logic.Three {
	is := threeOf(c.first)
	for _, t := range c.changes {
		since, then := sp.since(t.at), threeOf(t.then)
		is = logic.Three{Must: sp.If(since, then.Must, is.Must), May: sp.If(since, then.May, is.May)}
	}
	return is
}

func threeOf(t known.Truth) logic.Three {
	switch t {
	case known.True:
		return logic.True
	case known.False:
		return logic.False
	}
	return logic.Unknown
}

// Condition is a condition of a rulebook, by its number, as a proposition.
func (sp *Space) Condition(number int, n condition.Node) logic.Three {
	return sp.condition(sp.w.sides[number], n)
}

func (sp *Space) condition(s *side, n condition.Node) logic.Three {
	key := nodeKey{s.number, n}
	is, built := sp.nodes[key]
	if !built {
		is = condition.Fold(n, propositions{sp, s})
		sp.nodes[key] = is
	}
	return is
}

// propositions is the algebra of conditions in a space.
type propositions struct {
	*Space
	side *side
}

func (p propositions) And(parts []logic.Three) logic.Three { return p.And3(parts) }
func (p propositions) Or(parts []logic.Three) logic.Three  { return p.Or3(parts) }
func (p propositions) Not(x logic.Three) logic.Three       { return x.Not() }
func (p propositions) Surely(x logic.Three) logic.Three {
	return logic.Three{Must: x.Must, May: x.Must}
}

func (p propositions) Known(x logic.Three, want bool) logic.Three {
	known := p.Space.Or(x.Must, x.May.Not())
	if !want {
		known = known.Not()
	}
	return logic.Three{Must: known, May: known}
}

// Comparison is a comparison as a proposition.
func (p propositions) Comparison(n condition.Node) logic.Three {
	l := p.side.leaf(n)
	switch s := l.Fact.Slot; {
	case s == fact.Risk, s == fact.RiskBand:
		return p.score(p.side, n)
	case s == fact.DeviceMeets:
		return p.meetsAny(p.side, l.Sets)
	case s == fact.DeviceOwned:
		return p.owned(l)
	case s == fact.Scopes, s == fact.ScopesCount, s == fact.ScopesWeight:
		return p.ofScopes(l)
	case s == fact.Time && l.Clock == nil:
		return p.scheduled(l)
	case s == fact.Time, s == fact.Tag, l.axis == nil:
		return p.goes(p.w.timelineOf(l, p.putTarget))
	}
	a := l.axis
	return p.prop(a, fmt.Sprint(p.side.number, " ", l.Key), func(class, cell int) timeline { return p.w.timelinesOf(l, class)[cell] })
}

// meetsAny is whether the device meets any of some baselines.
func (sp *Space) meetsAny(s *side, ids []int) logic.Three {
	list := make([]logic.Three, len(ids))
	for i, id := range ids {
		list[i] = sp.Meets(s.number, id)
	}
	return sp.Or3(list)
}

// Meets is whether the device meets a baseline of a rulebook.
func (sp *Space) Meets(number, id int) logic.Three {
	s := sp.w.sides[number]
	var checks []logic.Three
	for _, c := range s.rb.Baselines[id].Checks {
		checks = append(checks, sp.condition(s, c.When))
	}
	return sp.And3(checks)
}

func (sp *Space) scheduled(l *leaf) logic.Three {
	states := sp.w.statesOf(l)
	if i := slices.IndexFunc(sp.schedules, func(x *scheduled) bool { return x.leaf == l || slices.Equal(states, sp.w.statesOf(x.leaf)) }); i >= 0 {
		return sp.schedules[i].is
	}
	x := &scheduled{l, sp.three()}
	sp.schedules = append(sp.schedules, x)
	return x.is
}

// owned is whether the device is the person's own: unknown without an owner.
func (sp *Space) owned(l *leaf) logic.Three {
	s := l.side
	a, person := sp.w.byName[deviceAxis], sp.w.byName[personAxis]
	ownerOf := func(cell int) string {
		if d := sp.w.device(cell); d != nil && d.ID != "" {
			if r := s.rb.Devices[d.ID]; r != nil {
				return r.Owner
			}
		}
		return ""
	}
	owners := map[string]bool{}
	for i := range a.cells {
		if owner := ownerOf(i); owner != "" {
			owners[owner] = true
		}
	}
	some := sp.prop(a, fmt.Sprint(s.number, " an owner"), func(_, cell int) timeline { return alwaysOf(ownerOf(cell) != "") }).Must
	var own []logic.Lit
	for _, owner := range sorted(owners) {
		if p := s.rb.People[owner]; p == nil {
			continue
		}
		theirs := sp.prop(a, fmt.Sprintf("%d owned by %q", s.number, owner), func(_, cell int) timeline { return alwaysOf(ownerOf(cell) == owner) }).Must
		them := sp.prop(person, fmt.Sprintf("is %q", owner), func(_, k int) timeline { return alwaysOf(slices.Contains(sp.w.Kinds[k].People, owner)) }).Must
		own = append(own, sp.And(theirs, them))
	}
	is := sp.And(some, sp.Or(own...))
	return ask(sp, l, logic.Three{Must: is, May: sp.Or(is, some.Not())})
}

// ask answers a leaf that asks whether the fact is known in place of what it is.
func ask(sp *Space, l *leaf, is logic.Three) logic.Three {
	if !l.Knowledge {
		return is
	}
	return propositions{sp, l.side}.Known(is, l.Wanted)
}

// putTarget states the app.
func (sp *Space) putTarget(so *signon.SignOn) { so.App = sp.App }

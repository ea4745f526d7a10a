package possible

// What is decided, as propositions: as the engine rules, step by step.

import (
	"fmt"
	"iter"
	"time"

	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/logic"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// Ruling are the outcomes as propositions, by [signon.Outcome]: always one of them is true.
type Ruling [signon.Grant + 1]logic.Lit

// Policies says how the policies of a rulebook count.
type Policies struct {
	Watched bool             // those on watch count as if they were enforced
	Leave   *rulebook.Policy // one that does not count
	Lapse   *rulebook.Waiver // one that does not count
}

// usual reports whether all of them count.
func (p *Policies) usual() bool { return p.Leave == nil && p.Lapse == nil }

// ruler rules for one rulebook.
type ruler struct {
	*Space
	*side
	policies Policies
	lifts    []lift
	app      *rulebook.App
}

// lift is a waiver, and whether it is in force.
type lift struct {
	waiver *rulebook.Waiver
	holds  logic.Lit
}

// ruled is what was ruled on once.
type ruled struct {
	number  int
	watched bool
}

// Rule is what a rulebook, by its number, decides.
func (sp *Space) Rule(number int, policies Policies) Ruling {
	usual := policies.usual()
	key := ruled{number, policies.Watched}
	if r, again := sp.rulings[key]; again && usual {
		return r
	}
	r := sp.ruleAll(number, policies)
	if usual {
		sp.rulings[key] = r
	}
	return r
}

// ruler rules for one rulebook, by its number, if that knows the app and the action.
func (sp *Space) ruler(number int, policies Policies) (r *ruler, known bool) {
	r = &ruler{Space: sp, side: sp.w.sides[number], policies: policies}
	r.app = r.rb.Apps[sp.App]
	return r, r.app != nil && r.rb.Actions[sp.Action]
}

func (sp *Space) ruleAll(number int, policies Policies) Ruling {
	r, known := sp.ruler(number, policies)
	var blocked Ruling
	for o := range blocked {
		blocked[o] = logic.No
	}
	blocked[signon.Block] = logic.Yes
	if !known {
		return blocked
	}
	active := sp.OfKind(fmt.Sprint(number, " active"), func(k *Kind) bool { return k.persons[number] != nil })
	emergency := sp.OfKind(fmt.Sprint(number, " emergency"), func(k *Kind) bool { return k.persons[number] != nil && k.persons[number].BreakGlass })
	out, glass := blocked, blocked
	if r.rb.BreakGlass != nil {
		met, can := r.asks(r.rb.BreakGlass, &demand.Terms{}, nil, func() logic.Lit { return logic.No })
		glass[signon.Block], glass[signon.StepUp], glass[signon.Grant] = can.Not(), sp.And(can, met.Not()), met
	}
	r.waive()
	ordinary := r.rule(sp.Action, policies, r.mayEnrol)
	for o := range out {
		out[o] = sp.If(active, sp.If(emergency, glass[o], ordinary[o]), blocked[o])
	}
	return out
}

// waive finds the waivers, and whether they are in force.
func (r *ruler) waive() {
	for _, w := range r.rb.Waivers {
		if !w.To.Holds(r.app) || w == r.policies.Lapse {
			continue
		}
		r.lifts = append(r.lifts, lift{w, r.inForce(r.side, w)})
	}
}

// inForce is whether a waiver is in force for the person, if policies are asked at all.
func (sp *Space) inForce(s *side, w *rulebook.Waiver) logic.Lit {
	holds := []logic.Lit{sp.who(s, &w.Who), sp.since(w.Until).Not()}
	if w.When != nil {
		holds = append(holds, sp.condition(s, w.When).Must)
	}
	return sp.And(holds...)
}

// said is what policies and the floor say together: that some say so.
type said struct{ blocks, steps, reviews, speaks logic.Lit }

// rule is what the policies for an action come to.
func (r *ruler) rule(action string, policies Policies, mayEnrol func() logic.Lit) (out Ruling) {
	s := r.say(action, policies, mayEnrol)
	block, step, review := s.blocks, s.steps, s.reviews
	if r.rb.Unmatched == signon.Block {
		block = r.Or(block, s.speaks.Not())
	}
	out[signon.Block] = block
	out[signon.StepUp] = r.And(block.Not(), step)
	out[signon.Review] = r.And(block.Not(), step.Not(), review)
	out[signon.Grant] = r.And(block.Not(), step.Not(), review.Not())
	return out
}

// Unspoken is whether a sign-on is blocked for the only reason that no policy has a say: a policy that has one would let it further.
func (sp *Space) Unspoken(number int) logic.Lit {
	r, known := sp.ruler(number, Policies{})
	if !known || r.rb.Unmatched != signon.Block {
		return logic.No
	}
	r.waive()
	s := r.say(sp.Action, Policies{}, r.mayEnrol)
	return sp.And(sp.Ordinary(number), s.speaks.Not(), s.blocks.Not())
}

// Blocked is whether a sign-on is blocked by the floor or a policy, other than one; not for want of a policy that has a say.
func (sp *Space) Blocked(number int, other *rulebook.Policy) logic.Lit {
	r, known := sp.ruler(number, Policies{Leave: other})
	if !known {
		return logic.Yes
	}
	r.waive()
	return r.say(sp.Action, r.policies, r.mayEnrol).blocks
}

// say is what the policies for an action, and the floor, say.
func (r *ruler) say(action string, policies Policies, mayEnrol func() logic.Lit) said {
	var blocks, steps, reviews, speaks []logic.Lit
	for _, p := range r.rb.Policies {
		if !p.Within(action) || !p.To.Holds(r.app) || p == policies.Leave {
			continue
		}
		counts := r.And(r.who(r.side, &p.Who), r.enforced(p, policies.Watched))
		abstains := []logic.Lit{}
		for i, reached := range r.cases(r.side, p, counts) {
			taken := reached.May
			switch c := &p.Cases[i]; c.Kind {
			case rulebook.Abstain:
				abstains = append(abstains, taken)
			case rulebook.Block:
				blocks = append(blocks, taken)
			case rulebook.Review:
				reviews = append(reviews, taken)
			case rulebook.StepUp:
				met, can := r.asks(c.Demand, r.termsOf(p), p, mayEnrol)
				blocks, steps = append(blocks, r.And(taken, can.Not())), append(steps, r.And(taken, met.Not()))
			}
		}
		speaks = append(speaks, r.And(counts, r.Or(abstains...).Not()))
	}
	if r.rb.Floor != nil {
		bare := *r
		bare.lifts = nil
		met, can := bare.asks(r.rb.Floor, &demand.Terms{}, nil, mayEnrol)
		blocks, steps = append(blocks, can.Not()), append(steps, met.Not())
	}
	return said{r.Or(blocks...), r.Or(steps...), r.Or(reviews...), r.Or(speaks...)}
}

// mayEnrol is whether the person may enrol at the prompt.
func (r *ruler) mayEnrol() logic.Lit {
	l, built := r.enrolling[r.number]
	if usual := r.policies.usual(); !built || !usual {
		enforced := r.policies
		enforced.Watched = false
		l = r.rule(rulebook.EnrolMethod, enforced, func() logic.Lit { return logic.No })[signon.Block].Not()
		if usual {
			r.enrolling[r.number] = l
		}
	}
	return l
}

// enforced is whether a policy is enforced for the person, or on watch where that counts.
func (r *ruler) enforced(p *rulebook.Policy, watched bool) logic.Lit {
	counts := func(s rulebook.Stage) logic.Lit {
		if s == rulebook.Enforce || s == rulebook.Watch && watched {
			return logic.Yes
		}
		return logic.No
	}
	if len(p.Stages) == 0 {
		return logic.Yes
	}
	is := counts(rulebook.Watch)
	for i := len(p.Stages) - 1; i >= 0; i-- {
		line := &p.Stages[i]
		holds := r.since(line.From)
		if line.For != nil {
			holds = r.And(holds, r.who(r.side, line.For))
		}
		is = r.If(holds, counts(line.Stage), is)
	}
	return is
}

func (r *ruler) termsOf(p *rulebook.Policy) *demand.Terms {
	return &demand.Terms{Lasts: p.Session.Lasts, Limited: p.Session.LastsText != ""}
}

// asks is whether a demand is met, and whether it is met or can be.
func (r *ruler) asks(d *demand.Demand, terms *demand.Terms, p *rulebook.Policy, mayEnrol func() logic.Lit) (met, can logic.Lit) {
	a := demands{r, terms, p}
	met = demand.Fold(d, r.rb.Methods, a, demand.WithProof)
	can = r.Or(met, demand.Fold(d, r.rb.Methods, a, demand.WithEnrolled))
	if enrolling := demand.Fold(d, r.rb.Methods, a, demand.WithEnrolling); enrolling != can {
		can = r.Or(can, r.And(enrolling, mayEnrol()))
	}
	return met, can
}

// Met is whether a demand is met as it is written, whatever waivers there are.
func (sp *Space) Met(number int, d *demand.Demand) logic.Lit {
	r := &ruler{Space: sp, side: sp.w.sides[number]}
	return demand.Fold(d, r.rb.Methods, demands{r, &demand.Terms{}, nil}, demand.WithProof)
}

// demands is the algebra of demands in a space.
type demands struct {
	*ruler
	terms  *demand.Terms
	policy *rulebook.Policy // whose demand it is; nil for no policy's
}

// Not is the negation.
func (d demands) Not(x logic.Lit) logic.Lit { return x.Not() }

// Shown is whether a method is proved that freshly.
func (d demands) Shown(method int, f *demand.Fresh) logic.Lit {
	return d.shown(methodName(d.side, method), f, d.terms)
}

// Enrolled is whether the person is enrolled in a method.
func (d demands) Enrolled(method int) logic.Lit { return d.Space.Enrolled(d.number, method) }

// Meets is whether the device surely meets a baseline.
func (d demands) Meets(baseline int) logic.Lit { return d.Space.Meets(d.number, baseline).Must }

// Lifted is whether a waiver in force takes it out.
func (d demands) Lifted(covers func(*demand.Lift) bool) logic.Lit {
	var list []logic.Lit
	for _, l := range d.lifts {
		if covers(&l.waiver.Lift) {
			list = append(list, l.holds)
		}
	}
	return d.Or(list...)
}

// InGrace is whether the grace of an enrol is not over.
func (d demands) InGrace(grace time.Duration) logic.Lit {
	name := ""
	if d.policy != nil {
		name = d.policy.Name
	}
	s := d.side
	return d.prop(d.w.byName[personAxis], fmt.Sprintf("%d grace %q %d", s.number, name, grace), func(_, k int) timeline {
		p := d.w.Kinds[k].persons[s.number]
		if p == nil {
			return always(known.False)
		}
		var enforced time.Time
		if d.policy != nil {
			enforced = d.policy.EnforcedFrom(p)
		}
		end, counts := demand.Deadline(p.JoinedDay, enforced, grace)
		if !counts || !end.After(d.w.From) {
			return always(known.False)
		}
		c := always(known.True)
		if end.Before(d.w.Until) {
			c.changes = []change{{end, known.False}}
		}
		return c
	}).Must
}

// Ordinary is whether policies are asked about the person: one who is known, active and no emergency account.
func (sp *Space) Ordinary(number int) logic.Lit {
	return sp.OfKind(fmt.Sprint(number, " ordinary"), func(k *Kind) bool { return k.persons[number] != nil && !k.persons[number].BreakGlass })
}

// Reached are, for each case of a policy that is for the app and the action, whether it is taken, or may be, since it or one before
// it is left open; whatever the policy's stage.
func (sp *Space) Reached(number int, p *rulebook.Policy) iter.Seq2[int, logic.Three] {
	s := sp.w.sides[number]
	return sp.cases(s, p, sp.And(sp.Ordinary(number), sp.who(s, &p.Who)))
}

// cases are, for each case of a policy, whether it is taken or left open where the policy counts.
func (sp *Space) cases(s *side, p *rulebook.Policy, counts logic.Lit) iter.Seq2[int, logic.Three] {
	return func(yield func(int, logic.Three) bool) {
		open := counts
		for i := range p.Cases {
			when := logic.True
			if p.Cases[i].When != nil {
				when = sp.condition(s, p.Cases[i].When)
			}
			taken := logic.Three{Must: sp.And(open, when.Must), May: sp.And(open, when.May)}
			if open = sp.And(open, when.Must.Not()); !yield(i, taken) {
				return
			}
		}
	}
}

// Enforced is whether a policy is enforced for the person.
func (sp *Space) Enforced(number int, p *rulebook.Policy) logic.Lit {
	s := sp.w.sides[number]
	r := &ruler{Space: sp, side: s}
	return sp.And(sp.Ordinary(number), sp.who(s, &p.Who), r.enforced(p, false))
}

// InForce is whether a waiver is in force for the person.
func (sp *Space) InForce(number int, w *rulebook.Waiver) logic.Lit {
	return sp.And(sp.Ordinary(number), sp.inForce(sp.w.sides[number], w))
}

// Differ is whether two rulings come to different outcomes.
func (sp *Space) Differ(a, b Ruling) logic.Lit {
	var list []logic.Lit
	for o := range a {
		list = append(list, sp.And(a[o], b[o].Not()))
	}
	return sp.Or(list...)
}

// MetLifted is whether a demand that a policy of the rulebook makes is met, with the waivers that are in force.
func (sp *Space) MetLifted(number int, d *demand.Demand) logic.Lit {
	r := &ruler{Space: sp, side: sp.w.sides[number]}
	if r.app = r.rb.Apps[sp.App]; r.app == nil {
		return logic.No
	}
	r.waive()
	return demand.Fold(d, r.rb.Methods, demands{r, &demand.Terms{}, nil}, demand.WithProof)
}

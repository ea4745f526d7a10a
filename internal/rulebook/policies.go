package rulebook

// How policies and waivers are bound.

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"briskwarden.example/briskwarden/internal/condition"
	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/signon"
)

func (r *resolver) policies(scope *condition.Scope) {
	for _, d := range r.decls.policies.list {
		if d.Name.Text == "floor" {
			r.fail(d.Name, "choose another name: the floor stands under this one in decisions", "a policy cannot be named \"floor\"")
		}
		p := &Policy{Name: d.Name.Text, Who: r.who(d.Scope.Who), To: r.to(d.Scope.To), Doing: r.doing(d.Scope.Doing), Decl: d}
		for _, s := range d.Stages {
			p.Stages = append(p.Stages, r.stage(s))
		}
		for _, c := range d.Cases {
			p.Cases = append(p.Cases, r.policyCase(scope, c, p))
		}
		r.labels(d)
		if s := d.Session; s != nil {
			p.Session = session(s)
		}
		r.rb.Policies = append(r.rb.Policies, p)
	}
	slices.SortFunc(r.rb.Policies, func(a, b *Policy) int { return cmp.Compare(a.Name, b.Name) })
	r.numberCases()
}

func (r *resolver) numberCases() {
	n := 0
	for _, p := range r.rb.Policies {
		for i := range p.Cases {
			p.Cases[i].Number = n
			n++
		}
	}
}

func (r *resolver) doing(list []ast.Name) []string {
	if len(list) == 0 {
		return []string{SignOn}
	}
	var actions []string
	for _, n := range list {
		if !r.rb.Actions[n.Text] {
			r.unknown(n, "action", keysOf(r.rb.Actions))
		}
		actions = append(actions, n.Text)
	}
	r.once(list)
	slices.Sort(actions)
	return actions
}

func (r *resolver) stage(s ast.Stage) StageLine {
	l := StageLine{Stage: Stage(max(0, slices.Index(Stages[:], s.Stage.Text)))}
	if len(s.For.Items) > 0 {
		who := r.who(s.For)
		l.For = &who
	}
	if s.From.Given() {
		l.From, _ = r.date(s.From)
	}
	return l
}

func (r *resolver) labels(d *ast.Policy) {
	seen := map[string]ast.Name{}
	for _, c := range d.Cases {
		first, ok := seen[c.Label.Text]
		switch {
		case ok && c.Otherwise:
			r.fail(first, "choose another label", "the label \"otherwise\" is that of the last case")
		case ok:
			r.fail(c.Label, fmt.Sprintf("the first stands at %s; rename one", first.Pos), "the case %s stands twice in this policy", c.Label)
		}
		seen[c.Label.Text] = c.Label
	}
}

var outcomeKinds = map[string]OutcomeKind{"abstain": Abstain, "grant": Grant, "review": Review, "step-up": StepUp, "block": Block}

func (r *resolver) policyCase(scope *condition.Scope, c ast.Case, p *Policy) Case {
	k := Case{Label: c.Label.Text, Kind: outcomeKinds[c.Outcome.Word.Text], Word: c.Outcome.Word.Text, Pos: c.Pos,
		Message: c.Outcome.Message.Text, Group: c.Outcome.Group.Text}
	if c.Cond != nil {
		k.When, k.Text = scope.Compile(c.Cond, condition.General), c.Cond.String()
	}
	switch k.Kind {
	case StepUp:
		k.Demand = r.demand(c.Outcome.Demand)
	case Review:
		r.group(c.Outcome.Group)
		if !slices.Equal(p.Doing, []string{Consent}) {
			r.fail(c.Outcome.Word, "say \"doing consent\" in this policy, or decide it otherwise", "a review is for consent alone, and this policy is for %s",
				strings.Join(p.Doing, ", "))
		}
	}
	return k
}

func session(s *ast.Session) (limits Session) {
	if s.Lasts.Given() {
		limits.Lasts, limits.LastsText = s.Lasts.Elapsed(), s.Lasts.String()
	}
	if s.Idle.Given() {
		limits.Idle, limits.IdleText = s.Idle.Elapsed(), s.Idle.String()
	}
	return limits
}

func (r *resolver) waivers(scope *condition.Scope) {
	for _, d := range r.decls.waivers.list {
		w := &Waiver{Name: d.Name.Text, Who: r.who(d.Scope.Who), To: r.to(d.Scope.To), Decl: d,
			When: r.condition(scope, d.When, condition.General), Lift: r.lift(d.Lifts)}
		if d.Until.Given() {
			_, w.Until = r.date(d.Until)
		}
		r.rb.Waivers = append(r.rb.Waivers, w)
	}
	slices.SortFunc(r.rb.Waivers, func(a, b *Waiver) int { return cmp.Compare(a.Name, b.Name) })
}

func (r *resolver) lift(list []ast.Lift) (lift demand.Lift) {
	lift = demand.Lift{Named: map[string]bool{}, Devices: map[int]bool{}}
	var names []ast.Name
	for _, l := range list {
		names = append(names, ast.Name{Pos: l.Pos, Text: fmt.Sprint(l.Kind, l.Name.Text)})
		switch l.Kind {
		case ast.LiftEverything:
			lift.Everything = true
		case ast.LiftDevice:
			if id, ok := r.names.declared(l.Name, "baseline", r.names.baselines); ok {
				lift.Devices[id] = true
			}
		default:
			r.liftName(&lift, l.Name)
		}
	}
	if len(list) > 1 {
		r.once(names)
	}
	return lift
}

func (r *resolver) liftName(lift *demand.Lift, n ast.Name) {
	if m, ok := r.rb.Methods.Lookup(n.Text); ok {
		lift.Methods.Add(m.ID)
		return
	}
	level, isLevel := demand.Level(n.Text)
	switch {
	case isLevel:
		lift.Levels[level] = true
	case n.Text == demand.ChangePassword:
		lift.Change = true
	default:
		if _, ok := r.decls.demands.byName[n.Text]; !ok {
			known := append(r.rb.Methods.Names(), demand.FixedNames...)
			r.fail(n, demand.NearestOrAll(n.Text, append(slices.Clone(known), keysOf(r.decls.demands.byName)...)), "there is no method or demand %q", n.Text)
		}
		lift.Named[n.Text] = true
	}
}

func (r *resolver) promises(scope *condition.Scope) {
	for _, d := range r.decls.promises.list {
		outcome, _ := signon.ParseOutcome(d.Outcome.Text)
		r.rb.Promises = append(r.rb.Promises, &Promise{
			Name: d.Name.Text, Who: r.who(d.Scope.Who), To: r.to(d.Scope.To), Doing: r.doing(d.Scope.Doing),
			When: r.condition(scope, d.When, condition.General), Form: d.Form, Outcome: outcome,
			Without: r.everDemand(d.Without), Decl: d, Asked: strings.HasPrefix(d.Name.Pos.File, askedFile),
		})
	}
}

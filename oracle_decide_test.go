package briskwarden_test

import (
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/signon"
)

// oracleAnswer is what the oracle decides.
type oracleAnswer struct {
	outcome signon.Outcome
	entries []string // policy/case/outcome/sure/stage
	demands []string // policy: met
	watch   string
	lasts   string
	spoken  bool // an enforced policy surely speaks
}

func (c *oracleCase) in(group string) bool {
	if group == "crews" && (slices.Contains(c.user.groups, "deck") || slices.Contains(c.user.groups, "bridge")) {
		return true
	}
	return slices.Contains(c.user.groups, group)
}

func (c *oracleCase) enrolledIn(method string) bool { return slices.Contains(c.user.methods, method) }

func (c *oracleCase) baseline() truth {
	t := truth(1)
	for _, check := range c.m.checks {
		t = min(t, check.eval(c))
	}
	return t
}

func (c *oracleCase) score() (low, high int) {
	for i, f := range c.m.factors {
		t := f.eval(c)
		if t == 1 {
			low += c.m.adds[i]
		}
		if t >= 0 {
			high += c.m.adds[i]
		}
	}
	return min(low, 100), min(high, 100)
}

func (c *oracleCase) selects(selector string) bool {
	kind, name, _ := strings.Cut(selector, " ")
	switch kind {
	case "everyone", "everything":
		return true
	case "people":
		return c.user.typ != "service"
	case "group":
		return c.in(name)
	case "user":
		return c.user.id == name
	case "type":
		return c.user.typ == name
	case "domain":
		return strings.HasSuffix(c.user.id, "@"+name)
	case "app":
		return c.app == name
	}
	return slices.Contains(c.m.apps[c.app], name)
}

func (c *oracleCase) any(selectors []string) bool { return slices.ContainsFunc(selectors, c.selects) }

func (c *oracleCase) stage(p *oraclePolicy) string {
	for _, s := range p.stages {
		if (s.group == "" || c.in(s.group)) && !c.now.Before(s.from) {
			return s.stage
		}
	}
	if len(p.stages) > 0 {
		return "watch"
	}
	return "enforce"
}

// oracleReach is NIST's reading of the levels, over a list of methods.
func oracleReach(level int, methods []string) bool {
	for _, a := range methods {
		strong, verifies := a == "passkey" || a == "security-key", a == "passkey"
		if level == 1 || level == 2 && verifies || level == 3 && strong && verifies {
			return true
		}
		for _, b := range methods {
			if oracleKinds[a] != oracleKinds[b] && (level == 2 || level == 3 && strong) {
				return true
			}
		}
	}
	return false
}

// oracleAsk is one demand as one policy makes it.
type oracleAsk struct {
	c      *oracleCase
	policy *oraclePolicy // nil for the floor and the emergency accounts
	lifts  []string
	lift   bool // with the lifted atoms taken out
	can    bool // can be met, rather than is met
}

func (a *oracleAsk) fresh(f *oracleFresh, e oracleEvidence) bool {
	c := a.c
	if e.time.After(c.now) || f.per && e.app != c.app {
		return false
	}
	switch f.kind {
	case "session":
		if e.session == "" || e.session != c.session {
			return false
		}
		if a.policy != nil && a.policy.limited {
			return !c.started.IsZero() && !c.started.After(c.now) && c.now.Sub(c.started) <= a.policy.lasts
		}
		return true
	case "age":
		return c.now.Sub(e.time) <= f.age && (f.any || e.device != "" && e.device == c.device["id"])
	}
	return false
}

func (a *oracleAsk) proved(f *oracleFresh) (methods []string) {
	for m := range a.c.presented {
		methods = append(methods, m)
	}
	for _, e := range a.c.evidence {
		if a.fresh(f, e) {
			methods = append(methods, e.method)
		}
	}
	return methods
}

func (a *oracleAsk) isLifted(d *oracleDemand) bool {
	name := d.name
	if d.op == "device" {
		name = "device meets base"
	}
	return a.lift && d.op != "and" && d.op != "or" && (slices.Contains(a.lifts, name) || slices.Contains(a.lifts, "everything"))
}

// holds gives 1 met, -1 not met, 0 taken out.
func (a *oracleAsk) holds(d *oracleDemand, f *oracleFresh) truth {
	if d.fresh != nil {
		f = d.fresh
	}
	if a.isLifted(d) {
		return 0
	}
	switch d.op {
	case "named":
		return a.holds(a.c.m.named[d.name], f)
	case "and", "or":
		var results []truth
		for _, p := range d.parts {
			if r := a.holds(p, f); r != 0 {
				results = append(results, r)
			}
		}
		switch {
		case len(results) == 0:
			return 0
		case d.op == "and":
			return slices.Min(results)
		}
		return slices.Max(results)
	}
	return yes(a.atom(d, f))
}

func (a *oracleAsk) atom(d *oracleDemand, f *oracleFresh) bool {
	c := a.c
	switch proved := a.proved(f); d.op {
	case "method":
		return slices.Contains(proved, d.name) || a.can && (c.enrolledIn(d.name) || c.mayEnrol())
	case "level":
		real := slices.DeleteFunc(proved, func(m string) bool { return m == "change-password" })
		return oracleReach(d.level, real) || a.can && (oracleReach(d.level, append(real, c.user.methods...)) || c.mayEnrol())
	case "change":
		return a.can || slices.Contains(proved, "change-password")
	case "device":
		return c.baseline() == 1
	}
	start := c.user.joined
	if a.policy != nil {
		for _, s := range a.policy.stages {
			if s.stage == "enforce" && (s.group == "" || c.in(s.group)) {
				if s.from.After(start) {
					start = s.from
				}
				break
			}
		}
	}
	return c.enrolledIn(d.name) || d.hasGrace && !start.IsZero() && c.now.Before(start.Add(d.grace)) || a.can && c.mayEnrol()
}

// ask tells what a demand comes to: grant when met, step-up when it can be met, else block.
func (c *oracleCase) ask(d *oracleDemand, p *oraclePolicy, lifts []string) signon.Outcome {
	for _, can := range []bool{false, true} {
		for _, lift := range []bool{false, true} {
			a := &oracleAsk{c: c, policy: p, lifts: lifts, lift: lift, can: can}
			if r := a.holds(d, &oracleFresh{kind: "session"}); r == 1 || r == 0 {
				if can {
					return signon.StepUp
				}
				return signon.Grant
			}
		}
	}
	return signon.Block
}

func (c *oracleCase) mayEnrol() bool {
	if c.enrolling == 0 {
		c.enrolling = 1
		inner := *c
		inner.action = "enrol-method"
		c.enrolling = 3
		if inner.policies(false).outcome != signon.Block {
			c.enrolling = 2
		}
	}
	return c.enrolling == 2
}

func (c *oracleCase) lifts() (lifts []string) {
	for _, w := range c.m.waivers {
		if c.selects(w.who) && c.selects(w.to) && c.now.Before(w.until) && (w.when == nil || w.when.eval(c) == 1) {
			lifts = append(lifts, w.lifts...)
		}
	}
	return lifts
}

// policies decides by the enforced policies and, with watched, those on watch.
func (c *oracleCase) policies(watched bool) (a oracleAnswer) {
	lifts := c.lifts()
	a.outcome = signon.Grant
	var lasts time.Duration
	limited := false
	onWatch := false
	for _, p := range c.m.policies {
		stage := c.stage(p)
		if p.doing != c.action || !c.any(p.who) || c.any(p.except) || !c.any(p.to) || stage == "draft" {
			continue
		}
		onWatch = onWatch || stage == "watch"
		counts, speaks, gave := stage == "enforce" || watched, true, false
		for i, o := range p.cases {
			t := truth(1)
			label := "otherwise"
			if i < len(p.conds) {
				t, label = p.conds[i].eval(c), "c"+string(rune('0'+i))
			}
			if t == -1 {
				continue
			}
			a.entries = append(a.entries, strings.Join([]string{p.name, label, o.word, map[bool]string{true: "sure", false: "perhaps"}[t == 1], stage}, "/"))
			switch {
			case !counts:
			case o.word == "abstain":
				speaks = false
			default:
				gave = true
				result := map[string]signon.Outcome{"grant": signon.Grant, "block": signon.Block}[o.word]
				if o.word == "step-up" {
					result = c.ask(o.demand, p, lifts)
					a.demands = append(a.demands, p.name+": "+map[bool]string{true: "met", false: "unmet"}[result == signon.Grant])
				}
				a.outcome = min(a.outcome, result)
			}
			if t == 1 {
				break
			}
		}
		a.spoken = a.spoken || counts && speaks
		if gave && p.limited && (!limited || p.lasts < lasts) {
			lasts, limited = p.lasts, true
		}
	}
	if !a.spoken && !c.m.matched {
		a.outcome = signon.Block
	}
	if a.outcome != signon.Block && c.m.floor != nil {
		result := c.ask(c.m.floor, nil, nil)
		a.demands = append(a.demands, "floor: "+map[bool]string{true: "met", false: "unmet"}[result == signon.Grant])
		a.outcome = min(a.outcome, result)
	}
	if limited {
		a.lasts = lasts.String()
	}
	if onWatch && !watched {
		a.watch = "watched"
	}
	return a
}

// decide is the whole decision.
func (c *oracleCase) decide() oracleAnswer {
	if c.user == nil || c.user.off || c.m.apps[c.app] == nil && c.app != "news" || c.action == "swim" {
		return oracleAnswer{}
	}
	if c.user.glass {
		c.enrolling = 3
		result := c.ask(c.m.glass, nil, nil)
		return oracleAnswer{outcome: result, demands: []string{"break-glass: " + map[bool]string{true: "met", false: "unmet"}[result == signon.Grant]}}
	}
	a := c.policies(false)
	if a.watch != "" {
		a.watch = c.policies(true).outcome.String()
	}
	return a
}

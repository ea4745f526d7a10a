package findings

// What is found by going through every possible sign-on.

import (
	"context"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/logic"
	"briskwarden.example/briskwarden/internal/possible"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/schedule"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/token"
	"briskwarden.example/briskwarden/signon"
)

// Span is which sign-ons [Options.Exact] goes through.
type Span struct {
	From   string        // the first instant or date, as the language writes it; empty is that as of which the rulebook is looked at
	Until  string        // the first instant or date after it; empty is 366 days after From
	Within time.Duration // how long it may take; zero is two minutes
}

// exactCodes are those of what only every possible sign-on shows.
var exactCodes = []diag.Code{CaseNeverTaken, PolicyWithoutEffect, WaiverWithoutEffect, LockedOut, AppLocked}

// exact looks for what no possible sign-on shows otherwise.
type exact struct {
	ctx   context.Context
	rb    *rulebook.Rulebook
	world *possible.World

	mutex    sync.Mutex
	taken    map[*rulebook.Case]bool // cases that some sign-on takes or leaves open
	enforced map[any]bool            // policies and waivers that are in force for somebody
	effect   map[any]bool            // and without which something would come out otherwise
	admitted map[*possible.Kind]bool // people who get in somewhere
	reached  map[string]bool         // apps that somebody gets into
	hard     string                  // what was not decided in time
}

// exactly adds what every possible sign-on shows; undecided says what was not worked out in time.
func (c *checker) exactly(ctx context.Context, e *engine.Engine, span Span) (gone [2]time.Time, undecided string, err error) {
	from, until := c.now, time.Time{}
	if span.From != "" {
		if from, _, err = schedule.ParseDayOrInstant(span.From, c.rb.Zone); err != nil {
			return gone, "", fmt.Errorf("--from: %w", err)
		}
	}
	until = from.Add(366 * 24 * time.Hour)
	if span.Until != "" {
		if until, _, err = schedule.ParseDayOrInstant(span.Until, c.rb.Zone); err != nil {
			return gone, "", fmt.Errorf("--until: %w", err)
		}
	}
	if !until.After(from) {
		return gone, "", fmt.Errorf("the span ends (%s) before it begins (%s)", until.Format(time.RFC3339), from.Format(time.RFC3339))
	}
	if span.Within == 0 {
		span.Within = 2 * time.Minute
	}
	ctx, cancel := context.WithTimeout(ctx, span.Within)
	defer cancel()
	x := &exact{ctx: ctx, rb: c.rb, taken: map[*rulebook.Case]bool{}, enforced: map[any]bool{}, effect: map[any]bool{}, admitted: map[*possible.Kind]bool{}, reached: map[string]bool{}}
	if x.world, err = possible.New(ctx, []*engine.Engine{e}, from, until, [][]possible.Asked{nil}); err != nil {
		return gone, "", err
	}
	x.all()
	if x.hard == "" {
		x.tell(c)
	}
	return [2]time.Time{from.In(c.rb.Zone), until.In(c.rb.Zone)}, x.hard, nil
}

// all goes through all apps and actions, as many at once as there are processors.
func (x *exact) all() {
	targets := make(chan [2]string)
	var wait sync.WaitGroup
	for range runtime.GOMAXPROCS(0) {
		wait.Go(func() {
			for t := range targets {
				x.at(t[0], t[1])
			}
		})
	}
	for _, app := range x.rb.AppNames() {
		for _, action := range x.rb.ActionNames() {
			targets <- [2]string{app, action}
		}
	}
	close(targets)
	wait.Wait()
}

// question is something that some sign-on is looked for of.
type question struct {
	asked logic.Lit
	found func()
	known func() bool
}

// at goes through the sign-ons to an app for an action.
func (x *exact) at(app, action string) {
	sp := x.world.NewSpace(app, action)
	questions := slices.Concat(x.cases(sp), x.policies(sp), x.waivers(sp))
	in := logic.No
	if action == rulebook.SignOn {
		in = sp.Rule(0, possible.Policies{})[signon.Block].Not()
		in = sp.And(in, sp.ProvesOwn(0))
	}
	sp.Settle()
	for _, q := range questions {
		if x.known(q.known) || q.asked == logic.No {
			continue
		}
		switch sp.Solve(x.ctx, q.asked) {
		case logic.Possible:
			x.note(q.found)
		case logic.Undecided:
			x.giveUp(sp)
			return
		}
	}
	if action == rulebook.SignOn {
		x.whoGetsIn(sp, in)
	}
}

func (x *exact) known(is func() bool) bool {
	x.mutex.Lock()
	defer x.mutex.Unlock()
	return is()
}

func (x *exact) note(found func()) {
	x.mutex.Lock()
	defer x.mutex.Unlock()
	found()
}

func (x *exact) giveUp(sp *possible.Space) {
	x.note(func() {
		x.hard = fmt.Sprintf("%s (%s): a formula of %d variables, given up after %d conflicts", sp.App, sp.Action, sp.Variables(), sp.Conflicts)
	})
}

// cases asks for sign-ons that take a case, or leave it open.
func (x *exact) cases(sp *possible.Space) (list []question) {
	for _, p := range x.rb.Policies {
		if !p.Within(sp.Action) || !p.To.Holds(x.rb.Apps[sp.App]) || isDraft(p) {
			continue
		}
		for i, reached := range sp.Reached(0, p) {
			k := &p.Cases[i]
			list = append(list, question{reached, func() { x.taken[k] = true }, func() bool { return x.taken[k] }})
		}
	}
	return list
}

// isDraft reports a policy that is a draft for everybody, always.
func isDraft(p *rulebook.Policy) bool {
	for _, s := range p.Stages {
		if s.Stage != rulebook.Draft {
			return false
		}
		if s.For == nil && s.From.IsZero() {
			return true
		}
	}
	return false
}

// policies asks for sign-ons that come out otherwise without a policy.
func (x *exact) policies(sp *possible.Space) (list []question) {
	all := sp.Rule(0, possible.Policies{})
	for _, p := range x.rb.Policies {
		if !p.To.Holds(x.rb.Apps[sp.App]) || !p.Within(sp.Action) && !p.Within(rulebook.EnrolMethod) {
			continue
		}
		list = append(list, question{sp.Enforced(0, p), func() { x.enforced[p] = true }, func() bool { return x.enforced[p] }})
		if !x.known(func() bool { return x.effect[p] }) {
			differ := sp.Differ(all, sp.Rule(0, possible.Policies{Leave: p}))
			list = append(list, question{differ, func() { x.effect[p] = true }, func() bool { return x.effect[p] }})
		}
	}
	return list
}

// waivers asks for sign-ons that come out otherwise without a waiver.
func (x *exact) waivers(sp *possible.Space) (list []question) {
	all := sp.Rule(0, possible.Policies{})
	for _, w := range x.rb.Waivers {
		if !w.To.Holds(x.rb.Apps[sp.App]) {
			continue
		}
		list = append(list, question{sp.InForce(0, w), func() { x.enforced[w] = true }, func() bool { return x.enforced[w] }})
		if !x.known(func() bool { return x.effect[w] }) {
			differ := sp.Differ(all, sp.Rule(0, possible.Policies{Lapse: w}))
			list = append(list, question{differ, func() { x.effect[w] = true }, func() bool { return x.effect[w] }})
		}
	}
	return list
}

// whoGetsIn finds everybody who is not blocked from the app with what they are enrolled in.
func (x *exact) whoGetsIn(sp *possible.Space, in logic.Lit) {
	groups, is := sp.Groups()
	open := sp.Variable()
	for g, kinds := range groups {
		if !slices.ContainsFunc(kinds, func(k *possible.Kind) bool { return !x.known(func() bool { return x.admitted[k] }) }) && x.known(func() bool { return x.reached[sp.App] }) {
			sp.Require(open.Not(), is[g].Not())
		}
	}
	for {
		switch sp.Solve(x.ctx, open, in) {
		case logic.Undecided:
			x.giveUp(sp)
			return
		case logic.Impossible:
			return
		}
		for g, kinds := range groups {
			if !sp.Holds(is[g]) {
				continue
			}
			x.note(func() {
				x.reached[sp.App] = true
				for _, k := range kinds {
					x.admitted[k] = true
				}
			})
			sp.Require(open.Not(), is[g].Not())
			break
		}
	}
}

// tell turns what no sign-on showed into findings.
func (x *exact) tell(c *checker) {
	for _, p := range x.rb.Policies {
		if isDraft(p) {
			continue
		}
		for i := range p.Cases[:len(p.Cases)-1] {
			if k := &p.Cases[i]; !x.taken[k] {
				c.warn(CaseNeverTaken, labelOf(p, i), "take it out, or mend its condition or those before it",
					"no possible sign-on takes the case %q of the policy %s, or leaves it open", k.Label, p.Name)
			}
		}
	}
	for _, p := range x.rb.Policies {
		if p.Session == (rulebook.Session{}) && x.enforced[p] && !x.effect[p] {
			c.warn(PolicyWithoutEffect, p.Decl.Name, "take it out, or see what decides in its place with brisk decide",
				"without the policy %s no possible sign-on would come out otherwise", p.Name)
		}
	}
	for _, w := range x.rb.Waivers {
		if x.enforced[w] && !x.effect[w] {
			c.warn(WaiverWithoutEffect, w.Decl.Name, "take it out, or mend what it lifts", "without the waiver %s no possible sign-on would come out otherwise", w.Name)
		}
	}
	x.people(c)
	for _, app := range x.rb.AppNames() {
		if !x.reached[app] {
			c.warn(AppLocked, x.rb.Apps[app].Decl.Name, "write a policy that lets somebody in, or see with brisk reach who is stopped by what",
				"nobody ever gets into the app %s with what they are enrolled in", app)
		}
	}
}

// people finds those who get in nowhere: one finding for each who has a block, one for those alike in other files.
func (x *exact) people(c *checker) {
	const help = "see with brisk decide what stops them, or let them enrol in what is asked"
	for _, k := range x.world.Kinds {
		p := k.Person(0)
		if x.admitted[k] || p.BreakGlass || p.Type == "service" {
			continue
		}
		var listed []string
		for _, id := range k.People {
			if o := x.rb.People[id].Origin; strings.HasSuffix(o.File, ".warden") {
				c.warn(LockedOut, ast.Name{Pos: token.Pos{File: o.File, Line: int32(o.Line), Column: 1}, Text: "user"}, help,
					"%s is blocked from every app, with whatever they are enrolled in", id)
			} else {
				listed = append(listed, id)
			}
		}
		if len(listed) > 0 {
			o := x.rb.People[listed[0]].Origin
			verb := "is"
			if len(listed) > 1 {
				verb = "are"
			}
			c.warn(LockedOut, ast.Name{Pos: token.Pos{File: o.File, Line: int32(o.Line), Column: 1}, Text: listed[0]}, help,
				"%s %s blocked from every app, with whatever they are enrolled in", spell.Few(listed, 10), verb)
		}
	}
}

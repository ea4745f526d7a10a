package findings

// What is found by going through every possible sign-on.

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
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
	"briskwarden.example/briskwarden/internal/search"
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
	ctx    context.Context
	engine *engine.Engine
	rb     *rulebook.Rulebook
	world  *possible.World

	mutex    sync.Mutex
	shown    map[any]bool            // what some sign-on showed: a case is taken or left open, and the two below
	admitted map[*possible.Kind]bool // people who get in somewhere
	reached  map[string]bool         // apps that somebody gets into
	hard     string                  // what was not decided in time
}

// What a sign-on can show of a policy or waiver, by its pointer.
type (
	inForce   struct{ of any } // it counts for somebody
	hasEffect struct{ of any } // without it something would come out otherwise
	surely    struct{ of any } // a case is taken, and not only left open
)

// exactly adds what every possible sign-on shows; undecided says what was not worked out in time.
func (c *checker) exactly(ctx context.Context, e *engine.Engine, span Span) (gone [2]time.Time, undecided string, err error) {
	var from, until time.Time
	for _, x := range []struct {
		name, text string
		to         *time.Time
	}{{"--from", span.From, &from}, {"--until", span.Until, &until}} {
		if x.text == "" {
			continue
		}
		if *x.to, _, err = schedule.ParseDayOrInstant(x.text, c.rb.Zone); err != nil {
			return gone, "", fmt.Errorf("%s: %w", x.name, err)
		}
	}
	if from, until, err = possible.Span(from, until, c.now); err != nil {
		return gone, "", err
	}
	if span.Within == 0 {
		span.Within = 2 * time.Minute
	}
	ctx, cancel := context.WithTimeout(ctx, span.Within)
	defer cancel()
	x := &exact{ctx: ctx, engine: e, rb: c.rb, shown: map[any]bool{}, admitted: map[*possible.Kind]bool{}, reached: map[string]bool{}}
	if x.world, err = possible.New(ctx, []*engine.Engine{e}, from, until, [][]possible.Asked{nil}); err == nil {
		err = x.all()
	}
	var why *possible.GivenUp
	switch {
	case errors.As(err, &why):
		x.hard = why.Why
	case err != nil:
		return gone, "", err
	}
	if x.hard == "" {
		x.tell(c)
	}
	return [2]time.Time{from.In(c.rb.Zone), until.In(c.rb.Zone)}, x.hard, nil
}

// all goes through all apps and actions.
func (x *exact) all() error {
	var targets []search.Target
	for _, app := range x.rb.AppNames() {
		for _, action := range x.rb.ActionNames() {
			targets = append(targets, search.Target{App: app, Action: action})
		}
	}
	errs := make([]error, len(targets))
	search.Parallel(len(targets), func(i int) { errs[i] = x.at(targets[i]) })
	return cmp.Or(x.world.Err(), cmp.Or(errs...))
}

// question is something that some sign-on may show.
type question struct {
	shows any
	asked logic.Lit
}

// at goes through the sign-ons to an app for an action.
func (x *exact) at(t search.Target) error {
	if x.ctx.Err() != nil {
		x.locked(func() {
			x.hard = cmp.Or(x.hard, fmt.Sprintf("%s (%s) and others were not come to in time", t.App, t.Action))
		})
		return nil
	}
	sp := x.world.NewSpace(t.App, t.Action)
	questions := slices.Concat(x.cases(sp), x.policies(sp), x.waivers(sp))
	in := logic.No
	if t.Action == rulebook.SignOn {
		in = sp.Rule(0, possible.Policies{})[signon.Block].Not()
		in = sp.And(in, sp.Ordinary(0), sp.ProvesOwn(0)) // emergency accounts get in anywhere, and show nothing
	}
	sp.Bind()
	for _, q := range questions {
		if q.asked == logic.No || x.isShown(q.shows) {
			continue
		}
		switch sp.Solve(x.ctx, q.asked) {
		case logic.Possible:
			x.locked(func() { x.shown[q.shows] = true })
		case logic.Undecided:
			x.giveUp(sp)
			return nil
		}
	}
	return x.whoGetsIn(sp, in)
}

// locked does something while no other app does.
func (x *exact) locked(do func()) {
	x.mutex.Lock()
	defer x.mutex.Unlock()
	do()
}

func (x *exact) isShown(what any) (is bool) {
	x.locked(func() { is = x.shown[what] })
	return is
}

func (x *exact) giveUp(sp *possible.Space) {
	x.locked(func() {
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
			list = append(list, question{&p.Cases[i], reached.May})
			list = append(list, question{surely{&p.Cases[i]}, reached.Must})
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
		list = append(list, question{inForce{p}, sp.Enforced(0, p)})
		if !x.isShown(hasEffect{p}) {
			list = append(list, question{hasEffect{p}, sp.Differ(all, sp.Rule(0, possible.Policies{Leave: p}))})
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
		list = append(list, question{inForce{w}, sp.InForce(0, w)})
		if !x.isShown(hasEffect{w}) {
			list = append(list, question{hasEffect{w}, sp.Differ(all, sp.Rule(0, possible.Policies{Lapse: w}))})
		}
	}
	return list
}

// whoGetsIn finds everybody who is not blocked from the app with what they are enrolled in. Whoever gets in
// elsewhere need not be looked for, once it is known that somebody gets in here.
func (x *exact) whoGetsIn(sp *possible.Space, in logic.Lit) error {
	var already map[*possible.Kind]bool
	x.locked(func() {
		if x.reached[sp.App] {
			already = maps.Clone(x.admitted)
		}
	})
	notBlocked := func(so *signon.SignOn) (bool, error) {
		v, err := x.engine.Judge(x.ctx, so, &engine.Question{})
		return v.Outcome != signon.Block, err
	}
	found, ok, err := search.Kinds(x.ctx, sp, in, already, false, notBlocked)
	if err != nil {
		return err
	}
	if !ok {
		x.giveUp(sp)
		return nil
	}
	x.locked(func() {
		x.reached[sp.App] = x.reached[sp.App] || len(found) > 0
		maps.Copy(x.admitted, found)
	})
	return nil
}

// tell turns what no sign-on showed into findings.
func (x *exact) tell(c *checker) {
	for _, p := range x.rb.Policies {
		if isDraft(p) {
			continue
		}
		for i := range p.Cases[:len(p.Cases)-1] {
			switch k := &p.Cases[i]; {
			case !x.shown[k]:
				c.warn(CaseNeverTaken, labelOf(p, i), "take it out, or mend its condition or those before it",
					"no possible sign-on takes the case %q of the policy %s, or leaves it open", k.Label, p.Name)
			case !x.shown[surely{k}]:
				c.warn(CaseNeverTaken, labelOf(p, i), "mend its condition, which is never true: it can only be undecided",
					"no possible sign-on takes the case %q of the policy %s; some only leave it open", k.Label, p.Name)
			}
		}
	}
	for _, p := range x.rb.Policies {
		if p.Session == (rulebook.Session{}) && x.shown[inForce{p}] && !x.shown[hasEffect{p}] {
			c.warn(PolicyWithoutEffect, p.Decl.Name, "take it out, or see what decides in its place with brisk decide",
				"without the policy %s no possible sign-on would come out otherwise", p.Name)
		}
	}
	for _, w := range x.rb.Waivers {
		if x.shown[inForce{w}] && !x.shown[hasEffect{w}] {
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

package findings

// The order of the checks, and those of policies, groups, waivers and expectations.

import (
	"context"
	"fmt"
	"io/fs"
	"time"
	"unicode/utf8"

	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/language/ast"
)

// check returns all warnings about a rulebook without errors, those of its resolution
// included, as of the instant now; files, where they are at hand, has what the rulebook was read from; accepted are those that a comment in it accepts.
// Span is that of every possible sign-on, where that was gone through; undecided says what was not worked out in time.
func check(ctx context.Context, rb *rulebook.Rulebook, compiled func() *engine.Engine, files fs.FS, now time.Time, o Options) (list diag.List, accepted []accepted, span [2]time.Time, undecided string, err error) {
	c := &checker{rb: rb, now: now, list: append(diag.List(nil), rb.Diagnostics...)}
	for _, look := range []func(){c.policies, c.repeated, c.groups, c.waivers, c.callers, c.signals, c.untold, c.unused, c.schedules, c.apps, c.expectations,
		c.elsewhere, c.enrolment, c.breakGlass, c.supply, c.weakMethods, c.consent, c.scopes,
		c.twins, c.nearGroups, c.comparedWords, c.overlaps, c.unlocated, c.owners} {
		look()
	}
	if err := c.noisy(ctx, files); err != nil {
		return nil, nil, span, "", err
	}
	if o.Exact {
		if span, undecided, err = c.exactly(ctx, compiled(), o.Span); err != nil {
			return nil, nil, span, "", err
		}
	}
	accepted = c.accept(o.Exact && undecided == "")
	c.list.Sort()
	return c.list, accepted, span, undecided, nil
}

type checker struct {
	rb   *rulebook.Rulebook
	now  time.Time
	list diag.List

	alike   map[string]people  // by who they are selected by
	enrols  []*rulebook.Policy // that let people enrol
	waiving []*rulebook.Waiver // that are not over
}

func (c *checker) warn(code diag.Code, at ast.Name, help, format string, args ...any) {
	c.list.Add(code, diag.Warning, at.Pos, utf8.RuneCountInString(at.String()), help, format, args...)
}

func (c *checker) policies() {
	for _, p := range c.rb.Policies {
		if !c.rb.Open && !c.anybody(&p.Who) {
			c.warn(PolicyForNobody, p.Decl.Name, "mend its who, or take the policy out", "nobody is among the people of the policy %s", p.Name)
		}
		c.cases(p)
		c.stages(p)
	}
}

// stages finds stage lines that never come into force: the first that holds wins, and one
// before them holds for everybody and always.
func (c *checker) stages(p *rulebook.Policy) {
	for i, s := range p.Stages {
		if s.For == nil && s.From.IsZero() && i < len(p.Stages)-1 {
			next := p.Decl.Stages[i+1]
			c.warn(UnreachableStage, ast.Name{Pos: next.Pos, Text: "stage"}, "put the line that has no date last; without one, a policy is on watch",
				"this stage never comes: \"stage %s\" before it holds for everybody, from the beginning", s.Stage)
			return
		}
	}
}

// cases finds cases that are never reached.
func (c *checker) cases(p *rulebook.Policy) {
	first := map[string]string{}
	always := ""
	for i, k := range p.Cases {
		if always != "" && k.When != nil {
			c.warn(UnreachableCase, labelOf(p, i), "take it out, or put it before", "the case %q is never reached: the case %q before it is always true", k.Label, always)
			continue
		}
		if k.When == nil {
			return // an otherwise must stand there anyway
		}
		if label, ok := first[k.Text]; ok {
			c.warn(UnreachableCase, labelOf(p, i), "take one of them out, or change its condition",
				"the case %q is never reached: the case %q before it has the same condition", k.Label, label)
			continue
		}
		first[k.Text] = k.Label
		if alwaysTrue(p.Decl.Cases[i].Cond) {
			always = k.Label
		}
	}
}

// labelOf is where a case stands.
func labelOf(p *rulebook.Policy, i int) ast.Name {
	if label := p.Decl.Cases[i].Label; label.Given() {
		return label
	}
	return ast.Name{Pos: p.Decl.Cases[i].Pos, Text: p.Cases[i].Label}
}

func (c *checker) anybody(who *rulebook.Who) bool {
	for range c.rb.Selected(who) {
		return true
	}
	return false
}

func (c *checker) groups() {
	if c.rb.Open {
		return
	}
	filled := map[int32]bool{}
	for _, p := range c.rb.People {
		for _, g := range p.Groups {
			filled[g] = true
		}
	}
	for id, name := range c.rb.Groups.Names() {
		if at, ok := c.rb.GroupPlaces[int32(id)]; ok && !filled[int32(id)] {
			c.warn(EmptyGroup, ast.Name{Pos: at, Text: name}, "add members, or take the group out", "nobody is in the group %s", name)
		}
	}
}

// soon is how long before its end a waiver is told of.
const soon = 30 * 24 * time.Hour

func (c *checker) waivers() {
	for _, w := range c.rb.Waivers {
		switch {
		case !c.now.Before(w.Until):
			c.warn(WaiverOver, w.Decl.Until, "take the waiver out, or give it a later date with a reason", "the waiver %s is over since %s", w.Name, w.Decl.Until)
		case !c.now.Before(w.Until.Add(-soon)):
			c.warn(WaiverEnding, w.Decl.Until, "ask its owner, "+w.Decl.Owner.Text+", whether it is still needed", "the waiver %s ends on %s", w.Name, w.Decl.Until)
		}
	}
}

// callers tells of tokens of callers that end.
func (c *checker) callers() {
	for _, caller := range c.rb.Callers {
		for i, t := range caller.Tokens {
			until := caller.Decl.Tokens[i].Until
			switch {
			case t.Until.IsZero():
			case !c.now.Before(t.Until):
				c.warn(TokenOver, until, "take it out, or give the caller another by \"brisk token\"", "a token of the caller %s is over since %s", caller.Name, until)
			case !c.now.Before(t.Until.Add(-soon)):
				c.warn(TokenEnding, until, "give the caller another by \"brisk token\": both count until then", "a token of the caller %s ends on %s", caller.Name, until)
			}
		}
	}
}

// signals tells of sources whose signals can never arrive.
func (c *checker) signals() {
	for _, caller := range c.rb.Callers {
		if caller.May&rulebook.MaySignal != 0 {
			return
		}
	}
	for _, s := range c.rb.Signals {
		if s.Poll == "" {
			c.warn(UnheardSignals, s.Decl.Name, "let the sender be a caller that may signal, or have it asked: poll \"https://…\" token-in VARIABLE",
				"no caller may send the signals of %s", s.Decl.Name)
		}
	}
}

// untold tells of alerts and digests that go to nobody.
func (c *checker) untold() {
	for _, a := range c.rb.Alerts {
		if len(a.Tell) == 0 {
			c.warn(UntoldAlert, a.Decl.Name, "say who: tell \"mailto:desk@skerry.example\"", "nobody is told of the alert %s", a.Decl.Name)
		}
	}
	for _, d := range c.rb.Digests {
		if len(d.Tell) == 0 {
			c.warn(UntoldDigest, d.Decl.Name, "say to whom: tell \"mailto:desk@skerry.example\"", "nobody is sent the digest %s", d.Decl.Name)
		}
	}
}

func (c *checker) expectations() {
	for _, e := range c.rb.Expects {
		if e.Decl.SignOn.At.Given() {
			continue
		}
		if why := c.whyDated(&e.Decl.SignOn); why != "" {
			c.warn(UndatedExpect, e.Decl.Name, "say when: at 2026-11-23T08:15", "the expectation %q needs an \"at\": %s", e.Name, why)
		}
	}
}

// floor is the floor as it is written; nil where it is not.
func (c *checker) floor() ast.Demand {
	for d := range c.rb.Declarations() {
		if rulebook, ok := d.(*ast.Rulebook); ok {
			return rulebook.Floor
		}
	}
	return nil
}

// whyDated tells what makes the decision on a sign-on depend on when it is; "" when nothing does.
func (c *checker) whyDated(s *ast.SignOn) string {
	person, app := c.rb.People[s.User.Text], c.rb.Apps[s.App.Text]
	if person == nil || app == nil || person.BreakGlass {
		return ""
	}
	action := s.Doing.Text
	if action == "" {
		action = rulebook.SignOn
	}
	for _, p := range c.rb.Policies {
		if !p.Who.Holds(person) || !p.To.Holds(app) || !p.Within(action) && !p.Within(rulebook.EnrolMethod) {
			continue
		}
		why := dated(p.Decl)
		if limit := p.Decl.Session; why == "" && limit != nil && limit.Lasts.Given() && s.Session.Given() {
			why = "the age of the session"
		}
		if why != "" {
			return fmt.Sprintf("the policy %s depends on %s", p.Name, why)
		}
	}
	if why := datedDemand(c.floor()); why != "" {
		return "the floor depends on " + why
	}
	for _, w := range c.rb.Waivers {
		if w.Who.Holds(person) && w.To.Holds(app) {
			return fmt.Sprintf("the waiver %s ends on a date", w.Name)
		}
	}
	return ""
}

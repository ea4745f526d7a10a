package prove

// What two rulebooks decide differently, in principle.

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/logic"
	"briskwarden.example/briskwarden/internal/possible"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/search"
	"briskwarden.example/briskwarden/signon"
)

// Scope narrows a question to some people and apps, by selectors as a policy has them behind "who" and "to".
type Scope struct {
	Who string // empty is everyone
	To  string // empty is everything
}

// Comparison is every way in which possible sign-ons come out differently. Its JSON is that of
// "brisk compare --json" without a log.
type Comparison struct {
	Same        bool         `json:"same"`
	Undecided   string       `json:"undecided,omitzero"` // what was not worked out in time
	Old         string       `json:"old"`                // the rulebooks' digests
	New         string       `json:"new"`
	From        time.Time    `json:"from"` // the span
	Until       time.Time    `json:"until"`
	AsEnforced  bool         `json:"as_enforced"`
	Differences []Difference `json:"differences"`
	Past        []Dated      `json:"dates_past"`
}

// Difference are people, apps and actions each of which goes from one outcome to another in some possible sign-on.
type Difference struct {
	From    signon.Outcome `json:"from"`
	To      signon.Outcome `json:"to"`
	People  []string       `json:"people"`
	Apps    []string       `json:"apps"`
	Actions []string       `json:"actions"`
	When    *string        `json:"when,omitempty"`    // what all sign-ons of them share that go this way; nil where that was not worked out
	Session *Sessions      `json:"session,omitempty"` // both outcomes are a grant, whose session has other limits
	Old     []By           `json:"old"`               // what decided on the witness before
	New     []By           `json:"new"`               // and what decides now
	Witness *signon.SignOn `json:"witness"`
	Decide  string         `json:"decide"` // the clauses of "brisk decide" for it; empty where they cannot say it

	brief string
}

// Sessions are the limits of the witness's session, by both rulebooks. Every sign-on of the difference goes the same way: longer,
// or shorter, or not.
type Sessions struct {
	Lasts *Change `json:"lasts,omitempty"` // nil where it is the same for all
	Idle  *Change `json:"idle,omitempty"`

	// Longer is that either limit grew or is gone.
	Longer bool `json:"longer"`
}

// Change is how long something may be; empty is without limit.
type Change struct {
	Before string `json:"before"`
	After  string `json:"after"`
}

// Text says it in words.
func (s *Sessions) Text() string {
	var parts []string
	for _, x := range []struct {
		name string
		c    *Change
	}{{"lasts", s.Lasts}, {"idle", s.Idle}} {
		if x.c != nil {
			parts = append(parts, fmt.Sprintf("%s %s to %s", x.name, cmp.Or(x.c.Before, "without limit"), cmp.Or(x.c.After, "without limit")))
		}
	}
	return "session " + strings.Join(parts, ", ")
}

// Looser reports whether a sign-on gets further, or its session may go on for longer.
func (d *Difference) Looser() bool {
	return d.From.StricterThan(d.To) || d.Session != nil && d.Session.Longer
}

// Brief is When without what goes without saying of the difference's apps and actions.
func (d *Difference) Brief() string { return d.brief }

// Reach are all people for whom, and all apps at which, something comes out differently.
func (c *Comparison) Reach() (people, apps []string) {
	for i := range c.Differences {
		people = append(people, c.Differences[i].People...)
		apps = append(apps, c.Differences[i].Apps...)
	}
	return unique(people), unique(apps)
}

// Compare finds every way in which some possible sign-on comes out differently by two rulebooks. A user or an
// app that only one of them knows is blocked by the other.
func Compare(ctx context.Context, before, after *briskwarden.Rulebook, span Span, scope Scope) (*Comparison, error) {
	now := bridge.Engine(after)
	span, err := span.Of(now.Now())
	if err != nil {
		return nil, err
	}
	c := &comparer{ctx: ctx, span: span}
	var asks [][]possible.Asked
	for _, rules := range []*briskwarden.Rulebook{before, after} {
		e := bridge.Engine(rules)
		who, to, err := e.Rulebook().Scoped(scope.Who, scope.To)
		if err != nil {
			return nil, err
		}
		c.provers = append(c.provers, &prover{ctx: ctx, engine: e, rb: e.Rulebook(), span: span})
		c.who, c.to = append(c.who, who), append(c.to, to)
		asks = append(asks, append(asked(e.Rulebook()), possible.Asked{Who: &c.who[len(c.who)-1]}))
	}
	var found []search.Found
	if c.world, err = possible.New(ctx, []*engine.Engine{c.provers[0].engine, c.provers[1].engine}, span.From, span.Until, asks); err == nil {
		found, err = search.All(ctx, c.world, c.targets(), []search.Quest{c})
	}
	zone := c.provers[1].rb.Zone
	result := &Comparison{Old: before.Digest(), New: after.Digest(), From: span.From.In(zone), Until: span.Until.In(zone), AsEnforced: span.AsEnforced,
		Differences: []Difference{}, Past: datesPast(c.provers[1].rb, span.Until)}
	var why *possible.GivenUp
	switch {
	case errors.As(err, &why):
		result.Undecided = why.Why
		return result, nil
	case err != nil:
		return nil, err
	}
	if len(found[0].Hard) > 0 {
		result.Undecided = hard(found[0].Hard)
	}
	if unlike := c.world.Unlike(); len(unlike) > 0 {
		result.Undecided = strings.Join(append(slices.DeleteFunc([]string{result.Undecided}, func(s string) bool { return s == "" }),
			"attributes that have another type now, so that no sign-on states them to both: "+strings.Join(unlike, ", ")), "; ")
	}
	result.Same = len(found[0].Hits) == 0 && result.Undecided == ""
	return result, c.tell(result, found)
}

// comparer seeks sign-ons that come out differently; the way is both outcomes.
type comparer struct {
	ctx     context.Context
	provers []*prover // of the old rulebook, and of the new one
	who     []rulebook.Who
	to      []rulebook.To
	span    Span
	world   *possible.World
}

// outcomes is how many there are.
const outcomes = int(signon.Grant) + 1

func wayOf(from, to signon.Outcome) int { return int(from)*outcomes + int(to) }

// targets are the apps and actions of either rulebook.
func (c *comparer) targets() (list []search.Target) {
	apps, actions := map[string]bool{}, map[string]bool{}
	for _, p := range c.provers {
		for _, app := range p.rb.AppNames() {
			apps[app] = true
		}
		for action := range p.rb.Actions {
			actions[action] = true
		}
	}
	for _, app := range slices.Sorted(maps.Keys(apps)) {
		for _, action := range slices.Sorted(maps.Keys(actions)) {
			if c.Concerns(app, action) {
				list = append(list, search.Target{App: app, Action: action})
			}
		}
	}
	return list
}

// Concerns reports whether the app is in the scope, by either rulebook.
func (c *comparer) Concerns(app, action string) bool {
	for i, p := range c.provers {
		if a := p.rb.Apps[app]; a != nil && p.rb.Actions[action] && c.to[i].Holds(a) {
			return true
		}
	}
	return false
}

// Seek tells what comes out differently.
func (c *comparer) Seek(sp *possible.Space) (scope logic.Lit, sought []logic.Lit) {
	scope = sp.Or(sp.Who(0, &c.who[0]), sp.Who(1, &c.who[1]))
	policies := possible.Policies{Watched: c.span.AsEnforced}
	before, after := sp.Rule(0, policies), sp.Rule(1, policies)
	sought = make([]logic.Lit, ways)
	for i := range sought {
		sought[i] = logic.No
	}
	for from := range before {
		for to := range after {
			if from != to {
				sought[wayOf(signon.Outcome(from), signon.Outcome(to))] = sp.And(before[from], after[to])
			}
		}
	}
	c.seekSessions(sp, policies, sp.And(before[signon.Grant], after[signon.Grant]), sought)
	return scope, sought
}

// Judge has both engines decide.
func (c *comparer) Judge(ctx context.Context, so *signon.SignOn) (way int, is bool, err error) {
	var outcome [2]signon.Outcome
	var limits [2]engine.Limits
	concerned := false
	for i, p := range c.provers {
		v, err := p.engine.Judge(ctx, possible.Told(p.rb, so), &engine.Question{Watched: c.span.AsEnforced})
		if err != nil {
			return 0, false, err
		}
		outcome[i], limits[i] = v.Outcome, v.Limits
		person := p.rb.People[so.User]
		concerned = concerned || person != nil && c.who[i].Holds(person)
	}
	if outcome[0] == signon.Grant && outcome[1] == signon.Grant {
		way = sessionWay(goesOn(limits[0].Lasts, limits[1].Lasts), goesOn(limits[0].Idle, limits[1].Idle))
		return way, concerned && way != sessionWay(same, same), nil
	}
	return wayOf(outcome[0], outcome[1]), concerned && outcome[0] != outcome[1], nil
}

// EachWay is true: every pair of outcomes is told of everybody of whom it can be.
func (c *comparer) EachWay() bool { return true }

// tell tells the differences that were found.
func (c *comparer) tell(result *Comparison, found []search.Found) error {
	batches, err := search.Gather(c.ctx, found)
	if err != nil {
		return err
	}
	entries := batches[0].Entries
	shared := search.Shared(c.ctx, c.world, []search.Batch{{Quest: c, Entries: entries[:min(len(entries), mostShared)]}}, c.traits(), c.targets())
	for i := range entries {
		e := &entries[i]
		d := Difference{People: e.People, Apps: e.Apps, Actions: e.Actions, Witness: &e.Witness}
		if d.From, d.To, err = c.outcomesOf(&d, e.Way); err != nil {
			return err
		}
		if i < len(shared[0]) && shared[0][i] != nil {
			when, brief := told(shared[0][i])
			d.When, d.brief = &when, brief
		}
		if d.Old, err = c.provers[0].by(possible.Told(c.provers[0].rb, &e.Witness), d.From); err != nil {
			return err
		}
		if d.New, err = c.provers[1].by(possible.Told(c.provers[1].rb, &e.Witness), d.To); err != nil {
			return err
		}
		inZone(&e.Witness, c.provers[1].rb.Zone)
		if clauses, ok := rulebook.Clauses(&e.Witness); ok && c.provers[0].gives(clauses, d.From) && c.provers[1].gives(clauses, d.To) {
			d.Decide = clauses
		}
		result.Differences = append(result.Differences, d)
	}
	return nil
}

// traits are the comparisons of both rulebooks; what is written alike in both means what it does in the new one.
func (c *comparer) traits() []search.Trait {
	list := traits(1, c.provers[1].rb)
	for _, t := range traits(0, c.provers[0].rb) {
		if !slices.ContainsFunc(list, func(x search.Trait) bool { return x.Text == t.Text }) {
			list = append(list, t)
		}
	}
	return list
}

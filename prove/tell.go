package prove

// What is told about a rulebook in words.

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language/token"
	"briskwarden.example/briskwarden/signon"
)

// place tells where something stands, as file:line.
func place(at token.Pos) string { return fmt.Sprintf("%s:%d", at.File, at.Line) }

// named are the promises of those names, or all.
func named(rb *rulebook.Rulebook, names []string) (list []*rulebook.Promise, err error) {
	if len(names) == 0 {
		return rb.Promises, nil
	}
	var known []string
	for _, p := range rb.Promises {
		known = append(known, p.Name)
	}
	for i, name := range names {
		at := slices.Index(known, name)
		switch {
		case at < 0:
			hint := spell.Hint(name, known)
			if hint != "" {
				hint = "; " + hint
			}
			return nil, fmt.Errorf("there is no promise %q%s", name, hint)
		case !slices.Contains(names[:i], name):
			list = append(list, rb.Promises[at])
		}
	}
	return list, nil
}

// by tells what decided.
func by(d *signon.Decision, asEnforced bool) []By {
	list := []By{}
	add := func(e signon.Entry) { list = append(list, By{e.Policy, e.Case, e.At}) }
	x := d.Explanation
	if asEnforced && x.Watch != nil && x.Watch.Outcome != d.Outcome {
		for _, e := range x.Policies {
			if e.Outcome == x.Watch.Outcome.String() || e.Outcome == signon.StepUp.String() {
				add(e)
			}
		}
		return list
	}
	for _, e := range x.Deciding {
		add(e)
	}
	switch x.Ground {
	case signon.GroundFloor:
		list = append(list, By{Policy: "floor"})
	case signon.GroundUnmatched:
		list = append(list, By{Policy: "unmatched"})
	case signon.GroundBreakGlass:
		list = append(list, By{Policy: "break-glass"})
	}
	return list
}

// Dated is a date of the rulebook.
type Dated struct {
	At   time.Time `json:"at"`
	What string    `json:"what"`
}

// datesPast are the dates of stages and waivers that lie past the span.
func datesPast(rb *rulebook.Rulebook, until time.Time) []Dated {
	list := []Dated{}
	for _, p := range rb.Policies {
		for _, s := range p.Stages {
			if !s.From.Before(until) {
				list = append(list, Dated{s.From, fmt.Sprintf("the policy %s: stage %s", p.Name, s.Stage)})
			}
		}
	}
	for _, w := range rb.Waivers {
		if !w.Until.Before(until) {
			list = append(list, Dated{w.Until, fmt.Sprintf("the waiver %s is over", w.Name)})
		}
	}
	slices.SortStableFunc(list, func(a, b Dated) int { return cmp.Or(a.At.Compare(b.At), cmp.Compare(a.What, b.What)) })
	return list
}

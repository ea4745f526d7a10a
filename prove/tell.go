package prove

// What is told about a rulebook in words.

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// UnknownError is that there is no promise of a name.
type UnknownError struct {
	Name  string
	Known []string
}

func (e *UnknownError) Error() string { return fmt.Sprintf("there is no promise %q", e.Name) }

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
			return nil, &UnknownError{name, known}
		case !slices.Contains(names[:i], name):
			list = append(list, rb.Promises[at])
		}
	}
	return list, nil
}

// by tells what decided on a witness.
func (p *prover) by(so *signon.SignOn, outcome signon.Outcome) ([]By, error) {
	list := []By{}
	var t engine.Trace
	if err := p.engine.Trace(context.WithoutCancel(p.ctx), so, &t); err != nil {
		return nil, err
	}
	for _, c := range t.Cases {
		counts := c.Stage == rulebook.Enforce || p.span.AsEnforced
		if counts && c.Case.Kind != rulebook.Abstain && c.Outcome == outcome {
			list = append(list, By{c.Policy.Name, c.Case.Label, c.Case.Pos.InFile()})
		}
	}
	switch {
	case t.Ground == signon.GroundBreakGlass:
		list = append(list, By{Policy: "break-glass"})
	case t.Ground.Identity():
		list = append(list, By{Policy: map[signon.Ground]string{signon.GroundUnknownUser: "unknown-user", signon.GroundDisabledUser: "disabled-user",
			signon.GroundUnknownTarget: "unknown-app"}[t.Ground]})
	case t.Outcome != outcome:
	case t.Ground == signon.GroundFloor:
		list = append(list, By{Policy: "floor"})
	case t.Ground == signon.GroundUnmatched:
		list = append(list, By{Policy: "unmatched"})
	}
	return list, nil
}

// inZone tells the times of a sign-on as the clock in a zone shows them.
func inZone(so *signon.SignOn, zone *time.Location) {
	in := func(t *time.Time) {
		if !t.IsZero() {
			*t = t.In(zone)
		}
	}
	in(&so.Time)
	in(&so.Session.Started)
	if so.Device != nil {
		d := *so.Device
		in(&d.Reported)
		so.Device = &d
	}
	so.Evidence = slices.Clone(so.Evidence)
	for i := range so.Evidence {
		in(&so.Evidence[i].Time)
	}
}

// Dated is a date of the rulebook.
type Dated struct {
	At   time.Time `json:"at"`
	What string    `json:"what"`
}

// DatesPast are the dates of a rulebook's stages and waivers that lie past a span.
func DatesPast(rules *briskwarden.Rulebook, until time.Time) []Dated {
	return datesPast(bridge.Engine(rules).Rulebook(), until)
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

// unique are the names in order, each once.
func unique(names []string) []string {
	slices.Sort(names)
	return slices.Compact(names)
}

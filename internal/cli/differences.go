package cli

// What two rulebooks decide differently, in principle.

import (
	"context"
	"fmt"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/prove"
)

// compareAll takes every possible sign-on through both rulebooks.
func (s *session) compareAll(rules [2]*briskwarden.Rulebook, f compareFlags) (differs bool, err error) {
	span, within, err := f.span.span(rules[1])
	if err != nil {
		return false, err
	}
	ctx, cancel := context.WithTimeout(s.ctx, within)
	defer cancel()
	c, err := prove.Compare(ctx, rules[0], rules[1], span, f.scope)
	if err != nil {
		return false, usage("%w", err)
	}
	if s.json {
		err = s.writeJSON(c)
	} else {
		s.differences(c)
	}
	if err == nil && c.Undecided != "" && len(c.Differences) == 0 {
		err = &exit{status: exitUsage}
	}
	return len(c.Differences) > 0, err
}

// differences tells what comes out differently, or that nothing does.
func (s *session) differences(c *prove.Comparison) {
	span := s.spanText(c.From, c.Until)
	switch {
	case c.Same:
		s.out.Printf("%s, %s.\n", s.paint.Green("No possible sign-on comes out differently"), span)
	case len(c.Differences) == 0:
		s.out.Printf("%s, %s.\n", s.paint.Amber("Not decided"), span)
	default:
		people, apps := c.Reach()
		s.out.Printf("%s for %s at %s, %s.\n", s.paint.Amber("Some possible sign-ons come out differently"), spell.Plural(len(people), "person"),
			spell.Plural(len(apps), "app"), span)
	}
	if c.AsEnforced {
		s.out.Println("Policies on watch count as if they were enforced.")
	}
	if c.Undecided != "" {
		s.out.Printf("%s\n", screen.Wrapped("Not all was worked out: "+c.Undecided, 2))
	}
	for i := range c.Differences[:min(len(c.Differences), mostWays)] {
		s.differenceText(&c.Differences[i])
	}
	if more := len(c.Differences) - mostWays; more > 0 {
		s.out.Printf("\n  %s\n", s.paint.Faint(fmt.Sprintf("and in %s, which --json lists", spell.Plural(more, "more way"))))
	}
	s.datesPast(c.Past)
}

func (s *session) differenceText(d *prove.Difference) {
	goes := fmt.Sprintf("%s to %s", d.From, s.paint.Outcome(d.To, d.To.String()))
	if d.Session != nil {
		goes = d.Session.Text()
	}
	s.out.Printf("\n  %s  %s at %s%s\n", goes, screen.Wrapped(spell.Few(d.People, 4), 11),
		screen.Wrapped(spell.Few(d.Apps, 6), 11), doing(d.Actions))
	s.decidedBy("before", d.Old)
	s.decidedBy("now", d.New)
	s.shownBy(d.Brief(), d.Decide, d.Witness)
}

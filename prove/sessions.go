package prove

// Sessions of granted sign-ons that last longer, or less long, by one rulebook than by another.

import (
	"context"
	"time"

	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/logic"
	"briskwarden.example/briskwarden/internal/possible"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// A limit stays as it is, grows or goes, or comes or shrinks.
const (
	same = iota
	longer
	shorter
	relations
)

// ways are those of outcomes, and then those of sessions.
const ways = outcomes*outcomes + relations*relations

func sessionWay(lasts, idle int) int { return outcomes*outcomes + lasts*relations + idle }

// goesOn is what becomes of a limit; zero is none.
func goesOn(before, after time.Duration) int {
	switch {
	case before == after:
		return same
	case engine.Shorter(before, after) == before:
		return longer
	}
	return shorter
}

// seekSessions seeks what becomes of the limits of sign-ons that both rulebooks grant.
func (c *comparer) seekSessions(sp *possible.Space, policies possible.Policies, granted logic.Lit, sought []logic.Lit) {
	relation := func(of func(engine.Limits) time.Duration) (is [relations]logic.Lit) {
		limit := func(s *rulebook.Session) time.Duration { return of(engine.LimitsOf(s)) }
		before, after := sp.Within(0, policies, limit), sp.Within(1, policies, limit)
		is[longer], is[shorter] = sp.Longer(before, after), sp.Longer(after, before)
		is[same] = sp.And(is[longer].Not(), is[shorter].Not())
		return is
	}
	lasts := relation(func(l engine.Limits) time.Duration { return l.Lasts })
	idle := relation(func(l engine.Limits) time.Duration { return l.Idle })
	for i := range lasts {
		for j := range idle {
			if i != same || j != same {
				sought[sessionWay(i, j)] = sp.And(granted, lasts[i], idle[j])
			}
		}
	}
}

// outcomesOf are the outcomes of a way. Where it is one of sessions, the difference gets the limits of its witness.
func (c *comparer) outcomesOf(d *Difference, way int) (from, to signon.Outcome, err error) {
	if way < outcomes*outcomes {
		return signon.Outcome(way / outcomes), signon.Outcome(way % outcomes), nil
	}
	var said [2]signon.SessionLimits
	for i, p := range c.provers {
		if said[i], err = p.limitsOf(possible.Told(p.rb, d.Witness)); err != nil {
			return from, to, err
		}
	}
	lasts, idle := (way-outcomes*outcomes)/relations, (way-outcomes*outcomes)%relations
	d.Session = &Sessions{Longer: lasts == longer || idle == longer}
	if lasts != same {
		d.Session.Lasts = &Change{said[0].Lifetime, said[1].Lifetime}
	}
	if idle != same {
		d.Session.Idle = &Change{said[0].Idle, said[1].Idle}
	}
	return signon.Grant, signon.Grant, nil
}

// limitsOf are the limits of a sign-on's session, as they are written.
func (p *prover) limitsOf(so *signon.SignOn) (text signon.SessionLimits, err error) {
	var t engine.Trace
	if err := p.engine.Trace(context.WithoutCancel(p.ctx), so, &t); err != nil {
		return text, err
	}
	var limits engine.Limits
	for _, c := range t.Cases {
		if c.Case.Kind == rulebook.Abstain || c.Stage != rulebook.Enforce && !p.span.AsEnforced {
			continue
		}
		s, of := &c.Policy.Session, engine.LimitsOf(&c.Policy.Session)
		if shortest := engine.Shorter(limits.Lasts, of.Lasts); shortest != limits.Lasts {
			limits.Lasts, text.Lifetime = shortest, s.LastsText
		}
		if shortest := engine.Shorter(limits.Idle, of.Idle); shortest != limits.Idle {
			limits.Idle, text.Idle = shortest, s.IdleText
		}
	}
	return text, nil
}

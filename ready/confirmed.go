package ready

// Which gaps some possible sign-on shows.

import (
	"cmp"
	"context"
	"errors"
	"time"

	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/logic"
	"briskwarden.example/briskwarden/internal/possible"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/search"
	"briskwarden.example/briskwarden/signon"
)

// since are the gaps of one case that begin at the same time.
type since struct {
	kase *rulebook.Case
	from time.Time
}

// confirmed leaves out the gaps of people who never come to the case, or whom something else stops whenever they do.
func (f *finder) confirmed(ctx context.Context) ([]Gap, error) {
	if len(f.gaps) == 0 || !f.engine.Listed() {
		return f.gaps, nil
	}
	c := &confirming{finder: f, ctx: ctx, asked: map[*rulebook.Policy]map[since]bool{}, stopped: map[since]map[*possible.Kind]bool{}}
	byCase := map[*rulebook.Case]*rulebook.Policy{}
	for _, p := range f.rb.Policies {
		for i := range p.Cases {
			byCase[&p.Cases[i]] = p
		}
	}
	for i := range f.gaps {
		p := byCase[f.gaps[i].kase]
		if c.asked[p] == nil {
			c.asked[p] = map[since]bool{}
		}
		c.asked[p][f.since(&f.gaps[i])] = true
	}
	last := f.by
	for i := range f.gaps {
		if g := &f.gaps[i]; g.Deadline.After(last) {
			last = g.Deadline
		}
	}
	var err error
	if c.world, err = possible.New(ctx, []*engine.Engine{f.engine}, f.now, last.Add(week), [][]possible.Asked{nil}); err != nil {
		return f.unconfirmed(err)
	}
	for _, app := range f.rb.AppNames() {
		for _, action := range f.rb.ActionNames() {
			if err := c.at(app, action); err != nil {
				return f.unconfirmed(cmp.Or(c.world.Err(), err))
			}
		}
	}
	if err := c.world.Err(); err != nil {
		return f.unconfirmed(err)
	}
	kinds := map[string]*possible.Kind{}
	for _, k := range c.world.Kinds {
		for _, id := range k.People {
			kinds[id] = k
		}
	}
	gaps := []Gap{}
	for i := range f.gaps {
		if g := &f.gaps[i]; c.gaveUp || c.stopped[f.since(g)][kinds[g.Person]] {
			gaps = append(gaps, *g)
		}
	}
	return gaps, nil
}

// week is how long after the last day sign-ons are looked at: every day of the week comes.
const week = 7 * 24 * time.Hour

// unconfirmed are all gaps, where the error says that time or memory did not reach to look into them.
func (f *finder) unconfirmed(err error) ([]Gap, error) {
	var why *possible.GivenUp
	if errors.As(err, &why) {
		return f.gaps, nil
	}
	return nil, err
}

func (f *finder) since(g *Gap) since {
	from := g.Deadline
	if from.IsZero() {
		from = f.now
	}
	return since{g.kase, from}
}

// confirming finds, for each case and time, the kinds of people whom it can stop from then on.
type confirming struct {
	*finder
	ctx     context.Context
	world   *possible.World
	asked   map[*rulebook.Policy]map[since]bool
	stopped map[since]map[*possible.Kind]bool
	gaveUp  bool // the time ran out: then all that was found by the clauses stands
}

func (c *confirming) at(app, action string) error {
	sp := c.world.NewSpace(app, action)
	sought := map[since]logic.Lit{}
	for p, gaps := range c.asked {
		if !p.Within(action) || !p.To.Holds(c.rb.Apps[app]) {
			continue
		}
		stands := sp.And(sp.Enforced(0, p), sp.Blocked(0, p).Not())
		for i, reached := range sp.Reached(0, p) {
			for gap := range gaps {
				if gap.kase == &p.Cases[i] {
					sought[gap] = sp.And(stands, reached.May, sp.Since(gap.from))
				}
			}
		}
	}
	if len(sought) == 0 {
		return nil
	}
	sp.Bind()
	for gap, l := range sought {
		taken := func(so *signon.SignOn) (bool, error) { return c.takes(so, gap.kase) }
		found, ok, err := search.Kinds(c.ctx, sp, l, c.stopped[gap], false, taken)
		if err != nil {
			return err
		}
		if !ok {
			c.gaveUp = true
			return nil
		}
		c.stopped[gap] = found
	}
	return nil
}

// takes reports whether a sign-on takes a case that is enforced, or leaves it open.
func (c *confirming) takes(so *signon.SignOn, kase *rulebook.Case) (bool, error) {
	var t engine.Trace
	if err := c.engine.Trace(context.WithoutCancel(c.ctx), so, &t); err != nil {
		return false, err
	}
	for _, x := range t.Cases {
		if x.Case == kase && x.Stage == rulebook.Enforce {
			return true, nil
		}
	}
	return false, nil
}

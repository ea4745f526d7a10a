package consent

// What reviewers and givers change: settling, withdrawing, banning.
//
// A change reads what it is about, asks who may make it and whether it still fits, and writes the thing and its entry of the
// journal, all in one transaction of the store: two reviewers at once cannot both settle a request, and nothing changes without
// an entry that says by whom and why.

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/signon"
)

// now is the time of a change, as it is kept.
func (o *operation) now() time.Time { return o.engine.Now().UTC().Truncate(time.Millisecond) }

// standing tells whether a consent holds at an instant, and if not, why it has ended.
func (o *operation) standing(c *Consent, at time.Time) (holds bool, why string, err error) {
	switch {
	case c.State != Granted:
		return false, string(c.State), nil
	case !c.Until.IsZero() && !at.Before(c.Until):
		return false, "ended", nil
	}
	giver, err := o.engine.Person(o.ctx, c.User)
	switch {
	case err != nil:
		return false, "", err
	case giver == nil || giver.Active == known.False:
		return false, "ended: " + c.User + " is no longer active", nil
	}
	return true, string(Granted), nil
}

// change runs a change by a person, which is not dated back.
func (o *operation) change(change func(Tx) error) error {
	return o.store.Update(o.ctx, func(tx Tx) error {
		if err := inTime(tx, o.now()); err != nil {
			return err
		}
		return change(tx)
	})
}

// inTime fails for a change by a person that would be dated before what the journal has already,
// by more than clocks differ.
func inTime(tx Tx, at time.Time) error {
	const apart = time.Minute
	last, err := tx.LastEntry()
	if err == nil && last != nil && at.Add(apart).Before(last.Time) {
		err = fmt.Errorf("%s lies before the last entry of the journal, of %s: nothing is dated back", at.Format(time.RFC3339), last.Time.Format(time.RFC3339))
	}
	return err
}

// actor finds whoever settles, withdraws or bans.
func (o *operation) actor(by, because string) (*rulebook.Person, error) {
	if !lines.Says(because) {
		return nil, errors.New("say why: the journal keeps the reason")
	}
	p, err := o.engine.Person(o.ctx, by)
	switch {
	case err != nil:
		return nil, err
	case p == nil:
		return nil, fmt.Errorf("there is no user %q", by)
	case p.Active == known.False:
		return nil, fmt.Errorf("%s is disabled", by)
	}
	return p, nil
}

// in reports whether a person is in a group of that name.
func (o *operation) in(p *rulebook.Person, group string) bool {
	id, there := o.engine.Rulebook().Groups.Lookup(group)
	return there && p.In(id)
}

// reviewerGroups are the groups that a policy names as reviewers.
func (o *operation) reviewerGroups() (groups []string) {
	for _, p := range o.engine.Rulebook().Policies {
		for i := range p.Cases {
			if g := p.Cases[i].Group; g != "" && !slices.Contains(groups, g) {
				groups = append(groups, g)
			}
		}
	}
	slices.Sort(groups)
	return groups
}

// mustReview fails for whoever is no reviewer of any policy.
func (o *operation) mustReview(p *rulebook.Person) error {
	groups := o.reviewerGroups()
	switch {
	case len(groups) == 0:
		return errors.New("no policy names reviewers: write a case that ends in \"review by group G\"")
	case !slices.ContainsFunc(groups, func(g string) bool { return o.in(p, g) }):
		return fmt.Errorf("%s is no reviewer: those are in %s", p.ID, strings.Join(groups, ", "))
	}
	return nil
}

// settle grants or refuses a request that waits.
func (o *operation) settle(id ID, s Settlement) (settled *Consent, err error) {
	reviewer, err := o.actor(s.By, s.Because)
	if err != nil {
		return nil, err
	}
	err = o.change(func(tx Tx) error {
		before, err := o.waiting(tx, id, reviewer)
		if err != nil {
			return err
		}
		if err := s.fits(before, o.now()); err != nil {
			return err
		}
		client, err := tx.Client(before.Client)
		if err == nil && s.Grant && client.IsBanned() {
			err = fmt.Errorf("%s is banned (%s): unban it first", client.ID, client.Banned.Because)
		}
		if err != nil {
			return err
		}
		after := *before
		after.State, after.By, after.Because, after.Settled = Refused, s.By, s.Because, o.now()
		what := "refuse"
		if s.Grant {
			what, after.State, after.Granted, after.Until = "grant", Granted, before.Scopes, s.Until.UTC()
			if len(s.Only) > 0 {
				after.Granted = without(s.Only, nil)
			}
		}
		settled = &after
		return write(tx, &Entry{Time: o.now(), Who: s.By, What: what, Client: before.Client, Why: s.Because,
			Before: Things{Consent: before}, After: Things{Consent: &after}})
	})
	if err != nil {
		return nil, err
	}
	return settled, nil
}

// waiting finds a request that the reviewer may settle.
func (o *operation) waiting(tx Tx, id ID, reviewer *rulebook.Person) (*Consent, error) {
	c, err := tx.Consent(id)
	switch {
	case err != nil:
		return nil, err
	case c == nil:
		return nil, fmt.Errorf("there is no consent %s", id)
	case c.State != Waiting:
		by := ""
		if c.By != "" {
			by = " by " + c.By
		}
		return nil, fmt.Errorf("%s does not wait: it is %s%s", id, c.State, by)
	case c.User == reviewer.ID:
		return nil, fmt.Errorf("%s asked for %s: nobody settles a request of her own", reviewer.ID, id)
	case !o.in(reviewer, c.Reviewers):
		return nil, fmt.Errorf("%s is not in %s, which reviews %s", reviewer.ID, c.Reviewers, id)
	}
	return c, nil
}

// fits checks what narrows a grant.
func (s *Settlement) fits(c *Consent, now time.Time) error {
	switch extra := without(s.Only, c.Scopes); {
	case !s.Grant && (len(s.Only) > 0 || !s.Until.IsZero()):
		return errors.New("a refusal is of everything and for good: leave out what would narrow a grant")
	case len(extra) > 0:
		return fmt.Errorf("%s was not asked for: %s asks for %s", spell.Few(extra, 3), c.ID, spell.Few(c.Scopes, 8))
	case !s.Until.IsZero() && !s.Until.After(now):
		return errors.New("the consent would be over already: name a day to come")
	}
	return nil
}

// withdraw ends a consent, or takes back a request that waits: by whoever gave it, or by a reviewer.
func (o *operation) withdraw(id ID, by, because string) (withdrawn *Consent, err error) {
	actor, err := o.actor(by, because)
	if err != nil {
		return nil, err
	}
	err = o.change(func(tx Tx) error {
		before, err := tx.Consent(id)
		switch {
		case err != nil:
			return err
		case before == nil:
			return fmt.Errorf("there is no consent %s", id)
		case before.State != Granted && before.State != Waiting:
			return fmt.Errorf("%s is %s already", id, before.State)
		case before.User != by:
			if err := o.mustReview(actor); err != nil {
				return fmt.Errorf("%s was given by %s, and %w", id, before.User, err)
			}
		}
		after := *before
		after.State, after.By, after.Because, after.Settled = Withdrawn, by, because, o.now()
		withdrawn = &after
		return write(tx, &Entry{Time: o.now(), Who: by, What: "withdraw", Client: before.Client, Why: because,
			Before: Things{Consent: before}, After: Things{Consent: &after}})
	})
	if err != nil {
		return nil, err
	}
	return withdrawn, nil
}

// forget withdraws what a user holds alone.
func (o *operation) forget(user, by string) error {
	return o.change(func(tx Tx) error {
		var own []*Consent
		for c, err := range tx.Consents(Selection{User: user}) {
			if err != nil {
				return err
			}
			if c.For == signon.ForSelf && c.User == user && (c.State == Granted || c.State == Waiting) {
				own = append(own, c)
			}
		}
		for _, before := range own {
			after := *before
			after.State, after.By, after.Because, after.Settled = Withdrawn, by, "The user was deleted", o.now()
			if err := write(tx, &Entry{Time: o.now(), Who: by, What: "withdraw", Client: before.Client, Why: after.Because, Before: Things{Consent: before}, After: Things{Consent: &after}}); err != nil {
				return err
			}
		}
		return nil
	})
}

// ban blocks whatever a client asks for, and what it holds, until the ban is lifted.
func (o *operation) ban(client, by, because string) (*Client, error) {
	return o.setBan(client, by, because, "ban", func(c *Client) error {
		if c.IsBanned() {
			return fmt.Errorf("%s is banned already, by %s: %s", c.ID, c.Banned.By, c.Banned.Because)
		}
		c.Banned = Ban{by, because, o.now()}
		return nil
	})
}

// unban lifts a ban. What the client held before holds again.
func (o *operation) unban(client, by, because string) (*Client, error) {
	return o.setBan(client, by, because, "unban", func(c *Client) error {
		if !c.IsBanned() {
			return fmt.Errorf("%s is not banned", c.ID)
		}
		c.Banned = Ban{}
		return nil
	})
}

func (o *operation) setBan(client, by, because, what string, set func(*Client) error) (after *Client, err error) {
	actor, err := o.actor(by, because)
	if err == nil {
		err = o.mustReview(actor)
	}
	if err == nil && client == "" {
		err = errors.New("name a client")
	}
	if err != nil {
		return nil, err
	}
	err = o.change(func(tx Tx) error {
		before, err := tx.Client(client)
		if err != nil {
			return err
		}
		after = &Client{ID: client}
		if before != nil {
			*after = *before
		}
		if err := set(after); err != nil {
			return err
		}
		return write(tx, &Entry{Time: o.now(), Who: by, What: what, Client: client, Why: because,
			Before: Things{Client: before}, After: Things{Client: after}})
	})
	if err != nil {
		return nil, err
	}
	return after, nil
}

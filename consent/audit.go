package consent

// What holds, though the policies of today would not give it.

import (
	"fmt"
	"runtime"
	"slices"
	"sync"
	"time"

	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// Finding is a consent that holds, though the policies of today would not give it.
type Finding struct {
	Consent *Consent
	Outcome signon.Outcome // of today: block or review
	Policy  string         // and case, that decides today
	Group   string         // of reviewers, none of whom has given it
}

// auditAll decides anew on every consent that holds.
func (o *operation) auditAll() (checked int, found []Finding, err error) {
	var holding []*Consent
	var clients map[string]*Client
	now := o.engine.Now()
	err = o.store.View(o.ctx, func(tx Tx) (err error) {
		if clients, err = clientsOf(tx); err != nil {
			return err
		}
		for c, err := range tx.Consents(Selection{State: Granted}) {
			if err != nil {
				return err
			}
			holds, _, err := o.standing(c, now)
			if err != nil {
				return err
			}
			if holds && !clients[c.Client].IsBanned() {
				holding = append(holding, c)
			}
		}
		return nil
	})
	if err != nil {
		return 0, nil, err
	}
	parts := make([][]Finding, runtime.GOMAXPROCS(0))
	errs := make([]error, len(parts))
	var wg sync.WaitGroup
	for i := range parts {
		wg.Go(func() {
			first, end := i*len(holding)/len(parts), (i+1)*len(holding)/len(parts)
			parts[i], errs[i] = o.audit(holding[first:end], clients, now)
		})
	}
	wg.Wait()
	for _, err := range errs {
		if err != nil {
			return 0, nil, err
		}
	}
	return len(holding), slices.Concat(parts...), nil
}

// audit decides anew on some consents.
func (o *operation) audit(list []*Consent, clients map[string]*Client, now time.Time) (found []Finding, err error) {
	var trace engine.Trace
	for _, c := range list {
		so := o.again(c, clients[c.Client], now)
		err := so.Validate()
		if err == nil {
			err = o.engine.Trace(o.ctx, &so, &trace)
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", c.ID, err)
		}
		f := Finding{Consent: c, Outcome: signon.Grant}
		f.look(&trace)
		fails, err := o.fails(&f)
		if err != nil {
			return nil, err
		}
		if fails {
			found = append(found, f)
		}
	}
	return found, nil
}

// again is the request that a consent would be today.
func (o *operation) again(c *Consent, client *Client, now time.Time) signon.SignOn {
	asked := &signon.Consent{Client: c.Client, Scopes: c.Granted, For: c.For, Group: c.Group, Owner: c.Owner}
	if client != nil {
		asked.Name, asked.Publisher, asked.Verified = client.Name, client.Publisher, client.Verified
	}
	return signon.SignOn{User: c.User, App: c.App, Action: rulebook.Consent, Time: now, Consent: asked}
}

// look finds what stands against a consent: a case that blocks, whatever is proven, or one
// that sends it to review.
func (f *Finding) look(trace *engine.Trace) {
	switch ground := trace.Ground; {
	case ground == signon.GroundBreakGlass:
		return
	case ground.Identity(), ground == signon.GroundUnmatched && trace.Outcome == signon.Block:
		f.Outcome, f.Policy = signon.Block, "unmatched"
		return
	}
	for i := range trace.Cases {
		step := &trace.Cases[i]
		if step.Stage != rulebook.Enforce || !step.Sure { // where she was, say, is not known today
			continue
		}
		name := step.Policy.Name + ` "` + step.Case.Label + `"`
		switch step.Case.Kind {
		case rulebook.Block:
			f.Outcome, f.Policy = signon.Block, name
			return
		case rulebook.Review:
			if f.Outcome == signon.Grant {
				f.Outcome, f.Policy, f.Group = signon.Review, name, step.Case.Group
			}
		}
	}
}

// fails reports whether a consent should not hold any more.
func (o *operation) fails(f *Finding) (bool, error) {
	if f.Outcome != signon.Review {
		return f.Outcome == signon.Block, nil
	}
	if f.Consent.By == "" {
		return true, nil
	}
	reviewer, err := o.engine.Person(o.ctx, f.Consent.By)
	return err == nil && (reviewer == nil || !o.in(reviewer, f.Group)), err
}

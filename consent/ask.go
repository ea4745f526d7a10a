package consent

// A request on its way to its answer: by what is held, else by the policies.

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// Answer is what came of a request.
type Answer struct {
	Outcome  signon.Outcome
	Decision *signon.Decision // of the policies; nil where they were not asked
	New      []string         // the scopes that they were asked about
	Held     []*Consent       // given earlier, that answer the rest, or all
	Consent  *Consent         // that was granted now, or waits
	Again    bool             // it waited before already
	Client   *Client          // as the ledger has it; nil where it does not know it
}

// ask answers a request by what is held already, else by the policies.
func (o *operation) ask(so signon.SignOn) (*Answer, error) {
	if err := cmp.Or(so.Validate(), so.NotSupposed()); err != nil {
		return nil, err
	}
	if so.Consent != nil {
		asked := *so.Consent // the caller's stays as it is
		so.Consent = &asked
	}
	if err := checkRequest(&so); err != nil {
		return nil, err
	}
	clock := o.engine.Now()
	if so.Time.IsZero() {
		so.Time = clock
	}
	r := &request{operation: o, so: so, holding: later(so.Time, clock)}
	var answered bool
	err := o.store.View(o.ctx, func(tx Tx) (err error) {
		answered, err = r.answer(tx)
		return err
	})
	if err != nil || answered {
		return &r.Answer, err
	}
	err = o.store.Update(o.ctx, func(tx Tx) error {
		if answered, err := r.answer(tx); answered || err != nil {
			return err
		}
		return r.keep(tx)
	})
	if err != nil {
		return nil, err
	}
	return &r.Answer, nil
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// checkRequest checks what a request for consent cannot be without.
func checkRequest(so *signon.SignOn) error {
	missing := func(field string) error { return &signon.FieldError{Field: field, Msg: "is missing"} }
	c := so.Consent
	switch {
	case so.User == "":
		return missing("subject.id")
	case so.App == "":
		return missing("resource.id")
	case so.Action != "" && so.Action != rulebook.Consent:
		return &signon.FieldError{Field: "action.name", Msg: fmt.Sprintf("%q is no request for consent: that is %q", so.Action, rulebook.Consent)}
	case c == nil || strings.TrimSpace(c.Client) == "":
		return missing("context.consent.client")
	case c.For == signon.ForGroup && c.Group == "":
		return missing("context.consent.group")
	case c.For != signon.ForGroup && c.Group != "":
		return &signon.FieldError{Field: "context.consent.group", Msg: fmt.Sprintf("%q is named, but the consent is not for a group", c.Group)}
	}
	so.Action = rulebook.Consent
	if c.For == "" {
		c.For = signon.ForSelf
	}
	return checkScopes("context.consent.scopes", c.Scopes)
}

// request is a request on its way to its answer.
type request struct {
	*operation
	so      signon.SignOn
	holding time.Time // at which a consent must hold: a request that says it is of earlier revives none
	person  *rulebook.Person
	Answer
}

// answer answers by what the ledger holds, else by the policies. Not done is that the answer
// is still to be kept.
func (r *request) answer(tx Tx) (done bool, err error) {
	r.Answer = Answer{}
	c := r.so.Consent
	if r.Client, err = tx.Client(c.Client); err != nil {
		return false, err
	}
	if r.Client.IsBanned() { // the journal keeps that it asked
		r.Outcome = signon.Block
		return false, nil
	}
	if r.person, err = r.engine.Person(r.ctx, r.so.User); err != nil {
		return false, err
	}
	if r.person != nil {
		held, err := r.held(tx)
		if err != nil {
			return false, err
		}
		active, err := r.active()
		if err != nil {
			return false, err
		}
		if r.New = without(c.Scopes, held); len(r.New) == 0 && active {
			r.Outcome = signon.Grant
			return true, nil
		}
	}
	if err := r.decide(); err != nil || r.Outcome != signon.Review {
		return false, err
	}
	return r.waits(tx)
}

// active asks whether the user and the app are still known and the user is not disabled: what
// is held is then of no use, and the engine says why.
func (r *request) active() (bool, error) {
	_, known := r.engine.Rulebook().Apps[r.so.App]
	holds, _, err := r.standing(&Consent{State: Granted, User: r.so.User}, r.holding)
	return known && holds, err
}

// held gathers the scopes that consents given earlier hold for this request, and notes those consents.
func (r *request) held(tx Tx) (scopes []string, err error) {
	asked := r.so.Consent
	for c, err := range tx.Consents(Selection{State: Granted, Client: asked.Client, App: r.so.App, User: r.so.User}) {
		if err != nil {
			return nil, err
		}
		if !r.covers(c) || !slices.ContainsFunc(c.Granted, func(s string) bool { return slices.Contains(asked.Scopes, s) }) {
			continue
		}
		holds, _, err := r.standing(c, r.holding)
		if err != nil {
			return nil, err
		}
		if holds {
			scopes = union(scopes, c.Granted)
			r.Held = append(r.Held, c)
		}
	}
	return scopes, nil
}

// covers reports whether a consent is for those whom the request is for.
func (r *request) covers(c *Consent) bool {
	asked := r.so.Consent
	switch {
	case c.For == signon.ForEveryone:
		return true
	case asked.For == signon.ForSelf:
		return c.For == signon.ForSelf && c.User == r.so.User || c.For == signon.ForGroup && r.in(r.person, c.Group)
	}
	return asked.For == signon.ForGroup && c.For == signon.ForGroup && c.Group == asked.Group
}

// waits answers by a request that waits already for all that is new.
func (r *request) waits(tx Tx) (bool, error) {
	asked := r.so.Consent
	for c, err := range tx.Consents(Selection{State: Waiting, Client: asked.Client, App: r.so.App, User: r.so.User}) {
		if err != nil {
			return false, err
		}
		if c.User == r.so.User && c.For == asked.For && c.Group == asked.Group && len(without(r.New, c.Scopes)) == 0 {
			r.Consent, r.Again = c, true
			return true, nil
		}
	}
	return false, nil
}

// decide asks the policies about what is new.
func (r *request) decide() error {
	asked := *r.so.Consent
	if len(r.New) == 0 {
		r.New = without(asked.Scopes, nil)
	}
	client := r.seen()
	asked.Scopes, asked.Name, asked.Publisher, asked.Verified = r.New, client.Name, client.Publisher, client.Verified
	so := r.so
	so.Consent = &asked
	r.Decision = &signon.Decision{}
	if err := r.engine.Decide(r.ctx, &so, r.Decision, true); err != nil {
		return err
	}
	r.Outcome = r.Decision.Outcome
	return nil
}

// keep writes the answer of the policies into the ledger.
func (r *request) keep(tx Tx) error {
	asked, client, now := r.so.Consent, r.seen(), r.now()
	entry := &Entry{Time: now, Who: r.so.User, Client: asked.Client, Why: r.why()}
	entry.What = map[signon.Outcome]string{signon.Grant: "grant", signon.Review: "wait", signon.StepUp: "step-up", signon.Block: "block"}[r.Outcome]
	if r.Outcome != signon.Grant && r.Outcome != signon.Review {
		return write(tx, entry)
	}
	c := &Consent{State: Waiting, User: r.so.User, App: r.so.App, Client: asked.Client, Scopes: r.New, For: asked.For, Group: asked.Group,
		Owner: asked.Owner, Asked: r.so.Time.UTC().Truncate(time.Millisecond), Policy: r.why()}
	if r.Outcome == signon.Grant {
		c.State, c.Granted, c.Settled = Granted, r.New, now
	} else {
		c.Reviewers = reviewers(r.Decision)
	}
	if !same(&client, r.Client) {
		entry.Before.Client, entry.After.Client = r.Client, &client
	}
	entry.After.Consent = c
	r.Consent, r.Client = c, &client
	return write(tx, entry)
}

// seen is the client as the ledger will have it: what the request states is fresher.
func (r *request) seen() (c Client) {
	asked := r.so.Consent
	if r.Client != nil {
		c = *r.Client
	}
	c.ID = asked.Client
	if asked.Name != "" {
		c.Name = asked.Name
	}
	if asked.Publisher != "" && asked.Publisher != c.Publisher {
		c.Publisher, c.Verified = asked.Publisher, signon.Unknown // verified was another one
	}
	if asked.Verified != signon.Unknown {
		c.Verified = asked.Verified
	}
	return c
}

// why names the policies and cases that decided, or the ban.
func (r *request) why() string {
	if r.Decision == nil {
		return fmt.Sprintf("banned by %s: %s", r.Client.Banned.By, r.Client.Banned.Because)
	}
	var list []string
	for _, e := range r.Decision.Explanation.Deciding {
		list = append(list, fmt.Sprintf("%s %q", e.Policy, e.Case))
	}
	switch ground := r.Decision.Explanation.Ground; {
	case ground.Identity():
		return r.Decision.Message
	case ground == signon.GroundBreakGlass:
		list = append(list, "break-glass")
	case ground == signon.GroundUnmatched:
		list = append(list, "unmatched")
	case ground == signon.GroundFloor:
		list = append(list, "floor")
	}
	slices.Sort(list)
	return strings.Join(list, ", ")
}

// reviewers is the group that a request waits for.
func reviewers(d *signon.Decision) string {
	for _, s := range d.Next {
		if s.Do == signon.WaitForReview {
			return s.Group
		}
	}
	return ""
}

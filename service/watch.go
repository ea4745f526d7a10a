package service

// What a digest tells that a service remembers.

import (
	"context"
	"maps"
	"slices"

	"briskwarden.example/briskwarden/about"
	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/digest"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/signon"
)

// Watch fills in what a digest tells that the service remembers: accounts at risk, sources of signals that are silent, and the
// consents.
func (b *Beside) Watch(ctx context.Context, o *digest.Options) error {
	o.Ledger = consent.New(b.store, b.Rulebook)
	rb := bridge.Engine(b.Rulebook).Rulebook()
	list, err := b.memory.AtRisk(ctx, rb.People)
	if err != nil {
		return err
	}
	for _, a := range list {
		last := a.Reasons[len(a.Reasons)-1]
		o.Accounts = append(o.Accounts, digest.Account{User: a.User, Risk: a.Risk, Compromised: a.Compromised, Since: last.At, By: last.By, Because: last.Because})
	}
	silent, err := b.memory.Silent(ctx, rb)
	for _, name := range slices.Sorted(maps.Keys(silent)) {
		o.Silent = append(o.Silent, digest.Silent{Source: "the signals of " + name, Since: silent[name]})
	}
	return err
}

// About fills in what the service remembers of a thing: the consents, and of a user the last grants and the risk.
func (b *Beside) About(ctx context.Context, kind about.Kind, name string, o *about.Options) error {
	o.Consents = b.store
	if kind != about.User {
		return nil
	}
	granted, standing, err := b.memory.Standing(ctx, name, bridge.Engine(b.Rulebook).Rulebook().People[name])
	for _, g := range granted {
		o.Granted = append(o.Granted, about.SignOn{Time: g.Time, User: name, App: g.App, Outcome: signon.Grant.String(), From: g.Country, Device: g.Device})
	}
	o.Standing = append(o.Standing, standing...)
	return err
}

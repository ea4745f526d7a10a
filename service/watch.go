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
	"briskwarden.example/briskwarden/internal/memory"
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

// About fills in what the service remembers of a thing: the consents, the last grants of a user or a group, to an app, from a
// country or on a device, and a user's risk.
func (b *Beside) About(ctx context.Context, kind about.Kind, name string, o *about.Options) error {
	o.Consents = b.store
	rb := bridge.Engine(b.Rulebook).Rulebook()
	var concerns func(memory.Earlier) bool
	user := ""
	switch kind {
	case about.User:
		said, err := b.memory.Standing(ctx, name, rb.People[name])
		if err != nil {
			return err
		}
		o.Standing = append(o.Standing, said...)
		user, concerns = name, func(memory.Earlier) bool { return true }
	case about.Group:
		group, ok := rb.Groups.Lookup(name)
		concerns = func(e memory.Earlier) bool { return ok && rb.People[e.User] != nil && rb.People[e.User].In(group) }
	case about.App:
		concerns = func(e memory.Earlier) bool { return e.App == name }
	case about.Country:
		codes := rb.CountryCodes(name)
		concerns = func(e memory.Earlier) bool { return slices.Contains(codes, e.Country) }
	case about.Device:
		concerns = func(e memory.Earlier) bool { return e.Device == name }
	default: // where an address was, or what was proved, is not remembered
		return nil
	}
	return b.memory.Granted(ctx, user, func(e memory.Earlier) {
		if concerns(e) {
			o.AddGranted(about.SignOn{Time: e.Time, User: e.User, App: e.App, Outcome: signon.Grant.String(), From: e.Country, Device: e.Device})
		}
	})
}

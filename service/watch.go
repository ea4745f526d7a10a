package service

// What a digest tells that a service remembers.

import (
	"context"
	"maps"
	"slices"

	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/digest"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/memory"
	"briskwarden.example/briskwarden/service/state"
)

// Watch fills in what a digest tells that the service remembers: accounts at risk, sources of signals that are silent, and the
// consents.
func (b *Beside) Watch(ctx context.Context, o *digest.Options) error {
	o.Ledger = consent.New(b.store, b.Rulebook)
	return watched(ctx, b.memory, b.store, b.Rulebook, o)
}

func watched(ctx context.Context, m *memory.Memory, store state.Store, rules Rules, o *digest.Options) error {
	rb := bridge.Engine(rules.Rulebook()).Rulebook()
	list, err := m.AtRisk(ctx, rb.People)
	if err != nil {
		return err
	}
	for _, a := range list {
		last := a.Reasons[len(a.Reasons)-1]
		o.Accounts = append(o.Accounts, digest.Account{User: a.User, Risk: a.Risk, Compromised: a.Compromised, Since: last.At, By: last.By, Because: last.Because})
	}
	silent, err := m.Silent(ctx, rb)
	for _, name := range slices.Sorted(maps.Keys(silent)) {
		o.Silent = append(o.Silent, digest.Silent{Source: "the signals of " + name, Since: silent[name]})
	}
	return err
}

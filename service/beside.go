package service

// What a service remembers, for those who only look: they change nothing of it.

import (
	"context"
	"log/slog"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/memory"
	"briskwarden.example/briskwarden/internal/provision"
	"briskwarden.example/briskwarden/service/state"
	"briskwarden.example/briskwarden/signon"
)

// Beside is a rulebook beside what a service remembers in a store.
type Beside struct {
	// Rulebook also has the people who are provisioned, as they are when it was made.
	*briskwarden.Rulebook
	memory *memory.Memory
	store  state.Store
}

// NewBeside reads who is provisioned in a store, and what signals said of people.
func NewBeside(ctx context.Context, rules *briskwarden.Rulebook, store state.Store) (*Beside, error) {
	joined, err := provision.Everyone(ctx, store, bridge.Engine(rules).Rulebook())
	if err != nil {
		return nil, err
	}
	if err := memory.People(ctx, store, joined); err != nil {
		return nil, err
	}
	return &Beside{bridge.With(rules, joined).(*briskwarden.Rulebook), memory.New(store, slog.New(slog.DiscardHandler), time.Now), store}, nil
}

// Close lets go of what is remembered; the store stays open.
func (b *Beside) Close() { b.memory.Close() }

// Explain decides and explains as the service would, by the people, the ended sessions and the past that it
// remembers. What somebody proved counts for the callers alone to whom it was proved: it is to be stated. Nothing is
// remembered.
func (b *Beside) Explain(ctx context.Context, so signon.SignOn) (signon.Decision, error) {
	e := bridge.Engine(b.Rulebook)
	if so.Time.IsZero() {
		so.Time = e.Now()
	}
	var d signon.Decision
	recalled, err := b.memory.Recall(ctx, e, "", []*signon.SignOn{&so})
	if err != nil {
		return signon.Refused(so.ID, err), err
	}
	err = e.DecideRecalled(ctx, &recalled[0].SignOn, &recalled[0].Recalled, &d, true)
	return d, err
}

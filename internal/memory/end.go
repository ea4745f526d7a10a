package memory

// Sessions that are ended, proofs that are made void, and users that are forgotten.

import (
	"context"
	"errors"
	"time"

	"briskwarden.example/briskwarden/internal/provision"
	"briskwarden.example/briskwarden/service/state"
)

// End ends a session of a user, or, without one, all that have begun so far, and makes their proofs void. Every
// decision that begins once it has returned obeys it.
func (m *Memory) End(ctx context.Context, user, session string) error {
	return m.twice(ctx, func(at time.Time) []update {
		updates := []update{change(state.Key{Kind: state.Marks, Owner: user}, time.Time{}, func(k *marks) { k.end(session, at) })}
		if session != "" {
			updates = append(updates, change(endedKey(user, session), at.Add(KeptFor), func(e *endedMark) { e.At = later(e.At, at) }))
		}
		return updates
	})
}

// EndAll ends all sessions of everybody that have begun so far, and makes all proofs void.
func (m *Memory) EndAll(ctx context.Context) error {
	return m.twice(ctx, func(at time.Time) []update {
		return []update{change(state.Key{Kind: state.Service}, time.Time{}, func(e *provision.Everybody) {
			e.Voided, e.VoidedN = at, next(e.VoidedN, at) // again with the right clock, if it was wrong
		})}
	})
}

// Forget ends all sessions of a user, and forgets what was before.
func (m *Memory) Forget(ctx context.Context, user string) error {
	if err := m.End(ctx, user, ""); err != nil {
		return err
	}
	for l, err := range m.store.List(ctx, toldKey(user, "")) {
		if err != nil {
			return err
		}
		if l.Owner != user {
			break
		}
		if err := m.store.Write(ctx, []state.Change{{Key: l.Key, If: l.Version}})[0]; err != nil && !errors.Is(err, state.ErrConflict) {
			return err
		}
	}
	return m.writer.write(ctx, []update{change(pastKey(user), time.Time{}, func(p *past) { *p = past{} })})
}

// Inherit has a user be under all that signals and people said of others, as if it was said of this one.
func (m *Memory) Inherit(ctx context.Context, from []string, user string) error {
	for _, former := range from {
		r, err := m.read(ctx, []state.Key{{Kind: state.Marks, Owner: former}})
		if err != nil {
			return err
		}
		k, version, err := item[marks](m, &r, 0)
		if err != nil {
			return err
		}
		if version == 0 {
			continue
		}
		said := k.clone().signalled
		if err := m.writer.write(ctx, []update{change(state.Key{Kind: state.Marks, Owner: user}, time.Time{}, func(k *marks) { k.inherit(&said) })}); err != nil {
			return err
		}
	}
	return nil
}

// twice makes changes that are dated by the clock of the store, and then makes them again: what began between the
// first date and the first change did not see it, and is what the second is for.
func (m *Memory) twice(ctx context.Context, updates func(at time.Time) []update) error {
	for range 2 {
		at, err := m.Clock(ctx)
		if err != nil {
			return err
		}
		if err := m.writer.write(ctx, updates(at)); err != nil {
			return err
		}
	}
	return nil
}

// Sweep deletes what is kept no longer, a part at a time, and tells how much it was.
func (m *Memory) Sweep(ctx context.Context) (n int, err error) {
	const part = 1000
	for {
		at, err := m.Clock(ctx)
		if err != nil {
			return n, err
		}
		deleted, err := m.store.Sweep(ctx, at, part)
		if n += deleted; err != nil || deleted < part {
			return n, err
		}
	}
}

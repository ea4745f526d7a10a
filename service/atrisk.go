package service

// Accounts at risk, worked through by people.

import (
	"context"
	"errors"
	"fmt"
	"iter"

	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/memory"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/spell"
)

// AtRisk is an account at risk, with what signals said of it and people did.
type AtRisk = memory.AtRisk

// RiskReason is something that was said of an account, or done.
type RiskReason = memory.Reason

// RiskEntry is an entry of the journal of risks that people raised and settled. Each has the hash of the one before.
type RiskEntry = memory.Entry

// AtRisk lists the accounts at risk, by user.
func (b *Beside) AtRisk(ctx context.Context) ([]AtRisk, error) {
	return b.memory.AtRisk(ctx, bridge.Engine(b.Rulebook).Rulebook().People)
}

// RaiseRisk raises a user's risk to high and ends all sessions, as somebody decides, with a reason that the journal keeps. Every
// node obeys at once. It ends by [Beside.SettleRisk], or when the user has changed the password. The error says what stands
// against it.
func (b *Beside) RaiseRisk(ctx context.Context, user, by, because string) error {
	if err := b.mayWork(user, by, because); err != nil {
		return err
	}
	return b.memory.Raise(ctx, RiskEntry{User: user, By: by, Because: because})
}

// SettleRisk lowers what signals and people said of a user's risk and credentials. Nobody settles her own.
func (b *Beside) SettleRisk(ctx context.Context, user, by, because string) error {
	if err := b.mayWork(user, by, because); err != nil {
		return err
	}
	if user == by {
		return errors.New("nobody settles her own risk: somebody else has to look at it")
	}
	said, err := b.memory.Standing(ctx, user, bridge.Engine(b.Rulebook).Rulebook().People[user])
	if err != nil {
		return err
	}
	if len(said) == 0 {
		return fmt.Errorf("neither signals nor people said anything of %s: there is nothing to settle", user)
	}
	return b.memory.Settle(ctx, RiskEntry{User: user, By: by, Because: because})
}

// mayWork reports why somebody may not work on an account.
func (b *Beside) mayWork(user, by, because string) error {
	rb := bridge.Engine(b.Rulebook).Rulebook()
	who, whose := rb.People[by], rb.People[user]
	switch {
	case whose == nil:
		return unknownUser(rb, user)
	case whose.BreakGlass:
		return fmt.Errorf("%s is an emergency account: it is what the rulebook says", user)
	case who == nil:
		return unknownUser(rb, by)
	case who.Active == known.False:
		return fmt.Errorf("%s is disabled", by)
	case !lines.Says(because):
		return errors.New("a reason says something that can be read")
	}
	return nil
}

func unknownUser(rb *rulebook.Rulebook, user string) error {
	names := make([]string, 0, len(rb.People))
	for id := range rb.People {
		names = append(names, id)
	}
	err := fmt.Errorf("the user %q is not known", user)
	if hint := spell.Hint(user, names); hint != "" {
		err = fmt.Errorf("%w: %s", err, hint)
	}
	return err
}

// RiskJournal gives the entries of the journal. An error says that it was changed by other hands, or has lost entries.
func (b *Beside) RiskJournal(ctx context.Context) iter.Seq2[*RiskEntry, error] {
	return memory.Journal(ctx, b.store)
}

package cli

// Accounts at risk: who is, by signals and by people, and working through them.

import (
	"context"
	"fmt"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/service"
)

// needsState is what is said where an account's risk is asked for and no state is given.
const needsState = "say where the service remembers: --state FILE, or postgres://…"

// riskChanges are the commands that change an account's risk, and show the journal of it.
func (s *session) riskChanges() []*cobra.Command {
	raise := s.riskChange("raise USER", "Raise an account's risk to high, and end its sessions", "raised to high, and the sessions are ended", (*service.Beside).RaiseRisk)
	settle := s.riskChange("settle USER", "Settle an account's risk: what signals and people said of it", "settled", (*service.Beside).SettleRisk)
	journal := &cobra.Command{Use: "journal", Short: "Show who raised and settled risks, and why, and verify that nothing of it was changed", RunE: func(_ *cobra.Command, args []string) error {
		if len(args) > 0 {
			return usage("the journal is shown whole")
		}
		return s.withRemembered(s.riskJournal)
	}}
	s.addState(journal)
	return []*cobra.Command{raise, settle, journal}
}

// withRemembered does something with what the service remembers.
func (s *session) withRemembered(do func(*service.Beside) error) error {
	if s.state == "" {
		return usage(needsState)
	}
	_, remembered, done, err := s.beside()
	if err != nil {
		return err
	}
	defer done()
	return do(remembered)
}

// riskChange is a command that changes one account.
func (s *session) riskChange(use, short, after string, change func(b *service.Beside, ctx context.Context, user, by, because string) error) *cobra.Command {
	var r reasoned
	c := &cobra.Command{Use: use, Short: short}
	r.add(c)
	s.addState(c)
	c.RunE = func(c *cobra.Command, args []string) error {
		if len(args) != 1 {
			return usage("say whose: %s USER --by USER --because TEXT", c.CommandPath())
		}
		if err := r.given(c); err != nil {
			return err
		}
		return s.withRemembered(func(b *service.Beside) error {
			if err := change(b, s.ctx, args[0], r.by, r.because); err != nil {
				return usage("%w", err)
			}
			if s.json {
				return s.atRisk(b)
			}
			s.out.Printf("%s: the risk is %s. Every node obeys from now on.\n", s.paint.Bold(args[0]), screen.Styled(after))
			return nil
		})
	}
	return c
}

// atRisk lists the accounts at risk.
func (s *session) atRisk(b *service.Beside) error {
	list, err := b.AtRisk(s.ctx)
	if err != nil {
		return usage("%w", err)
	}
	if s.json {
		if list == nil {
			list = []service.AtRisk{}
		}
		return s.writeJSON(map[string]any{"accounts": list})
	}
	if len(list) == 0 {
		s.out.Println("No account is at risk by signals, and nobody has raised one.")
		return nil
	}
	s.out.Printf("%s at risk by signals, or raised:\n", s.paint.Bold(spell.Plural(len(list), "account")))
	zone := b.Zone()
	for i := range list {
		a := &list[i]
		what := "user.risk is " + a.Risk
		if a.Compromised {
			what += ", user.compromised"
		}
		s.out.Printf("\n%s  %s\n", s.paint.Bold(a.User), screen.Styled(what))
		for _, r := range a.Reasons {
			because := screen.Styled("")
			if r.Because != "" {
				because = screen.Styledf(": %s", screen.Clean(r.Because))
			}
			s.out.Printf("  %s  %s by %s%s\n", r.At.In(zone).Format("2006-01-02 15:04"), screen.Pad(r.What, 11), r.By, because)
		}
	}
	s.out.Printf("\n%s\n", "Once looked at: brisk risk settle USER --by YOU --because TEXT")
	return nil
}

// riskJournal shows who raised and settled what.
func (s *session) riskJournal(b *service.Beside) error {
	n := 0
	for e, err := range b.RiskJournal(s.ctx) {
		if err != nil {
			return fmt.Errorf("%w", err)
		}
		n++
		if s.json {
			if err := s.writeJSON(e); err != nil {
				return err
			}
			continue
		}
		s.out.Printf("%d  %s  %s %s by %s: %s\n", e.Number, e.Time.In(b.Zone()).Format("2006-01-02 15:04"), screen.Pad(e.What, 6), s.paint.Bold(e.User), e.By, e.Because)
	}
	if n == 0 && !s.json {
		s.out.Println("Nobody has raised or settled a risk.")
	}
	return nil
}

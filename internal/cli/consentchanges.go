package cli

// The commands that change the ledger: settle, withdraw, ban and unban.

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/internal/spell"
)

// reasoned are the options of a change: who makes it, and why.
type reasoned struct{ by, because string }

func (r *reasoned) add(c *cobra.Command) {
	c.Flags().StringVar(&r.by, "by", "", "who does it: a user")
	c.Flags().StringVar(&r.because, "because", "", "why: the journal keeps it")
}

// changing makes a command one that changes the ledger: it takes who does it and why, and its
// arguments are as wanted.
func (x *consents) changing(c *cobra.Command, wanted func(args []string) error, change func(args []string, r reasoned) error) *cobra.Command {
	var r reasoned
	r.add(c)
	c.Args = func(_ *cobra.Command, args []string) error { return wanted(args) }
	c.RunE = func(c *cobra.Command, args []string) error {
		if err := r.given(c); err != nil {
			return err
		}
		return x.run(true, func() error { return change(args, r) })
	}
	return c
}

// given reports what is missing of it.
func (r *reasoned) given(c *cobra.Command) error {
	switch {
	case r.by == "":
		return usage("say who does it: %s … --by USER", c.CommandPath())
	case r.because == "":
		return usage("say why, which the journal keeps: %s … --because TEXT", c.CommandPath())
	}
	return nil
}

func (x *consents) settleCommand() *cobra.Command {
	var only, until string
	c := &cobra.Command{Use: "settle ID grant|refuse", Short: "Grant or refuse a request that waits"}
	wanted := func(args []string) error {
		if len(args) != 2 || args[1] != "grant" && args[1] != "refuse" {
			return usage("say which one and how: brisk consent settle c-17 grant --by USER --because TEXT")
		}
		return nil
	}
	x.changing(c, wanted, func(args []string, r reasoned) error { return x.settle(args[0], args[1] == "grant", r, only, until) })
	c.Flags().StringVar(&only, "only", "", "grant these of the scopes alone, with commas or spaces between")
	c.Flags().StringVar(&until, "until", "", "the last day of the consent")
	return c
}

func (x *consents) settle(name string, grant bool, r reasoned, only, until string) error {
	id, err := consent.ParseID(name)
	if err != nil {
		return err
	}
	s := consent.Settlement{Grant: grant, By: r.by, Because: r.because,
		Only: strings.FieldsFunc(only, func(c rune) bool { return c == ',' || c == ' ' })}
	if until != "" {
		_, next, err := x.rules.Day(until)
		if err != nil {
			return fmt.Errorf("--until: %w", err)
		}
		s.Until = next
	}
	settled, err := x.ledger.Settle(x.ctx, id, s)
	if err != nil {
		return err
	}
	return x.changed(settled)
}

func (x *consents) withdrawCommand() *cobra.Command {
	c := &cobra.Command{Use: "withdraw ID", Short: "End a consent, or take a request back: by whoever gave it, or by a reviewer"}
	wanted := func(args []string) error {
		if len(args) != 1 {
			return usage("say which one: brisk consent withdraw c-17 --by USER --because TEXT")
		}
		return nil
	}
	return x.changing(c, wanted, func(args []string, r reasoned) error {
		id, err := consent.ParseID(args[0])
		if err != nil {
			return err
		}
		withdrawn, err := x.ledger.Withdraw(x.ctx, id, r.by, r.because)
		if err != nil {
			return err
		}
		return x.changed(withdrawn)
	})
}

// changed tells what became of a consent.
func (x *consents) changed(c *consent.Consent) error {
	if x.json {
		return x.writeJSON(c)
	}
	x.out.Printf("%s is %s, by %s: %s\n", x.paint.Bold(c.ID.String()), x.state(c.State, string(c.State), 0), c.By, screen.Wrapped(c.Because, 4))
	if c.State == consent.Granted {
		until := ""
		if !c.Until.IsZero() {
			until = ", up to " + x.day(c.Until.Add(-time.Second))
		}
		x.out.Printf("    %s\n", screen.Wrapped(fmt.Sprintf("%s now holds %s for %s%s", c.Client, spell.Few(c.Granted, 12), c.Holder(), until), 4))
	}
	return nil
}

// state tells how a consent stands, in a column of that width without why.
func (x *consents) state(s consent.State, standing string, width int) screen.Styled {
	word, _, _ := strings.Cut(standing, ":")
	text := screen.Pad(word, width)
	if width == 0 {
		text = screen.Clean(standing)
	}
	if word != string(s) { // it has ended
		return x.paint.Faint(text)
	}
	switch s {
	case consent.Granted:
		return x.paint.Green(text)
	case consent.Waiting:
		return x.paint.Amber(text)
	case consent.Refused, consent.Withdrawn:
		return x.paint.Red(text)
	}
	return text
}

func (x *consents) banCommand() *cobra.Command {
	return x.banning("ban CLIENT", "Block whatever a client asks for and holds, whatever the policies say",
		func(client string, r reasoned) (*consent.Client, error) {
			return x.ledger.Ban(x.ctx, client, r.by, r.because)
		})
}

func (x *consents) unbanCommand() *cobra.Command {
	return x.banning("unban CLIENT", "Lift the ban of a client; what it held before holds again",
		func(client string, r reasoned) (*consent.Client, error) {
			return x.ledger.Unban(x.ctx, client, r.by, r.because)
		})
}

func (x *consents) banning(use, short string, set func(client string, r reasoned) (*consent.Client, error)) *cobra.Command {
	wanted := func(args []string) error {
		if len(args) != 1 {
			return usage("name the client: brisk consent %s --by USER --because TEXT", use)
		}
		return nil
	}
	return x.changing(&cobra.Command{Use: use, Short: short}, wanted, func(args []string, r reasoned) error {
		known, err := x.clientNames()
		if err != nil {
			return err
		}
		client, err := set(args[0], r)
		if err != nil {
			return err
		}
		if !slices.Contains(known, client.ID) {
			x.err.Printf("brisk: nothing is known of a client %q; its ban holds for whatever asks by that name%s\n", client.ID, hint(client.ID, known))
		}
		return x.banned(client)
	})
}

// banned tells whether a client is, and what hangs on it.
func (x *consents) banned(c *consent.Client) error {
	if x.json {
		return x.writeJSON(c)
	}
	file, err := x.ledger.File(x.ctx, c.ID)
	if err != nil {
		return err
	}
	holds := spell.Plural(file.Holding.Holds, "consent")
	if !c.IsBanned() {
		x.out.Printf("%s is %s; %s again.\n", x.paint.Bold(c.ID), x.paint.Green("no longer banned"), holdAgain(file.Holding.Holds))
		return nil
	}
	x.out.Printf("%s is %s, by %s: %s\n", x.paint.Bold(c.ID), x.paint.Red("banned"), c.Banned.By, screen.Wrapped(c.Banned.Because, 4))
	x.out.Printf("    What it holds, %s of %s, is of no use for as long as it is.\n", holds, spell.Plural(file.Holding.People, "person"))
	return nil
}

func holdAgain(n int) string {
	if n == 1 {
		return "1 consent holds"
	}
	return spell.Plural(n, "consent") + " hold"
}

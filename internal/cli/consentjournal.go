package cli

// The journal of consents, and what today's policies would not give.

import (
	"fmt"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/signon"
)

func (x *consents) journalCommand() *cobra.Command {
	var verify bool
	c := x.view("journal", "Every change: who, what, when, why; --verify checks that nobody has changed it", func() error {
		if verify {
			return x.verify()
		}
		return x.journal()
	})
	c.Flags().BoolVar(&verify, "verify", false, "check the chain of hashes, and the ledger against it")
	return c
}

func (x *consents) journal() error {
	n := 0
	for e, err := range x.ledger.Journal(x.ctx) {
		if err == nil && x.json {
			err = x.writeJSON(e)
		}
		if err != nil {
			return err
		}
		if n++; !x.json {
			x.entry(e)
		}
	}
	if n == 0 && !x.json {
		x.out.Println("The journal is empty.")
	}
	return nil
}

func (x *consents) verify() error {
	v, err := consent.Verify(x.ctx, x.store)
	if err != nil {
		return &exit{exitFindings, fmt.Errorf("the journal does not hold: %w", err)}
	}
	if x.json {
		return x.writeJSON(v)
	}
	x.out.Printf("%s: %s, each chained to the one before, and the ledger is what they left it.\n", x.paint.Green("The journal holds"), plainEntries(v.Entries))
	if v.Entries > 0 {
		x.out.Printf("The last is %s\nNote it elsewhere: an end that is cut off shows by nothing else.\n", v.Head)
	}
	return nil
}

func plainEntries(n int64) string { return spell.Plural(int(n), "entry") }

func (x *consents) auditCommand() *cobra.Command {
	return x.view("audit", "Consents that hold, though today's policies would not give them", x.audit)
}

func (x *consents) audit() error {
	checked, found, err := x.ledger.Audit(x.ctx)
	if err != nil {
		return err
	}
	if x.json {
		return x.writeJSON(auditJSON(checked, found))
	}
	if len(found) == 0 {
		x.out.Printf("%s: today's policies would give every consent that holds (%d) again.\n", x.paint.Green("Nothing to mend"), checked)
		return nil
	}
	x.out.Printf("%s, of %d that hold, would not be given today.\n", x.paint.Bold(spell.Plural(len(found), "consent")), checked)
	const most = 50
	for _, f := range found[:min(len(found), most)] {
		c := f.Consent
		today := "would be blocked"
		if f.Outcome == signon.Review {
			today = "would wait for a review by " + f.Group
		}
		x.out.Printf("\n%s %s\n", x.paint.Bold(screen.Pad(c.ID.String(), 6)), screen.Wrapped(fmt.Sprintf("%s holds %s of %s, for %s", c.Client, spell.Few(c.Granted, 6), c.App, c.Holder()), 7))
		x.out.Printf("       %s, by %s\n", x.paint.Outcome(f.Outcome, today), f.Policy)
		x.out.Printf("       %s\n", x.paint.Faint(fmt.Sprintf("brisk consent withdraw %s --by REVIEWER --because TEXT", c.ID)))
	}
	if more := len(found) - most; more > 0 {
		x.out.Printf("\nand %d more; --json lists all\n", more)
	}
	return nil
}

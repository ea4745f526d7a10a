package cli

// How the last week went.

import (
	"strings"
	"time"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/consent"
	"briskwarden.example/briskwarden/digest"
	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/replay"
	"briskwarden.example/briskwarden/service"
)

// digestFlags are the options of "brisk digest".
type digestFlags struct {
	from, to, html string
	within         time.Duration
}

func (s *session) digestCommand() *cobra.Command {
	var f digestFlags
	c := &cobra.Command{
		Use:   "digest LOG…",
		Short: "Tell how the last week went: what got worse, what was stopped, what ends soon",
		Long: "digest tells how the last week went, as the service sends it where the rulebook has a digest: sign-ons beside the\n" +
			"week before, who is at risk, what policies stopped, what ends soon, what has gone quiet. What got worse stands first,\n" +
			"what is as it should be is left out. \"-\" is standard input.",
		RunE: func(_ *cobra.Command, logs []string) error {
			if len(logs) == 0 {
				return usage("name at least one log: brisk digest LOG…")
			}
			return s.digest(logs, &f)
		},
	}
	c.Flags().StringVar(&f.from, "from", "", "tell of what was from this date or instant on (default: a week before the end)")
	c.Flags().StringVar(&f.to, "to", "", "tell of what was up to this date, or before this instant (default: now)")
	c.Flags().StringVar(&f.html, "html", "", "write the page that is mailed to a file")
	c.Flags().DurationVar(&f.within, "within", 20*time.Second, "how long the promises may take to be proved")
	s.addState(c)
	return c
}

func (s *session) digest(logs []string, f *digestFlags) error {
	rules, remembered, done, err := s.beside()
	if err != nil {
		return err
	}
	defer done()
	o := digest.Options{Within: f.within}
	if o.From, o.To, err = bounds(f.from, f.to, rules); err != nil {
		return err
	}
	closing, err := s.digestSources(rules, remembered, &o)
	if err != nil {
		return err
	}
	defer closing()
	var d *digest.Digest
	err = s.withLogs(logs, func(logs []replay.Log, progress func(int)) (err error) {
		o.Progress = progress
		d, err = digest.Make(s.ctx, rules, logs, o)
		return err
	})
	if err != nil {
		return err
	}
	if f.html != "" {
		if err := lines.WriteFile(f.html, d.HTML()); err != nil {
			return usage("%w", err)
		}
	}
	if s.json {
		return s.writeJSON(d)
	}
	for line := range strings.Lines(d.Text(screen.Width)) {
		if strings.HasPrefix(line, "! ") {
			s.out.Println(s.paint.Amber(strings.TrimSpace(line)))
		} else {
			s.out.Print(screen.Styled(line))
		}
	}
	if d.SignOns.All == 0 && !d.Latest.IsZero() && d.Latest.Before(d.From) {
		s.out.Printf("\n%s\n", "The logs end before: try --to "+d.Latest.In(rules.Zone()).Format(time.DateOnly))
	}
	return nil
}

// digestSources brings what neither rulebook nor logs have: what a service remembers, or the ledger beside the rulebook, and the
// commits of the version control that the rulebook lies in.
func (s *session) digestSources(rules *briskwarden.Rulebook, remembered *service.Beside, o *digest.Options) (done func(), err error) {
	done = func() {}
	if remembered != nil {
		if err := remembered.Watch(s.ctx, o); err != nil {
			return done, usage("%w", err)
		}
	} else {
		store, closing, err := s.ledgerBeside()
		if err != nil {
			return done, err
		}
		if done = closing; store != nil {
			o.Ledger = consent.New(store, rules)
		}
	}
	if err := o.Complete(rules); err != nil {
		return done, usage("%w", err)
	}
	if o.Commits, err = digest.Commits(s.ctx, s.opened, o.From, o.To); err != nil {
		return done, usage("the version control that the rulebook lies in: %w", err)
	}
	return done, nil
}

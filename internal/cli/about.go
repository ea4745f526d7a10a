package cli

// Everything that concerns one thing.

import (
	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden/about"
	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/replay"
)

func (s *session) aboutCommand() *cobra.Command {
	var logs []string
	var last int
	c := &cobra.Command{
		Use:   "about KIND NAME",
		Short: "Tell everything that concerns one person, group, app, network, method, device, country or client",
		Long: "about tells what is known of one thing, what it gets to or who gets to it, what speaks of it and where, who would feel\n" +
			"it if it went, and with --log or --state the last sign-ons. KIND is user, group, app, network, method, device, country\n" +
			"or client.",
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) != 2 {
				return usage("say what it is about: brisk about user U, or group G, app A, network N, method M, device D, country C, client ID")
			}
			return s.about(about.Kind(args[0]), args[1], logs, last)
		},
	}
	c.Flags().StringArrayVar(&logs, "log", nil, "tell its last sign-ons from a log; may be given several times")
	c.Flags().IntVar(&last, "last", 10, "how many of them")
	s.addState(c)
	return c
}

func (s *session) about(kind about.Kind, name string, logs []string, last int) error {
	if last < 1 {
		return usage("--last: tell at least 1, found %d", last)
	}
	rules, remembered, done, err := s.beside()
	if err != nil {
		return err
	}
	defer done()
	o := about.Options{Last: last}
	if remembered != nil {
		if err := remembered.About(s.ctx, kind, name, &o); err != nil {
			return usage("%w", err)
		}
	} else {
		store, closing, err := s.ledgerBeside()
		if err != nil {
			return err
		}
		defer closing()
		if store != nil {
			o.Consents = store
		}
	}
	var a *about.About
	err = s.withLogs(logs, func(logs []replay.Log, _ func(int)) (err error) {
		o.Logs = logs
		a, err = about.Find(s.ctx, rules, kind, name, o)
		return err
	})
	if err != nil {
		return err
	}
	if s.json {
		return s.writeJSON(a)
	}
	s.out.Print(screen.Styled(a.Text(screen.Width)))
	return nil
}

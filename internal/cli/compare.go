package cli

// brisk compare.

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/replay"
	"briskwarden.example/briskwarden/report"
	"briskwarden.example/briskwarden/signon"
)

func (s *session) compareCommand() *cobra.Command {
	var logs []string
	var f replayFlags
	c := &cobra.Command{
		Use:   "compare OLD NEW --log LOG",
		Short: "Take a log through two rulebooks, and tell what the new one decides differently",
		RunE: func(_ *cobra.Command, args []string) error {
			switch {
			case len(args) != 2:
				return usage("name two rulebooks' folders: brisk compare OLD NEW --log LOG")
			case len(logs) == 0:
				return usage("name a log to compare them by: --log LOG")
			}
			return s.compare(args[0], args[1], logs, f)
		},
	}
	c.Flags().StringArrayVar(&logs, "log", nil, "a sign-on log; may be given several times, and \"-\" is standard input")
	c.Flags().StringVar(&f.out, "out", "", "write what changes to a file as JSON Lines, packed if it ends in .gz or .zst")
	f.report.add(c.Flags())
	return c
}

func (s *session) compare(before, after string, logs []string, f replayFlags) error {
	var rules [2]*briskwarden.Rulebook
	for i, dir := range []string{before, after} {
		var err error
		if rules[i], err = s.rulesIn(dir); errors.Is(err, errUnsound) {
			err = usage("%s: %w", dir, errUnsound)
		}
		if err != nil {
			return err
		}
	}
	var c *replay.Comparison
	err := f.run(func() error {
		return s.withLogs(logs, func(logs []replay.Log, progress func(int)) (err error) {
			f.options.Progress = progress
			c, err = replay.Compare(s.ctx, rules[0], rules[1], logs, f.options)
			return err
		})
	})
	if err != nil {
		return err
	}
	if err := s.writeReport(f.report, func() *report.Page { return report.Compare(rules[0], rules[1], c) }); err != nil {
		return err
	}
	if s.json {
		return s.writeJSON(c)
	}
	s.comparison(c, rules[1].Zone())
	return nil
}

// mostGroups is how many ways in which sign-ons change are shown.
const mostGroups = 20

func (s *session) comparison(c *replay.Comparison, zone *time.Location) {
	if c.Compared+c.Consents.Compared == 0 {
		s.out.Println("The log holds no sign-on to compare by.")
	}
	if c.Compared > 0 {
		s.difference(&c.Difference, "sign-on", zone)
	}
	if c.Compared > 0 && c.Consents.Compared > 0 {
		s.out.Println()
	}
	if c.Consents.Compared > 0 {
		s.difference(&c.Consents, "request", zone)
	}
	s.badLines(c.Bad, c.BadLines)
}

// difference tells what changes of sign-ons, or of requests for consent.
func (s *session) difference(c *replay.Difference, what string, zone *time.Location) {
	_, _, changed := c.From.Changes()
	all := spell.Plural(c.Compared, what)
	if what == "request" {
		all += " for consent"
	}
	verdict := s.paint.Green("nothing changes")
	if changed > 0 {
		verdict = s.paint.Amber(fmt.Sprintf("%d change", changed)) + screen.Styledf(" for %s, %d stay as they are", spell.Plural(len(c.People), "person"), c.Compared-changed)
	}
	s.out.Printf("Of %s, %s to %s, %s.\n", s.paint.Bold(all), c.First.In(zone).Format("Mon 2006-01-02"),
		c.Last.In(zone).Format("Mon 2006-01-02"), verdict)
	s.matrix(c)
	for _, g := range c.Groups[:min(len(c.Groups), mostGroups)] {
		s.group(g, what, zone)
	}
	if more := len(c.Groups) - mostGroups; more > 0 {
		s.out.Printf("\nand %s more\n", spell.Plural(more, "way"))
	}
}

// matrix is the table from outcome to outcome.
func (s *session) matrix(c *replay.Difference) {
	outcomes := []signon.Outcome{signon.Grant, signon.Review, signon.StepUp, signon.Block}
	s.out.Printf("\n%s %s\n", s.paint.Blue(screen.Pad("From, and to", 14)), s.paint.Faint("  grant  review step-up   block"))
	for _, from := range outcomes {
		s.out.Printf("  %s", screen.Pad(from.String(), 12))
		for _, to := range outcomes {
			n := screen.Styledf(" %7s", number(c.From[from][to]))
			if from != to && c.From[from][to] > 0 {
				n = s.paint.Outcome(to, n)
			}
			s.out.Print(n)
		}
		s.out.Println()
	}
}

func (s *session) group(g *replay.Group, what string, zone *time.Location) {
	s.out.Printf("\n%s from %s to %s, because %s\n", s.paint.Bold(spell.Plural(g.Count, what)), g.From, s.paint.Outcome(g.To, g.To.String()),
		screen.Wrapped(strings.Join(g.Because, " and "), 6))
	s.out.Printf("      %s\n", screen.Wrapped(affected(g.People, what), 6))
	for _, e := range g.Examples {
		s.out.Printf("      %s\n", s.paint.Faint(screen.Wrapped(fmt.Sprintf("%s to %s, %s (%s)", e.User, e.App, e.Time.In(zone).Format("Mon 2006-01-02 15:04"), orAt(e)), 8)))
	}
}

// orAt names a sign-on by its id, or by where it stands in the log.
func orAt(e replay.Example) string {
	if e.ID != "" {
		return e.ID
	}
	return e.At
}

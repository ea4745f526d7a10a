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
	"briskwarden.example/briskwarden/prove"
	"briskwarden.example/briskwarden/replay"
	"briskwarden.example/briskwarden/report"
	"briskwarden.example/briskwarden/signon"
)

type compareFlags struct {
	replayFlags
	span     spanFlags
	scope    prove.Scope
	logs     []string
	exitCode bool
}

func (s *session) compareCommand() *cobra.Command {
	var f compareFlags
	c := &cobra.Command{
		Use:   "compare OLD NEW [--log LOG]",
		Short: "Tell what a new rulebook decides differently: for every possible sign-on, or of a log",
		Long: "compare takes every possible sign-on through two rulebooks, and tells every way in which some come out\n" +
			"differently, each with a sign-on to show for it; or that none does. With --log it takes the sign-ons of a log.",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) != 2 {
				return usage("name two rulebooks' folders: brisk compare OLD NEW [--log LOG]")
			}
			for _, name := range []string{"from", "until", "within", "as-enforced", "who", "to"} {
				if len(f.logs) > 0 && c.Flags().Changed(name) {
					return usage("--%s is about every possible sign-on, and --log about those of a log: leave one of them out", name)
				}
			}
			for _, name := range []string{"out", "report", "charts"} {
				if len(f.logs) == 0 && c.Flags().Changed(name) {
					return usage("--%s is about the sign-ons of a log: name one with --log", name)
				}
			}
			return s.compare(args[0], args[1], f)
		},
	}
	c.Flags().StringArrayVar(&f.logs, "log", nil, "a sign-on log to compare them by; may be given several times, and \"-\" is standard input")
	c.Flags().StringVar(&f.out, "out", "", "with --log: write what changes to a file as JSON Lines, packed if it ends in .gz or .zst")
	c.Flags().StringVar(&f.scope.Who, "who", "", "only these people, such as \"group admins, type service\"")
	c.Flags().StringVar(&f.scope.To, "to", "", "only these apps, such as \"tag money except app ledger\"")
	c.Flags().BoolVar(&f.exitCode, "exit-code", false, "exit with 1 where something differs")
	f.span.add(c.Flags())
	f.span.addEnforced(c.Flags())
	f.report.add(c.Flags())
	return c
}

func (s *session) compare(before, after string, f compareFlags) error {
	var rules [2]*briskwarden.Rulebook
	var now time.Time
	for i, dir := range []string{before, after} {
		var err error
		if rules[i], err = s.rulesIn(dir, briskwarden.WithClock(func() time.Time { return now })); errors.Is(err, errUnsound) {
			err = usage("%s: %w", dir, errUnsound)
		}
		if err != nil {
			return err
		}
	}
	var err error
	if now, err = s.clock(rules[1]); err != nil {
		return err
	}
	differs := false
	if len(f.logs) > 0 {
		differs, err = s.compareLogs(rules, f)
	} else {
		differs, err = s.compareAll(rules, f)
	}
	if err == nil && differs && f.exitCode {
		err = &exit{status: exitFindings}
	}
	return err
}

// compareLogs takes logs through both rulebooks.
func (s *session) compareLogs(rules [2]*briskwarden.Rulebook, f compareFlags) (differs bool, err error) {
	var c *replay.Comparison
	err = f.run(func() error {
		return s.withLogs(f.logs, func(logs []replay.Log, progress func(int)) (err error) {
			f.options.Progress = progress
			c, err = replay.Compare(s.ctx, rules[0], rules[1], logs, f.options)
			return err
		})
	})
	if err != nil {
		return false, err
	}
	if err := s.writeReport(f.report, func() *report.Page { return report.Compare(rules[0], rules[1], c) }); err != nil {
		return false, err
	}
	_, _, changed := c.From.Changes()
	_, _, requests := c.Consents.From.Changes()
	if s.json {
		return changed+requests > 0, s.writeJSON(c)
	}
	s.comparison(c, rules[1].Zone())
	return changed+requests > 0, nil
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

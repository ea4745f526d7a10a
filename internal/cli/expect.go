package cli

// brisk expect.

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/expect"
	"briskwarden.example/briskwarden/explain"
	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/replay"
)

func (s *session) expectCommand() *cobra.Command {
	var junit string
	var from []string
	c := &cobra.Command{
		Use:   "expect [NAME…]",
		Short: "Run the rulebook's expectations; of one that fails, say what was decided instead and why",
		RunE: func(_ *cobra.Command, names []string) error {
			if len(from) > 0 {
				if len(names) > 0 || junit != "" {
					return usage("--from proposes expectations, and runs none: leave out %q", append(names, "--junit")[0])
				}
				return s.propose(from)
			}
			return s.expect(names, junit)
		},
	}
	c.Flags().StringArrayVar(&from, "from", nil, "propose expectations from a sign-on log instead; may be given several times")
	c.Flags().StringVar(&junit, "junit", "", "write the results to a file in JUnit's XML")
	return c
}

func (s *session) expect(names []string, junit string) error {
	rules, _, err := s.rules()
	if err != nil {
		return err
	}
	results, err := expect.Run(s.ctx, rules, names...)
	var unknown *expect.UnknownError
	switch all := strings.Join(names, " "); {
	case errors.As(err, &unknown) && slices.Contains(unknown.Known, all):
		return usage("put the name in quotes: brisk expect %q", all)
	case unknown != nil:
		return usage("%w%s", err, hint(unknown.Name, unknown.Known))
	case err != nil:
		return usage("%w", err)
	}
	if s.json {
		err = s.writeJSON(results)
	} else {
		s.expectText(rules, results)
	}
	if err == nil && junit != "" {
		err = writeJUnit(junit, results)
	}
	if err == nil && results.Failed > 0 {
		err = &exit{status: exitFindings}
	}
	return err
}

// writeJUnit writes the results to a file.
func writeJUnit(name string, results *expect.Results) error {
	text, err := results.JUnit()
	if err == nil {
		err = lines.WriteFile(name, text)
	}
	if err != nil {
		return usage("%w", err)
	}
	return nil
}

// propose writes a few sign-ons of the logs that cover every case and outcome seen, as expectations.
func (s *session) propose(names []string) error {
	rules, _, err := s.rules()
	if err != nil {
		return err
	}
	var p *expect.Proposal
	err = s.withLogs(names, func(logs []replay.Log, progress func(int)) (err error) {
		p, err = expect.Propose(s.ctx, rules, logs, progress)
		return err
	})
	if err != nil {
		return err
	}
	s.out.Source([]byte(p.Text))
	if p.Left > 0 {
		s.err.Printf("brisk: %s showed something new that the clauses of an expectation cannot tell\n", spell.Plural(p.Left, "sign-on"))
	}
	s.badLines(p.Bad, len(p.Bad))
	return nil
}

func (s *session) expectText(rules *briskwarden.Rulebook, results *expect.Results) {
	for _, r := range results.Expectations {
		if r.Passed {
			s.out.Printf("%s  %s\n", s.paint.Green("ok  "), r.Name)
			continue
		}
		s.out.Printf("%s  %s %s\n", s.paint.Red("FAIL"), s.paint.Bold(r.Name), s.paint.Faint("("+r.At+")"))
		for _, f := range r.Failed {
			s.out.Printf("      %s\n", screen.Wrapped(f, 6))
		}
		s.out.Println()
		s.out.Print(screen.Styled(explain.Text(rules, r.SignOn, r.Decision, explain.Options{Colour: bool(s.paint), Brief: true})))
		s.out.Println()
	}
	switch n := len(results.Expectations); {
	case n == 0:
		s.out.Println("The rulebook has no expectations.")
	case results.Failed == 0:
		s.out.Printf("%s.\n", s.paint.Green(fmt.Sprintf("All %s hold", spell.Plural(n, "expectation"))))
	default:
		s.out.Printf("%s.\n", s.paint.Red(fmt.Sprintf("%d of %s failed", results.Failed, spell.Plural(n, "expectation"))))
	}
	if results.Unproved > 0 {
		s.out.Printf("%s not proved: %s\n", spell.Plural(results.Unproved, "promise"), s.paint.Blue("brisk prove"))
	}
}

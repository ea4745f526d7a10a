package cli

import (
	"encoding/xml"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/expect"
	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/replay"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language"
	"briskwarden.example/briskwarden/signon"
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
	e, now, err := s.engine()
	if err != nil {
		return err
	}
	results, err := runExpectations(e, names, now)
	if err != nil {
		return err
	}
	failed := 0
	for i := range results {
		if len(results[i].Failed) > 0 {
			failed++
		}
	}
	if s.json {
		err = s.expectJSON(results, failed)
	} else {
		s.expectText(e, results, failed)
	}
	if err == nil && junit != "" {
		err = writeJUnit(junit, e.Rulebook().Name, results, failed)
	}
	if err == nil && failed > 0 {
		err = &exit{status: exitFindings}
	}
	return err
}

// propose writes a few sign-ons of the logs that cover every case and outcome seen, as expectations.
func (s *session) propose(logs []string) error {
	e, _, err := s.engine()
	if err != nil {
		return err
	}
	p := expect.NewProposer(e)
	var bad []replay.BadLine
	err = s.eachLog(logs, func(in io.Reader, name string) error {
		return replay.Each(in, name, func(l *replay.Line) error { return p.Consider(&l.SignOn) }, func(b replay.BadLine) { bad = append(bad, b) })
	})
	if err != nil {
		return err
	}
	text, err := language.Format("proposal", []byte(p.Expectations()))
	if err != nil {
		return err
	}
	s.out.source(text)
	if p.Left > 0 {
		s.err.printf("brisk: %s showed something new that the clauses of an expectation cannot tell\n", spell.Plural(p.Left, "sign-on"))
	}
	s.badLines(bad, len(bad))
	return nil
}

func runExpectations(e *engine.Engine, names []string, now time.Time) (results []expect.Result, err error) {
	wanted := map[string]bool{}
	for _, n := range names {
		wanted[n] = true
	}
	var known []string
	for _, x := range e.Rulebook().Expects {
		known = append(known, x.Name)
		if len(names) > 0 && !wanted[x.Name] {
			continue
		}
		delete(wanted, x.Name)
		r, err := expect.Run(e, x, now)
		if err != nil {
			return nil, usage("%w", err)
		}
		results = append(results, r)
	}
	for _, n := range names {
		if wanted[n] && slices.Contains(known, strings.Join(names, " ")) {
			return nil, usage("put the name in quotes: brisk expect %q", strings.Join(names, " "))
		}
		if wanted[n] {
			return nil, usage("there is no expectation %q%s", n, hint(n, known))
		}
	}
	return results, nil
}

func (s *session) expectText(e *engine.Engine, results []expect.Result, failed int) {
	for i := range results {
		r := &results[i]
		at := r.Expect.Decl.Name.Pos
		if len(r.Failed) == 0 {
			s.out.printf("%s  %s\n", s.paint.green("ok  "), r.Expect.Name)
			continue
		}
		s.out.printf("%s  %s %s\n", s.paint.red("FAIL"), s.paint.bold(r.Expect.Name),
			s.paint.faint(fmt.Sprintf("(%s:%d)", at.File, at.Line)))
		for _, f := range r.Failed {
			s.out.printf("      %s\n", wrapped(f, 6))
		}
		v := verdict{out: s.out, paint: s.paint, rb: e.Rulebook(), so: &r.SignOn, d: &r.Decision, brief: true}
		s.out.println()
		v.print()
		s.out.println()
	}
	switch n := len(results); {
	case n == 0:
		s.out.println("The rulebook has no expectations.")
	case failed == 0:
		s.out.printf("%s.\n", s.paint.green(fmt.Sprintf("All %s hold", spell.Plural(n, "expectation"))))
	default:
		s.out.printf("%s.\n", s.paint.red(fmt.Sprintf("%d of %s failed", failed, spell.Plural(n, "expectation"))))
	}
}

type jsonExpectation struct {
	Name     string          `json:"name"`
	At       string          `json:"at"`
	Passed   bool            `json:"passed"`
	Failed   []string        `json:"failed,omitempty"`
	Decision signon.Decision `json:"decision"`
}

func (s *session) expectJSON(results []expect.Result, failed int) error {
	answer := struct {
		Passed       int               `json:"passed"`
		Failed       int               `json:"failed"`
		Expectations []jsonExpectation `json:"expectations"`
	}{len(results) - failed, failed, []jsonExpectation{}}
	for _, r := range results {
		at := r.Expect.Decl.Name.Pos
		answer.Expectations = append(answer.Expectations, jsonExpectation{r.Expect.Name, fmt.Sprintf("%s:%d", at.File, at.Line),
			len(r.Failed) == 0, r.Failed, r.Decision})
	}
	return s.writeJSON(answer)
}

type (
	junitSuite struct {
		XMLName  xml.Name    `xml:"testsuite"`
		Name     string      `xml:"name,attr"`
		Tests    int         `xml:"tests,attr"`
		Failures int         `xml:"failures,attr"`
		Cases    []junitCase `xml:"testcase"`
	}
	junitCase struct {
		Name    string        `xml:"name,attr"`
		Class   string        `xml:"classname,attr"`
		File    string        `xml:"file,attr"`
		Line    int32         `xml:"line,attr"`
		Failure *junitFailure `xml:"failure"`
	}
	junitFailure struct {
		Message string `xml:"message,attr"`
		Text    string `xml:",chardata"`
	}
)

func writeJUnit(name, rulebook string, results []expect.Result, failed int) error {
	suite := junitSuite{Name: rulebook, Tests: len(results), Failures: failed}
	for i := range results {
		r := &results[i]
		at := r.Expect.Decl.Name.Pos
		c := junitCase{Name: r.Expect.Name, Class: rulebook, File: at.File, Line: at.Line}
		if len(r.Failed) > 0 {
			why := []string{"decided: " + r.Decision.Outcome.String() + " by " + expect.By(&r.Decision)}
			for _, e := range r.Decision.Explanation.Deciding {
				why = append(why, e.At+": "+e.Why)
			}
			c.Failure = &junitFailure{strings.Join(r.Failed, "; "), strings.Join(why, "\n")}
		}
		suite.Cases = append(suite.Cases, c)
	}
	text, err := xml.MarshalIndent(suite, "", "  ")
	if err != nil {
		return err
	}
	if err := lines.WriteFile(name, []byte(xml.Header+spell.PrintableLines(string(text))+"\n")); err != nil {
		return usage("%w", err)
	}
	return nil
}

package cli

// brisk check.

import (
	"cmp"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/findings"
	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/plainjson"
	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/internal/spell"
)

func (s *session) checkCommand() *cobra.Command {
	var sarif string
	var exact exactFlags
	c := &cobra.Command{
		Use:   "check",
		Short: "Read everything, and report errors and warnings with their places",
		Args: func(c *cobra.Command, args []string) error {
			if len(args) == 1 && isFolder(args[0]) {
				return usage("check takes no folder: write brisk check --rulebook %s", spell.Shell(args))
			}
			return noArgs(c, args)
		},
		RunE: func(c *cobra.Command, _ []string) error {
			for _, name := range []string{"from", "until", "within"} {
				if !exact.exact && c.Flags().Changed(name) {
					return usage("--%s is about every possible sign-on: say --exact too", name)
				}
			}
			return s.check(sarif, exact)
		},
	}
	c.Flags().BoolVar(&exact.exact, "exact", false, "go through every possible sign-on too, for what never comes and who never gets in")
	exact.spanFlags.add(c.Flags())
	c.Flags().StringVar(&sarif, "sarif", "", "write the findings to a file in SARIF 2.1.0 too")
	return c
}

func isFolder(name string) bool {
	info, err := os.Stat(name)
	return err == nil && info.IsDir()
}

// noArgs is cobra.NoArgs in our words.
func noArgs(c *cobra.Command, args []string) error {
	if len(args) > 0 {
		return usage("%s takes no arguments, found %q", c.CommandPath(), args[0])
	}
	return nil
}

// exactFlags say whether every possible sign-on is gone through, and which.
type exactFlags struct {
	spanFlags
	exact bool
}

func (s *session) check(sarif string, exact exactFlags) error {
	dir, err := s.root()
	if err != nil {
		return err
	}
	defer dir.Close()
	within, err := exact.limit()
	if err != nil {
		return err
	}
	r, err := findings.Read(s.ctx, dir.FS(), findings.Options{At: s.at, Exact: exact.exact, Span: findings.Span{From: exact.from, Until: exact.until, Within: within}})
	if err != nil {
		return usage("%w", err)
	}
	if s.json {
		err = s.writeJSON(r)
	} else {
		(&listing{out: s.out, dir: s.opened, paint: s.paint}).print(problemsOf(r.Findings))
		s.checkSummary(r)
	}
	if err == nil && sarif != "" {
		err = writeSARIF(sarif, r)
	}
	switch {
	case err != nil:
	case r.Errors > 0:
		err = &exit{status: exitFindings}
	case r.Undecided != "":
		err = &exit{status: exitUsage}
	}
	return err
}

func problemsOf(list []findings.Finding) (problems []briskwarden.Problem) {
	for _, f := range list {
		problems = append(problems, f.Problem)
	}
	return problems
}

// writeSARIF writes the findings to a file.
func writeSARIF(name string, r *findings.Report) error {
	text, err := r.SARIF(version)
	if err == nil {
		err = lines.WriteFile(name, append(text, '\n'))
	}
	if err != nil {
		return usage("%w", err)
	}
	return nil
}

func (s *session) checkSummary(r *findings.Report) {
	if r.Errors > 0 {
		s.out.Printf("%s, %s: a rulebook with errors never decides.\n", s.paint.Red(spell.Plural(r.Errors, "error")), spell.Plural(r.Warnings, "warning"))
		return
	}
	verdict := s.paint.Green("no errors")
	if r.Warnings > 0 {
		verdict += ", " + s.paint.Amber(spell.Plural(r.Warnings, "warning"))
	}
	if len(r.Accepted) > 0 {
		verdict += screen.Styledf(", %d accepted", len(r.Accepted))
	}
	s.out.Printf("%s: %s.\n", s.paint.Bold(r.Rulebook), verdict)
	if !r.From.IsZero() && r.Undecided == "" {
		s.out.Printf("Went through every possible sign-on %s.\n", s.spanText(r.From, r.Until))
	}
	if r.Undecided != "" {
		s.out.Printf("%s\n", screen.Wrapped(s.paint.Amber("Not every possible sign-on was gone through in time")+screen.Styledf(": %s; allow more with --within", r.Undecided), 2))
	}
	for _, a := range r.Accepted {
		s.out.Printf("  %s\n", s.paint.Faint(screen.Wrapped(fmt.Sprintf("accepted %s:%d %s, because %s", a.File, a.Line, a.Code, a.Because), 4)))
	}
	s.out.Printf("Read %s: %s.\n", r.Read[0], strings.Join(r.Read[1:], ", "))
	s.checkLoaded(r.Loaded)
}

// checkLoaded tells what came from each file that the rulebook points to.
func (s *session) checkLoaded(loaded []findings.Loaded) {
	width := 0
	for _, l := range loaded {
		width = max(width, screen.Cells(string(screen.Clean(l.File))))
	}
	for _, l := range loaded {
		line := screen.Clean(cmp.Or(tallies(l.Items), "nothing"))
		if len(l.Aside) > 0 {
			var aside []string
			for _, t := range l.Aside {
				aside = append(aside, fmt.Sprintf("%d %s", t.Count, t.What))
			}
			line += s.paint.Faint("; left aside: " + strings.Join(aside, ", "))
		}
		s.out.Printf("  %s  %s\n", screen.Pad(l.File, width), line)
	}
}

func tallies(list []findings.Tally) string {
	var parts []string
	for _, t := range list {
		parts = append(parts, spell.Plural(t.Count, t.What))
	}
	return strings.Join(parts, ", ")
}

// writeJSON writes a value as one line.
func (s *session) writeJSON(v any) error {
	text, err := plainjson.Marshal(v)
	if err == nil {
		_, err = s.out.Machine().Write(append(text, '\n'))
	}
	return err
}

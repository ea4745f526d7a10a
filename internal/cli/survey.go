package cli

// brisk survey.

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/replay"
	"briskwarden.example/briskwarden/report"
	"briskwarden.example/briskwarden/survey"
)

type surveyFlags struct {
	spanFlags
	logs   []string
	report reportFlags
}

func (s *session) surveyCommand() *cobra.Command {
	var f surveyFlags
	c := &cobra.Command{
		Use:   "survey",
		Short: "Tell how well every app is covered: the least that ever lets anybody in, and what to do next",
		Long: "survey goes through every possible sign-on, and tells for every app, of people who fare alike there, the\n" +
			"least that ever lets them in: which assurance level, on what device, from where, at which risk.",
		Args: noArgs,
		RunE: func(*cobra.Command, []string) error { return s.survey(f) },
	}
	c.Flags().StringArrayVar(&f.logs, "log", nil, "tell of a sign-on log how often each way in was used; may be given several times")
	f.add(c.Flags())
	f.addEnforced(c.Flags())
	f.report.add(c.Flags())
	return c
}

func (s *session) survey(f surveyFlags) error {
	ctx, done, rules, span, err := s.spanned(&f.spanFlags)
	if err != nil {
		return err
	}
	defer done()
	r, err := survey.Of(ctx, rules, span)
	if err != nil {
		return usage("%w; allow more with --within", err)
	}
	if len(f.logs) > 0 {
		err := s.withLogs(f.logs, func(logs []replay.Log, progress func(int)) error { return r.Use(s.ctx, rules, logs, progress) })
		if err != nil {
			return err
		}
	}
	if err := s.writeReport(f.report, func() *report.Page { return report.Survey(r) }); err != nil {
		return err
	}
	if s.json {
		return s.writeJSON(r)
	}
	s.surveyText(r)
	return nil
}

func (s *session) surveyText(r *survey.Report) {
	s.out.Printf("Of %s (a person and an app that she can ever get into), %s.\n", s.paint.Bold(spell.Plural(r.Ways, "way")+" in"),
		s.spanText(r.From, r.Until))
	for _, x := range []struct {
		n    int
		what string
	}{{r.OneFactor, "stand on one factor, or none"}, {r.AnyDevice, "are open on any device"}, {r.Anywhere, "are open from anywhere"}} {
		n := s.paint.Green("   none")
		if x.n > 0 {
			n = s.paint.Amber(fmt.Sprintf("%7s", number(x.n)))
		}
		s.out.Printf("%s  %s\n", n, x.what)
	}
	if r.AsEnforced {
		s.out.Println("Policies on watch count as if they were enforced.")
	}
	for i, x := range r.Exceptions[:min(len(r.Exceptions), mostExceptions)] {
		head := ""
		if i == 0 {
			head = "Exceptions"
		}
		s.out.Printf("%s %s\n", s.paint.Blue(screen.Pad(head, 11)), screen.Wrapped(fmt.Sprintf("%s: %s", x.What, spell.Few(x.People, 4)), 12))
	}
	if more := len(r.Exceptions) - mostExceptions; more > 0 {
		s.out.Printf("            %s\n", s.paint.Faint(fmt.Sprintf("and %d more, which --json lists", more)))
	}
	s.surveyTable(r)
	for i := range r.Steps {
		s.surveyStep(i+1, &r.Steps[i])
	}
	s.datesPast(r.Past)
}

// How many exceptions and rows the text tells.
const (
	mostExceptions = 8
	mostCovered    = 40
)

// surveyTable has a row for people who fare alike at an app, the weakest first.
func (s *session) surveyTable(r *survey.Report) {
	used := ""
	if r.Logged > 0 {
		used = "used, weakly"
	}
	s.out.Printf("\n%s\n", s.paint.Blue("app              people  least  device    from                                risk      "+used))
	rows := collapsed(r.Rows)
	for i := range rows[:min(len(rows), mostCovered)] {
		s.surveyRow(&rows[i], r.Networks, r.Logged > 0)
	}
	if more := len(rows) - mostCovered; more > 0 {
		s.out.Printf("%s\n", s.paint.Faint(fmt.Sprintf("and %s, which --json lists", spell.Plural(more, "more row"))))
	}
	s.out.Printf("%s\n", s.paint.Faint("+ a phishing-resistant method is always among what was proved; --json has the people"))
}

// collapsed has one row for the same people who fare alike at every app.
func collapsed(rows []survey.Row) []survey.Row {
	apps, alike := map[string]bool{}, map[string]int{}
	key := func(row *survey.Row) string {
		return fmt.Sprint(row.People, row.Least, row.Resistant, row.Managed, row.Baselines, row.Networks, row.Elsewhere, row.Nowhere, row.Band)
	}
	for i := range rows {
		apps[rows[i].App] = true
		alike[key(&rows[i])]++
	}
	var list []survey.Row
	at := map[string]int{}
	for _, row := range rows {
		k := key(&row)
		i, seen := at[k]
		switch {
		case len(apps) < 2 || alike[k] < len(apps):
			list = append(list, row)
		case !seen:
			at[k] = len(list)
			row.App = "every app"
			list = append(list, row)
		default:
			list[i].Used, list[i].Weakly = list[i].Used+row.Used, list[i].Weakly+row.Weakly
		}
	}
	return list
}

func (s *session) surveyRow(row *survey.Row, networks []string, logged bool) {
	least := s.paint.Green(screen.Pad(row.Least, 5))
	if row.Least == "none" || row.Least == "aal1" {
		least = s.paint.Amber(screen.Pad(row.Least, 5))
	}
	device := "any"
	if row.Managed {
		device = "managed"
	}
	if len(row.Baselines) > 0 {
		device = row.Baselines[0]
	}
	use := ""
	if logged {
		use = fmt.Sprintf("%6s %6s", number(row.Used), number(row.Weakly))
	}
	resistant := " "
	if row.Resistant {
		resistant = "+"
	}
	s.out.Printf("%s %6d  %s%s %s %s %s %s\n", screen.Pad(screen.Cut(row.App, 16), 16), len(row.People), least, resistant, screen.Pad(screen.Cut(device, 9), 9),
		screen.Pad(screen.Cut(row.From(networks), 35), 35), screen.Pad(row.Band, 9), use)
}

// surveyStep is one thing to do next.
func (s *session) surveyStep(n int, x *survey.Step) {
	if n == 1 {
		s.out.Printf("\n%s\n", s.paint.Blue("What to do next"))
	}
	ready := "everybody is ready for it"
	if len(x.NotReady) > 0 {
		ready = fmt.Sprintf("%s not ready: %s", spell.Plural(len(x.NotReady), "person"), spell.Few(x.NotReady, 4))
	}
	s.out.Printf("\n%2d. %s: closes %s in\n    %s\n\n", n, s.paint.Bold(x.What), spell.Plural(x.Closes, "way"), s.paint.Faint(screen.Wrapped(ready, 4)))
	for line := range strings.Lines(x.Policy + x.Promise) {
		s.out.Print("    ", strings.TrimRight(line, "\n"))
		s.out.Println()
	}
}

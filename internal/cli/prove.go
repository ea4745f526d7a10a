package cli

// brisk prove.

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/plainjson"
	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language/parser"
	"briskwarden.example/briskwarden/prove"
	"briskwarden.example/briskwarden/signon"
	"briskwarden.example/briskwarden/survey"
)

// spanFlags say which sign-ons count, and how long it may take.
type spanFlags struct {
	from, until, within string
	asEnforced          bool
}

func (f *spanFlags) add(flags *pflag.FlagSet) {
	flags.StringVar(&f.from, "from", "", "the first instant or date that counts (default: now, or --at)")
	flags.StringVar(&f.until, "until", "", "the first instant or date that no longer counts (default: 366 days later)")
	flags.StringVar(&f.within, "within", "2m", "how long it may take, such as 30s or 2m; what is not decided by then says so")
}

func (f *spanFlags) addEnforced(flags *pflag.FlagSet) {
	flags.BoolVar(&f.asEnforced, "as-enforced", false, "count policies on watch as if they were enforced")
}

// span reads the flags.
func (f *spanFlags) span(rules *briskwarden.Rulebook) (span prove.Span, within time.Duration, err error) {
	span.AsEnforced = f.asEnforced
	for _, x := range []struct {
		flag, text string
		to         *time.Time
	}{{"--from", f.from, &span.From}, {"--until", f.until, &span.Until}} {
		if x.text == "" {
			continue
		}
		if *x.to, _, err = rules.Day(x.text); err != nil {
			*x.to, err = rules.Instant(x.text)
		}
		if err != nil {
			return span, 0, usage("%s: %w", x.flag, err)
		}
	}
	within, err = f.limit()
	return span, within, err
}

// limit is how long it may take.
func (f *spanFlags) limit() (time.Duration, error) {
	within, err := time.ParseDuration(f.within)
	if err != nil {
		d, wrong := parser.ParseDuration(f.within)
		if wrong != nil {
			return 0, usage("--within: %q is no duration: write 30s or 2m", f.within)
		}
		within = d.Elapsed()
	}
	if within <= 0 {
		return 0, usage("--within: %q leaves no time", f.within)
	}
	return within, nil
}

// spanned opens the rulebook, and reads which sign-ons count; the context ends when the time is over.
func (s *session) spanned(f *spanFlags, options ...briskwarden.Option) (ctx context.Context, done func(), rules *briskwarden.Rulebook, span prove.Span, err error) {
	if rules, _, err = s.rules(options...); err != nil {
		return nil, nil, nil, span, err
	}
	span, within, err := f.span(rules)
	if err != nil {
		return nil, nil, nil, span, err
	}
	ctx, done = context.WithTimeout(s.ctx, within)
	return ctx, done, rules, span, nil
}

type proveFlags struct {
	spanFlags
	that         []string
	propose      bool
	junit, sarif string
}

func (s *session) proveCommand() *cobra.Command {
	var f proveFlags
	c := &cobra.Command{
		Use:   "prove [NAME…]",
		Short: "Prove the rulebook's promises for every possible sign-on, or show a sign-on that breaks one",
		Long: "prove takes every possible sign-on of a span of time: everybody, every app, any address, device, session\n" +
			"and proof. A promise that does not hold is shown by sign-ons that the rulebook itself has decided.\n" +
			"It exits with 0 where all hold, 1 where one is broken, and 2 where one was not decided in time.",
		RunE: func(_ *cobra.Command, names []string) error {
			if f.propose {
				if len(names)+len(f.that) > 0 || f.junit != "" || f.sarif != "" || s.json {
					return usage("--propose writes promises, and proves none: leave the rest out")
				}
				return s.proposePromises(f)
			}
			return s.prove(names, f)
		},
	}
	c.Flags().StringArrayVar(&f.that, "that", nil, "a promise that stands nowhere, such as \"who everyone to everything never grant without aal2\"; may be given several times")
	c.Flags().BoolVar(&f.propose, "propose", false, "write the strongest promises that hold of each app and kind of people, and prove none")
	c.Flags().StringVar(&f.junit, "junit", "", "write the results to a file in JUnit's XML")
	c.Flags().StringVar(&f.sarif, "sarif", "", "write what does not hold to a file in SARIF 2.1.0 too")
	f.add(c.Flags())
	f.addEnforced(c.Flags())
	return c
}

func (s *session) prove(names []string, f proveFlags) error {
	ctx, done, rules, span, err := s.spanned(&f.spanFlags, briskwarden.WithPromises(f.that...))
	if err != nil {
		return err
	}
	defer done()
	for _, that := range f.that {
		if !slices.Contains(names, that) {
			names = append(names, that)
		}
	}
	report, err := prove.Promises(ctx, rules, span, names...)
	var unknown *prove.UnknownError
	switch all := strings.Join(names, " "); {
	case errors.As(err, &unknown) && slices.Contains(unknown.Known, all):
		return usage("put the name in quotes: brisk prove %q", all)
	case unknown != nil:
		return usage("%w%s", err, hint(unknown.Name, unknown.Known))
	case err != nil:
		return usage("%w", err)
	}
	if s.json {
		err = s.writeJSON(report)
	} else {
		s.proofsText(report)
	}
	if err == nil {
		err = writeProofs(f, report)
	}
	if err != nil {
		return err
	}
	return proofStatus(report)
}

// proposePromises writes the strongest promises that hold.
func (s *session) proposePromises(f proveFlags) error {
	ctx, done, rules, span, err := s.spanned(&f.spanFlags)
	if err != nil {
		return err
	}
	defer done()
	text, err := survey.Propose(ctx, rules, span)
	if err != nil {
		return usage("%w", err)
	}
	if text == "" {
		text = "# Nothing can be promised: there is nobody, or nothing to sign on to.\n"
	}
	s.out.Source([]byte(text))
	return nil
}

// writeProofs writes the report into the files asked for.
func writeProofs(f proveFlags, report *prove.Report) error {
	if f.junit != "" {
		text, err := report.JUnit()
		if err == nil {
			err = lines.WriteFile(f.junit, text)
		}
		if err != nil {
			return usage("%w", err)
		}
	}
	if f.sarif != "" {
		text, err := report.SARIF(version)
		if err == nil {
			err = lines.WriteFile(f.sarif, append(text, '\n'))
		}
		if err != nil {
			return usage("%w", err)
		}
	}
	return nil
}

// proofStatus is 1 where a promise is broken, else 2 where one is not decided.
func proofStatus(report *prove.Report) error {
	has := func(a prove.Answer) bool {
		return slices.ContainsFunc(report.Promises, func(p prove.Proof) bool { return p.Answer == a })
	}
	switch {
	case has(prove.Broken):
		return &exit{status: exitFindings}
	case has(prove.Undecided):
		return &exit{status: exitUsage}
	}
	return nil
}

// mostWays is how many ways to break a promise the text tells.
const mostWays = 10

func (s *session) proofsText(r *prove.Report) {
	if len(r.Promises) == 0 {
		s.out.Printf("%s has no promises. Write one into a file of the rulebook, such as:\n\n", s.paint.Bold(r.Rulebook))
		s.out.Source([]byte("promise \"nobody gets by on one factor\" {\n  who people  to everything  never grant without aal2\n}\n"))
		s.out.Printf("\nor ask for one that stands nowhere: %s\n", s.paint.Blue("brisk prove --that \"who people to everything never grant without aal2\""))
		return
	}
	counts := map[prove.Answer]int{}
	for i := range r.Promises {
		counts[r.Promises[i].Answer]++
	}
	s.out.Printf("%s, %s.\n", s.proofsVerdict(counts, len(r.Promises)), s.spanText(r.From, r.Until))
	if r.AsEnforced {
		s.out.Println("Policies on watch count as if they were enforced.")
	}
	for _, answer := range []prove.Answer{prove.Broken, prove.Undecided, prove.Holds} {
		for i := range r.Promises {
			if p := &r.Promises[i]; p.Answer == answer {
				s.proofText(p)
			}
		}
	}
	s.datesPast(r.Past)
}

// proofsVerdict tells how many promises hold.
func (s *session) proofsVerdict(counts map[prove.Answer]int, all int) screen.Styled {
	if counts[prove.Holds] == all {
		text := fmt.Sprintf("All %s hold", spell.Plural(all, "promise"))
		if all == 1 {
			text = "The promise holds"
		}
		return s.paint.Green(text) + ", for every possible sign-on"
	}
	var parts []string
	if n := counts[prove.Broken]; n == 1 && all == 1 {
		parts = append(parts, "The promise is broken")
	} else if n > 0 {
		parts = append(parts, fmt.Sprintf("%d of %s broken", n, spell.Plural(all, "promise")))
	}
	if n := counts[prove.Undecided]; n > 0 {
		parts = append(parts, fmt.Sprintf("%d not decided in time", n))
	}
	return s.paint.Red(strings.Join(parts, ", "))
}

// spanText tells the span as the rulebook's clock shows it.
func (s *session) spanText(from, until time.Time) string {
	const layout = "2006-01-02 15:04"
	return fmt.Sprintf("from %s to %s", from.Format(layout), until.Format(layout))
}

func (s *session) proofText(p *prove.Proof) {
	at := ""
	if p.At != "" {
		at = " (" + p.At + ")"
	}
	switch p.Answer {
	case prove.Holds:
		s.out.Printf("%s  %s%s\n", s.paint.Green("holds      "), p.Promise, s.paint.Faint(at))
		if p.Empty {
			s.out.Printf("             %s: nothing can occur in its scope\n", s.paint.Amber("it says nothing"))
		}
		return
	case prove.Undecided:
		s.out.Printf("%s  %s%s\n", s.paint.Amber("not decided"), s.paint.Bold(p.Promise), s.paint.Faint(at))
		s.out.Printf("             %s\n             allow more with --within\n", screen.Wrapped("at "+p.Hard, 13))
		return
	}
	people, apps := p.Reach()
	s.out.Printf("\n%s  %s%s\n", s.paint.Red("BROKEN     "), s.paint.Bold(p.Promise), s.paint.Faint(at))
	s.out.Printf("             by %s at %s\n", s.paint.Bold(spell.Plural(len(people), "person")), screen.Wrapped(s.paint.Bold(spell.Few(apps, 6)), 13))
	if p.Hard != "" {
		s.out.Printf("             %s\n", screen.Wrapped("not all could be looked at in time: "+p.Hard, 13))
	}
	for i := range p.Broken[:min(len(p.Broken), mostWays)] {
		s.wayText(&p.Broken[i])
	}
	if more := len(p.Broken) - mostWays; more > 0 {
		s.out.Printf("  %s, which --json lists\n", s.paint.Faint("and in "+spell.Plural(more, "more way")))
	}
	s.out.Println()
}

// wayText tells one way to break a promise: who, by what, when, and how to see it.
func (s *session) wayText(w *prove.Way) {
	s.out.Printf("\n  %s  %s at %s%s\n", s.paint.Bold(screen.Pad(w.Outcome.String(), 7)), screen.Wrapped(spell.Few(w.People, 4), 11),
		screen.Wrapped(spell.Few(w.Apps, 6), 11), doing(w.Actions))
	s.decidedBy("by", w.By)
	s.shownBy(w.Brief(), w.Decide, w.Witness)
}

// doing tells the actions, where they are not signing on alone.
func doing(actions []string) string {
	if slices.Equal(actions, []string{"sign-on"}) {
		return ""
	}
	return ", doing " + strings.Join(actions, ", ")
}

// shownBy tells what sign-ons have in common, and how to see one: by its clauses, or as a request where they
// cannot say it.
func (s *session) shownBy(when, clauses string, witness *signon.SignOn) {
	if when != "" {
		s.out.Printf("    when   %s\n", screen.Wrapped(when, 11))
	}
	if clauses != "" {
		s.out.Printf("    see    %s\n", s.paint.Blue("brisk decide "+shellClauses(clauses)))
	} else if text, err := plainjson.Marshal(witness); err == nil {
		s.out.Printf("    see    %s\n", string(text))
	}
}

// mostCases is how many of the cases that decided are told.
const mostCases = 5

// decidedBy tells what decided, a line each.
func (s *session) decidedBy(head string, list []prove.By) {
	for i := range list[:min(len(list), mostCases)] {
		s.out.Printf("    %s %s\n", screen.Pad(head, 6), screen.Wrapped(list[i].Text(), 11))
	}
	if more := len(list) - mostCases; more > 0 {
		s.out.Printf("    %s %s\n", screen.Pad("", 6), s.paint.Faint(fmt.Sprintf("and %d more", more)))
	}
}

// datesPast tells the dates of the rulebook that the span does not reach.
func (s *session) datesPast(list []prove.Dated) {
	if len(list) == 0 {
		return
	}
	s.out.Printf("\n%s\n", s.paint.Faint("Not proved for what is past the span:"))
	for _, d := range list[:min(len(list), 5)] {
		s.out.Printf("  %s\n", s.paint.Faint(d.At.Format(time.DateOnly)+"  "+d.What))
	}
	if more := len(list) - 5; more > 0 {
		s.out.Printf("  %s\n", s.paint.Faint(fmt.Sprintf("and %s more", spell.Plural(more, "date"))))
	}
}

// shellClauses are clauses as a shell takes them: quoted as a whole where it would read anything into them.
func shellClauses(clauses string) string {
	clauses = strings.Join(strings.Fields(clauses), " ")
	if strings.ContainsAny(clauses, "'\"$&;|<>*`()\\!#~?[]") {
		return spell.Shell([]string{clauses})
	}
	return clauses
}

package cli

// brisk risk.

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/explain"
	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/replay"
	"briskwarden.example/briskwarden/signon"
)

func (s *session) riskCommand() *cobra.Command {
	var from, to string
	var options replay.RiskOptions
	c := &cobra.Command{
		Use:   "risk [LOG…]",
		Short: "List the risky sign-ons and accounts of a log, with the factors behind each",
		Long: "risk scores every sign-on of the logs by the rulebook's risk model, and lists the riskiest.\n" +
			"A sign-on counts with the score that is sure; what facts that are unknown could add stands beside it.\n" +
			"\"-\" is standard input. The history learns as it goes, from the sign-ons that were granted.\n" +
			"With --state it lists the accounts that signals or people say are at risk, too.",
		RunE: func(_ *cobra.Command, logs []string) error {
			switch {
			case len(logs) == 0 && s.state == "":
				return usage("name at least one log: brisk risk LOG…; or what the service remembers: --state FILE")
			case len(logs) == 0:
				return s.withRemembered(s.atRisk)
			}
			if err := s.risk(logs, from, to, options); err != nil || s.state == "" {
				return err
			}
			s.out.Println()
			return s.withRemembered(s.atRisk)
		},
	}
	s.addState(c)
	c.AddCommand(s.riskChanges()...)
	c.Flags().StringVar(&from, "from", "", "leave out what was before this date or instant")
	c.Flags().StringVar(&to, "to", "", "leave out what was after this date, or from this instant on")
	c.Flags().IntVar(&options.Above, "above", 0, "list scores above this")
	c.Flags().StringVar(&options.Band, "band", "", "list scores in this band of the risk model")
	c.Flags().IntVar(&options.Top, "top", 20, "list at most so many sign-ons, and so many accounts")
	return c
}

func (s *session) risk(logs []string, from, to string, options replay.RiskOptions) error {
	rules, _, err := s.rules()
	if err != nil {
		return err
	}
	if err := riskOptions(rules, from, to, &options); err != nil {
		return err
	}
	var r *replay.Risk
	err = s.withLogs(logs, func(logs []replay.Log, progress func(int)) (err error) {
		options.Progress = progress
		r, err = replay.Riskiest(s.ctx, rules, logs, options)
		return err
	})
	if err != nil {
		return err
	}
	if s.json {
		return s.writeJSON(r)
	}
	(&riskText{session: s, rules: rules, risk: r, options: options}).print()
	return nil
}

// riskOptions reads and checks the options.
func riskOptions(rules *briskwarden.Rulebook, from, to string, options *replay.RiskOptions) (err error) {
	bands := rules.Bands()
	if bands == nil {
		return usage("%w", replay.ErrNoModel)
	}
	var names []string
	for _, b := range bands {
		names = append(names, b.Name)
	}
	if options.Band != "" && !slices.Contains(names, options.Band) {
		return usage("--band: the risk model has no band %q: it has %s", options.Band, strings.Join(names, ", "))
	}
	if options.Top < 1 {
		return usage("--top: list at least 1, found %d", options.Top)
	}
	options.From, options.To, err = bounds(from, to, rules)
	return err
}

// bounds reads --from and --to; one that is empty is no bound.
func bounds(from, to string, rules *briskwarden.Rulebook) (start, end time.Time, err error) {
	if from != "" {
		if start, _, err = rules.Span(from); err != nil {
			return start, end, usage("--from: %w", err)
		}
	}
	if to != "" {
		if _, end, err = rules.Span(to); err != nil {
			return start, end, usage("--to: %w", err)
		}
	}
	if !start.IsZero() && !end.IsZero() && !end.After(start) {
		return start, end, usage("--from %s is after --to %s", from, to)
	}
	return start, end, nil
}

// riskText lays out what is riskiest.
type riskText struct {
	*session
	rules   *briskwarden.Rulebook
	risk    *replay.Risk
	options replay.RiskOptions
}

func (s *riskText) print() {
	r, options := s.risk, s.options
	s.out.Printf("%s of %s %s\n", s.paint.Bold(spell.Plural(r.Risky, "risky sign-on")), fmt.Sprint(r.Scored),
		s.paint.Faint(fmt.Sprintf("(score above %d%s; %s)", options.Above, inBand(options.Band), s.bandCounts())))
	s.notes()
	s.signOns()
	s.accounts()
	s.badLines(r.Bad, len(r.Bad))
}

func inBand(band string) string {
	if band == "" {
		return ""
	}
	return ", in band " + band
}

func (s *riskText) bandCounts() string {
	var parts []string
	for _, b := range slices.Backward(s.risk.Bands) {
		parts = append(parts, fmt.Sprintf("%d %s", s.risk.ByBand[b], b))
	}
	return strings.Join(parts, ", ")
}

// notes tells what the list does not show.
func (s *riskText) notes() {
	r := s.risk
	if r.Open > 0 {
		s.out.Printf("%s more could be among them: facts that are unknown keep them out.\n", spell.Plural(r.Open, "sign-on"))
	}
	if r.Unscored > 0 {
		s.out.Printf("%s not scored: the user is not known or disabled, or the app or action is not known.\n", spell.Plural(r.Unscored, "sign-on"))
	}
}

func (s *riskText) signOns() {
	list := s.risk.SignOns()
	if len(list) == 0 {
		return
	}
	s.out.Printf("\n%s\n", s.paint.Blue(heading("Sign-ons, the riskiest first", len(list), s.risk.Risky)))
	for i := range list {
		x := &list[i]
		so := &x.Line.SignOn
		s.out.Printf("%s%s  %s to %s, %s %s\n", s.score(scoreText(x.Risk), x.Risk.Low), screen.Pad(x.Band, 8),
			s.paint.Bold(so.User), orNobody(so.App), so.Time.In(s.rules.Zone()).Format("Mon 2006-01-02 15:04"),
			s.paint.Faint(recorded(&x.Line)))
		s.out.Print(screen.Styled(explain.Factors(x.Risk, factorIndent, screen.Width)))
	}
}

// factorIndent puts factors under the names.
const factorIndent = 20

func heading(title string, shown, all int) string {
	if shown < all {
		return fmt.Sprintf("%s (%d of %d)", title, shown, all)
	}
	return title
}

func scoreText(r *signon.Risk) screen.Styled {
	if r.Low == r.High {
		return screen.Pad(fmt.Sprint(r.Low), 10)
	}
	return screen.Pad(fmt.Sprintf("%d to %d", r.Low, r.High), 10)
}

// recorded tells what the log says of a line.
func recorded(l *replay.Line) string {
	where := fmt.Sprintf("%s:%d", l.File, l.Number)
	if l.SignOn.ID != "" {
		where = l.SignOn.ID
	}
	if l.Recorded {
		return fmt.Sprintf("(%s, %s)", l.Outcome, where)
	}
	return fmt.Sprintf("(%s)", where)
}

func (s *riskText) accounts() {
	accounts, all := s.risk.Accounts()
	if len(accounts) == 0 {
		return
	}
	s.out.Printf("\n%s\n", s.paint.Blue(heading("Accounts, by their worst and by how often", len(accounts), all)))
	width := 0
	for _, a := range accounts {
		width = max(width, len([]rune(a.User)))
	}
	for _, a := range accounts {
		s.out.Printf("%s%s  %s  %s\n", s.score(screen.Pad(fmt.Sprint(a.Worst), 10), a.Worst), s.paint.Bold(screen.Pad(a.User, width)),
			screen.Pad(fmt.Sprintf("%d of %d", a.Risky, a.SignOns), 9), screen.Wrapped(behind(a), width+23))
	}
}

// behind lists the factors of an account, the most frequent first.
func behind(a *replay.Account) string {
	names := slices.SortedFunc(maps.Keys(a.Factors), func(x, y string) int {
		if d := a.Factors[y] - a.Factors[x]; d != 0 {
			return d
		}
		return strings.Compare(x, y)
	})
	for i, n := range names {
		names[i] = fmt.Sprintf("%s (%d)", n, a.Factors[n])
	}
	return strings.Join(names, ", ")
}

// mostBadLines is how many lines that cannot be read are listed.
const mostBadLines = 10

func (s *session) badLines(bad []replay.BadLine, all int) {
	if all == 0 {
		return
	}
	s.err.Printf("brisk: %s cannot be read and count for nothing:\n", spell.Plural(all, "line"))
	for _, b := range bad[:min(len(bad), mostBadLines)] {
		s.err.Printf("  %s:%d: %s\n", b.File, b.Number, b.Why)
	}
	if more := all - min(len(bad), mostBadLines); more > 0 {
		s.err.Printf("  and %d more\n", more)
	}
}

// score colours a score by its band.
func (s *riskText) score(text screen.Styled, score int) screen.Styled {
	bands := s.rules.Bands()
	return s.paint.Score(text, slices.IndexFunc(bands, func(b briskwarden.Band) bool { return score <= b.High }), len(bands))
}

// orNobody stands in for a name that is missing.
func orNobody(name string) string { return cmp.Or(name, "(none)") }

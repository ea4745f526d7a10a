package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden/internal/replay"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/schedule"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/signon"
)

func (s *session) riskCommand() *cobra.Command {
	var from, to string
	var options replay.RiskOptions
	c := &cobra.Command{
		Use:   "risk LOG…",
		Short: "List the risky sign-ons and accounts of a log, with the factors behind each",
		Long: "risk scores every sign-on of the logs by the rulebook's risk model, and lists the riskiest.\n" +
			"A sign-on counts with the score that is sure; what facts that are unknown could add stands beside it.\n" +
			"\"-\" is standard input. The history learns as it goes, from the sign-ons that were granted.",
		RunE: func(_ *cobra.Command, logs []string) error {
			if len(logs) == 0 {
				return usage("name at least one log: brisk risk LOG…")
			}
			return s.risk(logs, from, to, options)
		},
	}
	c.Flags().StringVar(&from, "from", "", "leave out what was before this date or instant")
	c.Flags().StringVar(&to, "to", "", "leave out what was after this date, or from this instant on")
	c.Flags().IntVar(&options.Above, "above", 0, "list scores above this")
	c.Flags().StringVar(&options.Band, "band", "", "list scores in this band of the risk model")
	c.Flags().IntVar(&options.Top, "top", 20, "list at most so many sign-ons, and so many accounts")
	return c
}

func (s *session) risk(logs []string, from, to string, options replay.RiskOptions) error {
	rb, err := s.sound()
	if err != nil {
		return err
	}
	if err := riskOptions(rb, from, to, &options); err != nil {
		return err
	}
	side := learning(rb)
	r := replay.NewRisk(side.Engine, side.Past, options)
	if err := s.eachLog(logs, r.ReadLog); err != nil {
		return err
	}
	if s.json {
		return s.riskJSON(rb, r)
	}
	s.riskText(rb, r, options)
	return nil
}

// riskOptions reads and checks the options.
func riskOptions(rb *rulebook.Rulebook, from, to string, options *replay.RiskOptions) (err error) {
	if rb.Risk == nil {
		return usage("the rulebook has no risk model: declare one with \"risk model { … }\"")
	}
	var bands []string
	for _, b := range rb.Risk.Bands {
		bands = append(bands, b.Name)
	}
	if options.Band != "" && !slices.Contains(bands, options.Band) {
		return usage("--band: the risk model has no band %q: it has %s", options.Band, strings.Join(bands, ", "))
	}
	if options.Top < 1 {
		return usage("--top: list at least 1, found %d", options.Top)
	}
	options.From, options.To, err = bounds(from, to, rb.Zone)
	return err
}

// bounds reads --from and --to; one that is empty is no bound.
func bounds(from, to string, zone *time.Location) (start, end time.Time, err error) {
	if from != "" {
		if start, _, err = dayOrInstant(from, zone); err != nil {
			return start, end, usage("--from: %w", err)
		}
	}
	if to != "" {
		if _, end, err = dayOrInstant(to, zone); err != nil {
			return start, end, usage("--to: %w", err)
		}
	}
	return start, end, nil
}

// dayOrInstant reads a date as its first instant and that of the day after, or an instant as itself.
func dayOrInstant(text string, zone *time.Location) (start, end time.Time, err error) {
	if d, err := schedule.ParseDate(text); err == nil {
		return d.Start(zone), d.Next().Start(zone), nil
	}
	t, err := schedule.ParseInstant(text, zone)
	return t, t, err
}

func (s *session) riskText(rb *rulebook.Rulebook, r *replay.Risk, options replay.RiskOptions) {
	s.out.printf("%s of %s %s\n", s.paint.bold(spell.Plural(r.Risky, "risky sign-on")), fmt.Sprint(r.Scored),
		s.paint.faint(fmt.Sprintf("(score above %d%s; %s)", options.Above, inBand(options.Band), bandCounts(rb, r))))
	s.riskNotes(r)
	s.riskySignOns(rb, r)
	s.riskyAccounts(rb, r)
	s.badLines(r.Bad, len(r.Bad))
}

func inBand(band string) string {
	if band == "" {
		return ""
	}
	return ", in band " + band
}

func bandCounts(rb *rulebook.Rulebook, r *replay.Risk) string {
	var parts []string
	for _, b := range slices.Backward(rb.Risk.Bands) {
		parts = append(parts, fmt.Sprintf("%d %s", r.ByBand[b.Name], b.Name))
	}
	return strings.Join(parts, ", ")
}

// riskNotes tells what the list does not show.
func (s *session) riskNotes(r *replay.Risk) {
	if r.Open > 0 {
		s.out.printf("%s more could be among them: facts that are unknown keep them out.\n", spell.Plural(r.Open, "sign-on"))
	}
	if r.Unscored > 0 {
		s.out.printf("%s not scored: the user is not known or disabled, or the app or action is not known.\n", spell.Plural(r.Unscored, "sign-on"))
	}
}

func (s *session) riskySignOns(rb *rulebook.Rulebook, r *replay.Risk) {
	list := r.SignOns()
	if len(list) == 0 {
		return
	}
	s.out.printf("\n%s\n", s.paint.blue(heading("Sign-ons, the riskiest first", len(list), r.Risky)))
	for i := range list {
		x := &list[i]
		so := &x.Line.SignOn
		s.out.printf("%s%s  %s to %s, %s %s\n", s.paint.score(scoreText(x.Risk), rb.Risk.Bands, x.Risk.Low), pad(x.Band, 8),
			s.paint.bold(so.User), orNobody(so.App), so.Time.In(rb.Zone).Format("Mon 2006-01-02 15:04"),
			s.paint.faint(recorded(&x.Line)))
		writeFactors(s.out, x.Risk, factorIndent)
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

func scoreText(r *signon.Risk) styled {
	if r.Low == r.High {
		return pad(fmt.Sprint(r.Low), 10)
	}
	return pad(fmt.Sprintf("%d to %d", r.Low, r.High), 10)
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

func (s *session) riskyAccounts(rb *rulebook.Rulebook, r *replay.Risk) {
	accounts, all := r.Accounts()
	if len(accounts) == 0 {
		return
	}
	s.out.printf("\n%s\n", s.paint.blue(heading("Accounts, by their worst and by how often", len(accounts), all)))
	width := 0
	for _, a := range accounts {
		width = max(width, len([]rune(a.User)))
	}
	for _, a := range accounts {
		s.out.printf("%s%s  %s  %s\n", s.paint.score(pad(fmt.Sprint(a.Worst), 10), rb.Risk.Bands, a.Worst), s.paint.bold(pad(a.User, width)),
			pad(fmt.Sprintf("%d of %d", a.Risky, a.SignOns), 9), wrapped(behind(a), width+23))
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
	s.err.printf("brisk: %s cannot be read and count for nothing:\n", spell.Plural(all, "line"))
	for _, b := range bad[:min(len(bad), mostBadLines)] {
		s.err.printf("  %s:%d: %s\n", b.File, b.Number, b.Why)
	}
	if more := all - min(len(bad), mostBadLines); more > 0 {
		s.err.printf("  and %d more\n", more)
	}
}

type jsonRisky struct {
	ID      string       `json:"id,omitzero"`
	User    string       `json:"user"`
	App     string       `json:"app"`
	Time    time.Time    `json:"time"`
	Outcome string       `json:"outcome,omitzero"` // as recorded
	At      string       `json:"at"`
	Band    string       `json:"band"`
	Risk    *signon.Risk `json:"risk"`
}

func (s *session) riskJSON(rb *rulebook.Rulebook, r *replay.Risk) error {
	accounts, all := r.Accounts()
	answer := struct {
		Scored   int               `json:"scored"`
		Unscored int               `json:"unscored"`
		Risky    int               `json:"risky"`
		Open     int               `json:"open"`
		Bands    map[string]int    `json:"bands"`
		SignOns  []jsonRisky       `json:"sign_ons"`
		AllUsers int               `json:"risky_accounts"`
		Accounts []*replay.Account `json:"accounts"`
		Bad      []replay.BadLine  `json:"bad_lines"`
	}{r.Scored, r.Unscored, r.Risky, r.Open, r.ByBand, []jsonRisky{}, all, accounts, r.Bad}
	for _, x := range r.SignOns() {
		so := &x.Line.SignOn
		j := jsonRisky{so.ID, so.User, so.App, so.Time.In(rb.Zone), "", fmt.Sprintf("%s:%d", x.Line.File, x.Line.Number), x.Band, x.Risk}
		if x.Line.Recorded {
			j.Outcome = x.Line.Outcome.String()
		}
		answer.SignOns = append(answer.SignOns, j)
	}
	return s.writeJSON(answer)
}

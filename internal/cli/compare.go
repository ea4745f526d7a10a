package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/replay"
	"briskwarden.example/briskwarden/internal/report"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/spell"
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
	var sides [2]replay.Side
	for i, dir := range []string{before, after} {
		rb, err := s.loadFrom(dir)
		if err != nil {
			return err
		}
		sides[i] = learning(rb)
	}
	f.options.Group = -1
	var c *replay.Comparison
	err := f.run(func() error {
		opened, closeAll, err := s.openLogs(logs, &f.options)
		if err != nil {
			return err
		}
		defer closeAll()
		c, err = replay.Compare(sides[0], sides[1], opened, f.options)
		return err
	})
	if err != nil {
		return err
	}
	old, changed := sides[0].Engine.Rulebook(), sides[1].Engine.Rulebook()
	if err := s.writeReport(f.report, func() *report.Page { return report.Compare(old, changed, c) }); err != nil {
		return err
	}
	if s.json {
		return s.writeJSON(comparisonJSON(c))
	}
	s.comparison(c, changed)
	return nil
}

// loadFrom reads the rulebook in a folder; one with errors is told and not compared.
func (s *session) loadFrom(dir string) (*rulebook.Rulebook, error) {
	rb, err := readFolder(dir)
	if err != nil {
		return nil, err
	}
	if rb.Diagnostics.Count(diag.Error) > 0 {
		s.complain(&listing{rb: rb, dir: dir}, errorsOf(rb.Diagnostics))
		return nil, usage("%s: a rulebook with errors never decides", dir)
	}
	return rb, nil
}

// mostGroups is how many ways in which sign-ons change are shown.
const mostGroups = 20

func (s *session) comparison(c *replay.Comparison, rb *rulebook.Rulebook) {
	if c.Compared+c.Consents.Compared == 0 {
		s.out.println("The log holds no sign-on to compare by.")
	}
	if c.Compared > 0 {
		s.difference(&c.Difference, "sign-on", rb)
	}
	if c.Compared > 0 && c.Consents.Compared > 0 {
		s.out.println()
	}
	if c.Consents.Compared > 0 {
		s.difference(&c.Consents, "request", rb)
	}
	s.badLines(c.Bad, c.BadLines)
}

// difference tells what changes of sign-ons, or of requests for consent.
func (s *session) difference(c *replay.Difference, what string, rb *rulebook.Rulebook) {
	_, _, changed := c.From.Changes()
	all := spell.Plural(c.Compared, what)
	if what == "request" {
		all += " for consent"
	}
	verdict := s.paint.green("nothing changes")
	if changed > 0 {
		verdict = s.paint.amber(fmt.Sprintf("%d change", changed)) + styledf(" for %s, %d stay as they are", spell.Plural(len(c.People), "person"), c.Compared-changed)
	}
	s.out.printf("Of %s, %s to %s, %s.\n", s.paint.bold(all), c.First.In(rb.Zone).Format("Mon 2006-01-02"),
		c.Last.In(rb.Zone).Format("Mon 2006-01-02"), verdict)
	s.matrix(c)
	for _, g := range c.Groups[:min(len(c.Groups), mostGroups)] {
		s.group(g, what, rb)
	}
	if more := len(c.Groups) - mostGroups; more > 0 {
		s.out.printf("\nand %s more\n", spell.Plural(more, "way"))
	}
}

// matrix is the table from outcome to outcome.
func (s *session) matrix(c *replay.Difference) {
	outcomes := []signon.Outcome{signon.Grant, signon.Review, signon.StepUp, signon.Block}
	s.out.printf("\n%s %s\n", s.paint.blue(pad("From, and to", 14)), s.paint.faint("  grant  review step-up   block"))
	for _, from := range outcomes {
		s.out.printf("  %s", pad(from.String(), 12))
		for _, to := range outcomes {
			n := styledf(" %7s", number(c.From[from][to]))
			if from != to && c.From[from][to] > 0 {
				n = s.paint.outcome(to, n)
			}
			s.out.print(n)
		}
		s.out.println()
	}
}

func (s *session) group(g *replay.Group, what string, rb *rulebook.Rulebook) {
	s.out.printf("\n%s from %s to %s, because %s\n", s.paint.bold(spell.Plural(g.Count, what)), g.From, s.paint.outcome(g.To, g.To.String()),
		wrapped(strings.Join(g.Because, " and "), 6))
	s.out.printf("      %s\n", wrapped(affected(g.People, what), 6))
	for _, e := range g.Examples {
		s.out.printf("      %s\n", s.paint.faint(wrapped(fmt.Sprintf("%s to %s, %s (%s)", e.User, e.App, e.Time.In(rb.Zone).Format("Mon 2006-01-02 15:04"), orAt(e)), 8)))
	}
}

// orAt names a sign-on by its id, or by where it stands in the log.
func orAt(e replay.Example) string {
	if e.ID != "" {
		return e.ID
	}
	return e.At
}

type jsonGroup struct {
	From     signon.Outcome   `json:"from"`
	To       signon.Outcome   `json:"to"`
	Because  []string         `json:"because"`
	Count    int              `json:"count"`
	People   map[string]int   `json:"people"`
	Examples []replay.Example `json:"examples"`
}

// jsonDifference is what changes of sign-ons, or of requests for consent.
type jsonDifference struct {
	Compared int          `json:"compared"`
	Changed  int          `json:"changed"`
	Changes  []jsonChange `json:"outcomes"` // from outcome to outcome, those that stay included
	Groups   []jsonGroup  `json:"groups"`
	People   []jsonPerson `json:"people"`
}

func differenceJSON(d *replay.Difference) jsonDifference {
	_, _, changed := d.From.Changes()
	j := jsonDifference{Compared: d.Compared, Changed: changed, Changes: []jsonChange{}, Groups: []jsonGroup{}, People: []jsonPerson{}}
	for from := range d.From {
		for to, n := range d.From[from] {
			if n > 0 {
				j.Changes = append(j.Changes, jsonChange{signon.Outcome(from).String(), signon.Outcome(to).String(), n})
			}
		}
	}
	for _, g := range d.Groups {
		j.Groups = append(j.Groups, jsonGroup{g.From, g.To, g.Because, g.Count, g.People, g.Examples})
	}
	for _, u := range slices.Sorted(maps.Keys(d.People)) {
		p := d.People[u]
		j.People = append(j.People, jsonPerson{u, outcomesJSON(&p.Outcomes), p.Stricter, p.Looser})
	}
	return j
}

func comparisonJSON(c *replay.Comparison) any {
	return struct {
		jsonDifference
		Consents jsonDifference   `json:"consents"` // requests for consent, which count nowhere else
		BadLines int              `json:"bad_lines"`
		Bad      []replay.BadLine `json:"first_bad_lines"`
	}{differenceJSON(&c.Difference), differenceJSON(&c.Consents), c.BadLines, c.Bad}
}

package cli

// brisk ready.

import (
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/ready"
	"briskwarden.example/briskwarden/report"
)

func (s *session) readyCommand() *cobra.Command {
	var by string
	var asCSV bool
	var page reportFlags
	c := &cobra.Command{
		Use:   "ready",
		Short: "Tell who is not enrolled, or has no device, for what the policies will demand, and from when they would be stopped",
		Args:  noArgs,
		RunE:  func(*cobra.Command, []string) error { return s.ready(by, asCSV, page) },
	}
	c.Flags().StringVar(&by, "by", "", "count the policies that are to be enforced by this date too (default: by today)")
	s.addState(c)
	c.Flags().BoolVar(&asCSV, "csv", false, "a line for each person and case, for writing to them: id, missing, deadline, days left, …")
	page.add(c.Flags())
	return c
}

func (s *session) ready(by string, asCSV bool, page reportFlags) error {
	rules, _, done, err := s.beside()
	if err != nil {
		return err
	}
	defer done()
	now, err := s.clock(rules)
	if err != nil {
		return err
	}
	until := now
	if by != "" {
		_, next, err := rules.Day(by)
		if err != nil {
			return usage("--by: %w", err)
		}
		if until = next.Add(-time.Second); until.Before(now) {
			return usage("--by: %s is past", by)
		}
	}
	found, err := ready.Find(s.ctx, rules, until)
	if err != nil {
		return usage("%w", err)
	}
	r := &readiness{session: s, found: found}
	if err := s.writeReport(page, func() *report.Page { return report.Ready(rules, found) }); err != nil {
		return err
	}
	switch {
	case s.json:
		return s.writeJSON(found)
	case asCSV:
		return r.csv()
	}
	r.print()
	return nil
}

// readiness lays out who is not ready.
type readiness struct {
	*session
	found *ready.Report
}

func (r *readiness) print() {
	day := r.found.Date(r.found.By)
	if len(r.found.Gaps) == 0 {
		r.out.Printf("%s for what the policies demand by %s.\n", r.paint.Green("Everybody is ready"), day)
		return
	}
	people := r.found.People()
	r.out.Printf("%s not ready for what the policies demand by %s, %d of them already stopped where it is asked.\n",
		r.paint.Bold(spell.Plural(len(people), "person")), day, ready.Stopped(people))
	r.policies()
	r.groups()
	r.people(people)
}

// policies lists, for each policy, who lacks what for which case.
func (r *readiness) policies() {
	var last ready.Lack
	for _, l := range r.found.Lacks() {
		if l.Policy != last.Policy {
			r.out.Printf("\n%s %s\n", r.paint.Blue(l.Policy), r.paint.Faint("("+l.PolicyAt+")"))
		}
		if l.Policy != last.Policy || l.Case != last.Case {
			r.out.Printf("  case %q asks %s\n", l.Case, screen.Wrapped(l.Asks, 8))
		}
		last = *l
		const when, most = 17, 6
		lack := "without " + ready.Fewer(l.Missing)
		if l.Device {
			lack = "with " + l.Missing
		}
		r.out.Printf("    %s%s %s\n", r.since(l.Deadline, when), r.paint.Bold(spell.Plural(len(l.People), "person")), screen.Wrapped(lack, when+6))
		r.out.Printf("    %s%s\n", strings.Repeat(" ", when), screen.Wrapped(spell.Few(l.People, most), when+4))
	}
}

// since tells from when somebody is stopped.
func (r *readiness) since(deadline time.Time, width int) screen.Styled {
	if deadline.IsZero() {
		return r.paint.Red(screen.Pad("already", width))
	}
	return r.paint.Amber(screen.Pad("from "+r.found.Date(deadline), width))
}

// groups counts the people who are not ready in each group.
func (r *readiness) groups() {
	groups := r.found.Groups()
	r.head("By group")
	for _, g := range groups[:min(len(groups), mostRows)] {
		r.out.Printf("%5d of %-4d %s\n", g.NotReady, g.All, g.Name)
	}
	if more := len(groups) - mostRows; more > 0 {
		r.out.Printf("             and %s more\n", spell.Plural(more, "group"))
	}
}

// people lists those who are not ready, and the policies that would stop each.
func (r *readiness) people(people []*ready.Person) {
	width := 0
	for _, p := range people {
		width = max(width, len([]rune(p.ID)))
	}
	const when, most = 17, 30
	r.head(heading("By person", min(len(people), most), len(people)))
	for _, p := range people[:min(len(people), most)] {
		r.out.Printf("    %s%s  %s\n", r.since(p.Deadline, when), screen.Pad(p.ID, width), screen.Wrapped(strings.Join(p.Policies(), ", "), when+6+width))
	}
	if more := len(people) - most; more > 0 {
		r.out.Printf("    and %s more; --csv lists all\n", spell.Plural(more, "person"))
	}
}

func (s *session) head(title string) { s.out.Printf("\n%s\n", s.paint.Blue(title)) }

func (r *readiness) csv() error {
	rows := [][]string{{"id", "missing", "deadline", "days_left", "policy", "case", "groups"}}
	for i := range r.found.Gaps {
		g := &r.found.Gaps[i]
		rows = append(rows, []string{g.Person, g.Missing, r.found.Date(g.Deadline), strconv.Itoa(r.found.DaysLeft(g)), g.Policy, g.Case, strings.Join(g.Groups, ";")})
	}
	return r.out.Table(rows)
}

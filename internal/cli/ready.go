package cli

import (
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/ready"
	"briskwarden.example/briskwarden/internal/report"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/schedule"
	"briskwarden.example/briskwarden/internal/spell"
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
	c.Flags().BoolVar(&asCSV, "csv", false, "a line for each person and case, for writing to them: id, missing, deadline, days left, …")
	page.add(c.Flags())
	return c
}

func (s *session) ready(by string, asCSV bool, page reportFlags) error {
	e, now, err := s.engine()
	if err != nil {
		return err
	}
	until := now
	if by != "" {
		d, err := schedule.ParseDate(by)
		if err != nil {
			return usage("--by: %w", err)
		}
		if until = d.Next().Start(e.Rulebook().Zone).Add(-time.Second); until.Before(now) {
			return usage("--by: %s is past", by)
		}
	}
	r := &readiness{session: s, rb: e.Rulebook(), now: now, by: until, gaps: ready.Find(e, now, until)}
	if err := s.writeReport(page, func() *report.Page { return report.Ready(r.rb, r.gaps, r.now, r.by) }); err != nil {
		return err
	}
	switch {
	case s.json:
		return s.writeJSON(r.json())
	case asCSV:
		return r.csv()
	}
	r.print()
	return nil
}

// readiness lays out who is not ready.
type readiness struct {
	*session
	rb      *rulebook.Rulebook
	now, by time.Time
	gaps    []ready.Gap
}

func (r *readiness) date(t time.Time) string {
	if t.IsZero() {
		return "already"
	}
	return schedule.DateOf(t, r.rb.Zone).String()
}

// daysLeft counts whole days until the person would be stopped; 0 where that is already so.
func (r *readiness) daysLeft(g *ready.Gap) int {
	if g.Deadline.IsZero() {
		return 0
	}
	return int(g.Deadline.Sub(r.now) / (24 * time.Hour))
}

func (r *readiness) print() {
	day := schedule.DateOf(r.by, r.rb.Zone)
	if len(r.gaps) == 0 {
		r.out.printf("%s for what the policies demand by %s.\n", r.paint.green("Everybody is ready"), day)
		return
	}
	people := ready.People(r.gaps)
	r.out.printf("%s not ready for what the policies demand by %s, %d of them already stopped where it is asked.\n",
		r.paint.bold(spell.Plural(len(people), "person")), day, ready.Stopped(people))
	r.policies()
	r.groups(people)
	r.people(people)
}

// policies lists, for each policy, who lacks what for which case.
func (r *readiness) policies() {
	var last ready.Lack
	for _, l := range ready.Lacks(r.gaps) {
		if l.Policy != last.Policy {
			name := l.Policy.Decl.Name
			r.out.printf("\n%s %s\n", r.paint.blue(name.Text), r.paint.faint(fmt.Sprintf("(%s:%d)", name.Pos.File, name.Pos.Line)))
		}
		if l.Case != last.Case {
			r.out.printf("  case %q asks %s\n", l.Case.Label, wrapped(l.Case.Demand.Text, 8))
		}
		last = *l
		const when, most = 17, 6
		lack := "without " + ready.Fewer(l.Missing)
		if l.Device {
			lack = "with " + l.Missing
		}
		r.out.printf("    %s%s %s\n", r.since(l.Deadline, when), r.paint.bold(spell.Plural(len(l.People), "person")), wrapped(lack, when+6))
		r.out.printf("    %s%s\n", strings.Repeat(" ", when), wrapped(diag.Few(l.People, most), when+4))
	}
}

// since tells from when somebody is stopped.
func (r *readiness) since(deadline time.Time, width int) styled {
	if deadline.IsZero() {
		return r.paint.red(pad("already", width))
	}
	return r.paint.amber(pad("from "+r.date(deadline), width))
}

// groups counts the people who are not ready in each group.
func (r *readiness) groups(people []*ready.Person) {
	groups := ready.Groups(r.rb, people)
	r.head("By group")
	for _, g := range groups[:min(len(groups), mostRows)] {
		r.out.printf("%5d of %-4d %s\n", g.NotReady, g.All, g.Name)
	}
	if more := len(groups) - mostRows; more > 0 {
		r.out.printf("             and %s more\n", spell.Plural(more, "group"))
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
		r.out.printf("    %s%s  %s\n", r.since(p.Deadline, when), pad(p.ID, width), wrapped(strings.Join(p.Policies(), ", "), when+6+width))
	}
	if more := len(people) - most; more > 0 {
		r.out.printf("    and %s more; --csv lists all\n", spell.Plural(more, "person"))
	}
}

func (s *session) head(title string) { s.out.printf("\n%s\n", s.paint.blue(title)) }

func (r *readiness) csv() error {
	rows := [][]string{{"id", "missing", "deadline", "days_left", "policy", "case", "groups"}}
	for i := range r.gaps {
		g := &r.gaps[i]
		var groups []string
		for _, id := range g.Person.Groups {
			groups = append(groups, r.rb.Groups.Name(id))
		}
		rows = append(rows, []string{g.Person.ID, g.Missing, r.date(g.Deadline), strconv.Itoa(r.daysLeft(g)), g.Policy.Name, g.Case.Label, strings.Join(groups, ";")})
	}
	return r.out.table(rows)
}

type jsonGap struct {
	ID       string `json:"id"`
	Missing  string `json:"missing"`
	Device   bool   `json:"device"`
	Deadline string `json:"deadline"` // a date, or "already"
	DaysLeft int    `json:"days_left"`
	Policy   string `json:"policy"`
	Case     string `json:"case"`
}

func (r *readiness) json() any {
	answer := struct {
		By   string    `json:"by"`
		Gaps []jsonGap `json:"gaps"`
	}{schedule.DateOf(r.by, r.rb.Zone).String(), []jsonGap{}}
	for i := range r.gaps {
		g := &r.gaps[i]
		answer.Gaps = append(answer.Gaps, jsonGap{g.Person.ID, g.Missing, g.Device, r.date(g.Deadline), r.daysLeft(g), g.Policy.Name, g.Case.Label})
	}
	return answer
}

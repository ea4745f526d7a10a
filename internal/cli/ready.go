package cli

import (
	"cmp"
	"encoding/csv"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/ready"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/schedule"
)

func (s *session) readyCommand() *cobra.Command {
	var by string
	var asCSV bool
	c := &cobra.Command{
		Use:   "ready",
		Short: "Tell who is not enrolled, or has no device, for what the policies will demand, and from when they would be stopped",
		Args:  noArgs,
		RunE:  func(*cobra.Command, []string) error { return s.ready(by, asCSV) },
	}
	c.Flags().StringVar(&by, "by", "", "count the policies that are to be enforced by this date too (default: by today)")
	c.Flags().BoolVar(&asCSV, "csv", false, "a line for each person and case, for writing to them: id, missing, deadline, days left, …")
	return c
}

func (s *session) ready(by string, asCSV bool) error {
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
		fmt.Fprintf(r.out, "%s for what the policies demand by %s.\n", r.paint.green("Everybody is ready"), day)
		return
	}
	people, stopped := map[string]int{}, map[string]int{}
	for i := range r.gaps {
		people[r.gaps[i].Person.ID]++
		if r.gaps[i].Deadline.IsZero() {
			stopped[r.gaps[i].Person.ID]++
		}
	}
	fmt.Fprintf(r.out, "%s not ready for what the policies demand by %s, %d of them already stopped where it is asked.\n",
		r.paint.bold(plural(len(people), "person")), day, len(stopped))
	for start := 0; start < len(r.gaps); {
		end := start
		for end < len(r.gaps) && r.gaps[end].Policy == r.gaps[start].Policy {
			end++
		}
		r.policy(r.gaps[start:end])
		start = end
	}
	r.byGroup()
}

// policy lists, for one policy, who lacks what for which case.
func (r *readiness) policy(gaps []ready.Gap) {
	p := gaps[0].Policy
	fmt.Fprintf(r.out, "\n%s %s\n", r.paint.blue(printable(p.Name)), r.paint.faint(fmt.Sprintf("(%s:%d)", p.Decl.Name.Pos.File, p.Decl.Name.Pos.Line)))
	type key struct {
		kase     *rulebook.Case
		missing  string
		device   bool
		deadline time.Time
	}
	lists := map[key][]string{}
	var order []key
	for i := range gaps {
		g := &gaps[i]
		k := key{g.Case, g.Missing, g.Device, g.Deadline}
		if lists[k] == nil {
			order = append(order, k)
		}
		lists[k] = append(lists[k], g.Person.ID)
	}
	slices.SortStableFunc(order, func(a, b key) int {
		return cmp.Or(cmp.Compare(a.kase.Pos.Line, b.kase.Pos.Line), a.deadline.Compare(b.deadline), len(lists[b])-len(lists[a]))
	})
	var last *rulebook.Case
	for _, k := range order {
		if k.kase != last {
			fmt.Fprintf(r.out, "  case %q asks %s\n", printable(k.kase.Label), wrapped(k.kase.Demand.Text, 8))
			last = k.kase
		}
		const when, most = 17, 6
		since := r.paint.red(pad("already", when))
		if !k.deadline.IsZero() {
			since = r.paint.amber(pad("from "+r.date(k.deadline), when))
		}
		lack := "without " + fewer(k.missing)
		if k.device {
			lack = "with " + k.missing
		}
		names := lists[k]
		fmt.Fprintf(r.out, "    %s%s %s\n", since, r.paint.bold(plural(len(names), "person")), wrapped(lack, when+6))
		fmt.Fprintf(r.out, "    %s%s\n", strings.Repeat(" ", when), wrapped(diag.Few(names, most), when+4))
	}
}

// fewer shortens a long list of alternatives.
func fewer(missing string) string {
	const most = 4
	list := strings.Split(missing, ", or ")
	if more := len(list) - most; more > 1 {
		return fmt.Sprintf("%s, or %d others", strings.Join(list[:most], ", or "), more)
	}
	return missing
}

// byGroup counts the people who are not ready in each group.
func (r *readiness) byGroup() {
	in := map[int32]map[string]bool{}
	for i := range r.gaps {
		for _, g := range r.gaps[i].Person.Groups {
			if in[g] == nil {
				in[g] = map[string]bool{}
			}
			in[g][r.gaps[i].Person.ID] = true
		}
	}
	all := map[int32]int{}
	for _, p := range r.rb.People {
		for _, g := range p.Groups {
			all[g]++
		}
	}
	groups := make([]int32, 0, len(in))
	for g := range in {
		groups = append(groups, g)
	}
	slices.SortFunc(groups, func(a, b int32) int {
		return cmp.Or(len(in[b])-len(in[a]), cmp.Compare(r.rb.Groups.Name(a), r.rb.Groups.Name(b)))
	})
	r.head("By group")
	for _, g := range groups[:min(len(groups), mostRows)] {
		fmt.Fprintf(r.out, "%5d of %-4d %s\n", len(in[g]), all[g], printable(r.rb.Groups.Name(g)))
	}
	if more := len(groups) - mostRows; more > 0 {
		fmt.Fprintf(r.out, "             and %s more\n", plural(more, "group"))
	}
}

func (s *session) head(title string) { fmt.Fprintf(s.out, "\n%s\n", s.paint.blue(title)) }

func (r *readiness) csv() error {
	w := csv.NewWriter(r.out)
	rows := [][]string{{"id", "missing", "deadline", "days_left", "policy", "case", "groups"}}
	for i := range r.gaps {
		g := &r.gaps[i]
		var groups []string
		for _, id := range g.Person.Groups {
			groups = append(groups, r.rb.Groups.Name(id))
		}
		rows = append(rows, []string{g.Person.ID, g.Missing, r.date(g.Deadline), strconv.Itoa(r.daysLeft(g)), g.Policy.Name, g.Case.Label, strings.Join(groups, ";")})
	}
	return w.WriteAll(rows)
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

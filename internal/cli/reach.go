package cli

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/reach"
	"briskwarden.example/briskwarden/internal/report"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language/parser"
	"briskwarden.example/briskwarden/signon"
)

func (s *session) reachCommand() *cobra.Command {
	var columns, charts string
	var all bool
	c := &cobra.Command{
		Use:   "reach user U | app A [CLAUSES]",
		Short: "Tell what a person gets to, or who gets to an app, with the outcome of each",
		Long: "reach decides made-up sign-ons of one user to every app, or of everybody to one app, under the\n" +
			"circumstances that the clauses of decide tell. --columns puts several beside each other: each is\n" +
			"clauses, or the name of a network, a schedule, a country or a set of countries.",
		RunE: func(_ *cobra.Command, args []string) error { return s.reach(args, columns, all, charts) },
	}
	c.Flags().StringVar(&columns, "columns", "", "circumstances to put beside each other, with commas between")
	c.Flags().BoolVar(&all, "all", false, "the whole matrix: people who fare alike, by apps")
	c.Flags().StringVar(&charts, "charts", "", "with --all: write a chart of the matrix into a folder, as PNG and SVG")
	return c
}

func (s *session) reach(args []string, columns string, all bool, charts string) error {
	e, now, err := s.engine()
	if err != nil {
		return err
	}
	rb := e.Rulebook()
	kind, name := "", ""
	if !all {
		if len(args) < 2 || args[0] != "user" && args[0] != "app" {
			return usage("say whom or what it is about: brisk reach user U, or brisk reach app A, or --all")
		}
		kind, name, args = args[0], args[1], args[2:]
	}
	switch {
	case kind == "user" && rb.People[name] == nil:
		return usage("there is no user %q%s", name, hint(name, slices.Sorted(maps.Keys(rb.People))))
	case kind == "app" && rb.Apps[name] == nil:
		return usage("there is no app %q%s", name, hint(name, slices.Sorted(maps.Keys(rb.Apps))))
	}
	list, err := s.circumstances(rb, joinWords(args), columns, now)
	if err != nil {
		return err
	}
	switch {
	case all:
		return s.reachAll(e, list, charts)
	case kind == "user":
		rows, err := reach.User(e, name, list)
		if err != nil {
			return usage("%w", err)
		}
		return s.reachUser(name, list, rows)
	}
	groups, err := reach.App(e, name, list)
	if err != nil {
		return usage("%w", err)
	}
	return s.reachApp(name, list, groups)
}

// circumstances reads the clauses that hold for all, and each column beside them.
func (s *session) circumstances(rb *rulebook.Rulebook, clauses, columns string, now time.Time) (list []reach.Circumstance, err error) {
	for column := range strings.SplitSeq(columns, ",") {
		column = strings.TrimSpace(column)
		text, err := clausesOf(rb, column, now)
		if err != nil {
			return nil, usage("--columns: %w", err)
		}
		stated := text == column
		text = strings.TrimSpace(clauses + " " + text)
		so, err := s.told(rb, parser.SignOn, "circumstances", text, now)
		if err != nil {
			return nil, err
		}
		if stated {
			if err := s.oneInstant(&so); err != nil {
				return nil, err
			}
		}
		if so.Time.IsZero() {
			so.Time = now
		}
		list = append(list, reach.Circumstance{Name: column, SignOn: so})
	}
	return list, nil
}

// clausesOf turns the name of a network, schedule or country into clauses; clauses stay as they are.
func clausesOf(rb *rulebook.Rulebook, column string, now time.Time) (string, error) {
	if column == "" || strings.ContainsAny(column, " \t") {
		return column, nil
	}
	if id := slices.Index(rb.Networks.Names, column); id >= 0 {
		a, ok := rb.Networks.Table.Sample(id)
		if !ok {
			return "", fmt.Errorf("the network %s lists no address", column)
		}
		return "ip " + a.String(), nil
	}
	for _, sch := range rb.Schedules {
		if sch.Name != column {
			continue
		}
		const step, most = 15 * time.Minute, 14 * 24 * 4
		for i := range most {
			if t := now.Add(time.Duration(i) * step); sch.In(t) == known.True {
				return "at " + t.Format(time.RFC3339), nil
			}
		}
		return "", fmt.Errorf("the schedule %s is not open in the next two weeks", column)
	}
	if codes := rb.CountryCodes(column); len(codes) > 0 {
		return "country " + codes[0], nil
	}
	if _, err := netip.ParseAddr(column); err == nil {
		return "", fmt.Errorf("%s is an address: write \"ip %s\"", column, column)
	}
	return "", fmt.Errorf("%q is neither clauses nor the name of a network, schedule or country%s", column, hint(column, columnNames(rb)))
}

// columnNames are the names that a column may be.
func columnNames(rb *rulebook.Rulebook) []string {
	names := slices.Clone(rb.Networks.Names)
	for _, sch := range rb.Schedules {
		names = append(names, sch.Name)
	}
	return names
}

// fareText tells a fare in a few words.
func (s *session) fareText(f *reach.Fare, width int) styled {
	text := f.Outcome.String()
	if f.Asked != "" {
		text += ": " + f.Asked
	}
	laid := wrapped(text, 18)
	if width > 0 {
		laid = pad(cut(text, width), width)
	}
	rest, whole := strings.CutPrefix(string(laid), f.Outcome.String())
	if !whole {
		return laid
	}
	return s.paint.outcome(f.Outcome, f.Outcome.String()) + styled(rest)
}

// columnWidth is the width of each of several columns.
func columnWidth(n int) int {
	if n == 1 {
		return 0
	}
	return max(12, 96/n)
}

func (s *session) columnHeads(label string, width int, list []reach.Circumstance) {
	if len(list) == 1 {
		return
	}
	s.out.print(pad(label, 18))
	for _, c := range list {
		s.out.print(s.paint.blue(pad(cut(c.Name, width), width)), "  ")
	}
	s.out.println()
}

func (s *session) reachUser(user string, list []reach.Circumstance, rows []reach.Row) error {
	if s.json {
		return s.writeJSON(struct {
			User    string      `json:"user"`
			Columns []string    `json:"columns"`
			Apps    []reach.Row `json:"apps"`
		}{user, names(list), rows})
	}
	width, reached := columnWidth(len(list)), 0
	for _, r := range rows {
		if slices.ContainsFunc(r.Fares, func(f reach.Fare) bool { return f.Outcome != signon.Block }) {
			reached++
		}
	}
	s.out.printf("%s gets to %d of %s.\n\n", s.paint.bold(user), reached, spell.Plural(len(rows), "app"))
	s.columnHeads("", width, list)
	for _, r := range rows {
		s.out.print(pad(r.App, 18))
		for i := range r.Fares {
			s.out.print(s.fareText(&r.Fares[i], width), "  ")
		}
		if len(list) == 1 {
			s.out.print(s.paint.faint(r.Fares[0].By))
		}
		s.out.println()
	}
	var all []reach.Fare
	for _, r := range rows {
		all = append(all, r.Fares...)
	}
	s.unknownFacts(all)
	return nil
}

func names(list []reach.Circumstance) (names []string) {
	for _, c := range list {
		names = append(names, c.Name)
	}
	return names
}

// unknownFacts names the facts that were left out, and mattered.
func (s *session) unknownFacts(fares []reach.Fare) {
	var unknown []string
	for _, f := range fares {
		unknown = append(unknown, f.Unknown...)
	}
	slices.Sort(unknown)
	if unknown = slices.Compact(unknown); len(unknown) > 0 {
		s.out.printf("\nLeft out, and it mattered: %s\n", wrapped(strings.Join(unknown, ", "), 0))
	}
}

func (s *session) reachApp(app string, list []reach.Circumstance, groups []*reach.Alike) error {
	if s.json {
		return s.writeJSON(struct {
			App     string         `json:"app"`
			Columns []string       `json:"columns"`
			Alike   []*reach.Alike `json:"alike"`
		}{app, names(list), groups})
	}
	all, in := 0, 0
	var fares []reach.Fare
	for _, g := range groups {
		all += len(g.People)
		if slices.ContainsFunc(g.Fares, func(f reach.Fare) bool { return f.Outcome != signon.Block }) {
			in += len(g.People)
		}
		fares = append(fares, g.Fares...)
	}
	s.out.printf("%s get to %s, of %d; those who fare alike stand together.\n\n", s.paint.bold(spell.Plural(in, "person")), app, all)
	width := columnWidth(len(list))
	s.columnHeads("", width, list)
	for _, g := range groups {
		s.out.print(pad(spell.Plural(len(g.People), "person"), 18))
		for i := range g.Fares {
			s.out.print(s.fareText(&g.Fares[i], width), "  ")
		}
		s.out.printf("\n    %s\n", s.paint.faint(wrapped(diag.Few(g.People, 8), 4)))
	}
	s.unknownFacts(fares)
	return nil
}

// matrix is who gets to what under one circumstance.
type matrix struct {
	Column string         `json:"column,omitzero"`
	Apps   []string       `json:"apps"`
	Alike  []*reach.Alike `json:"alike"`
}

// reachAll shows the matrix under every circumstance.
func (s *session) reachAll(e *engine.Engine, list []reach.Circumstance, charts string) error {
	if charts != "" && len(list) > 1 {
		return usage("--charts draws one circumstance: give it in clauses, without --columns")
	}
	var all []matrix
	for _, c := range list {
		groups, err := reach.Matrix(e, c)
		if err != nil {
			return usage("%w", err)
		}
		all = append(all, matrix{c.Name, reach.Apps(e), groups})
	}
	if err := s.writeCharts(charts, []report.Chart{report.Reach(all[0].Apps, all[0].Alike)}); err != nil {
		return err
	}
	switch {
	case s.json && len(all) == 1:
		return s.writeJSON(all[0])
	case s.json:
		return s.writeJSON(struct {
			Columns []matrix `json:"columns"`
		}{all})
	}
	for i := range all {
		if i > 0 {
			s.out.println()
		}
		s.reachMatrix(&all[i])
	}
	return nil
}

func (s *session) reachMatrix(m *matrix) {
	under := ""
	if m.Column != "" {
		under = ", under " + m.Column
	}
	s.out.printf("%s, of people who fare alike, by app%s.\n\n", s.paint.bold(spell.Plural(len(m.Alike), "group")), under)
	const first = 12
	heads, widths := matrixHeads(m.Apps, lineWidth-first)
	for _, line := range heads {
		s.out.print(strings.Repeat(" ", first))
		for i, text := range line {
			s.out.print(s.paint.blue(pad(cut(text, widths[i]-1), widths[i])))
		}
		s.out.println()
	}
	for _, g := range m.Alike {
		s.out.print(pad(spell.Plural(len(g.People), "person"), first))
		for i, f := range g.Fares {
			s.out.print(s.paint.outcome(f.Outcome, pad(f.Outcome.String(), widths[i])))
		}
		s.out.printf("\n    %s\n", s.paint.faint(wrapped(diag.Few(g.People, 8), 4)))
	}
}

// matrixHeads lays out the names above the columns of a matrix, in two lines where one has not
// room for all; a name is broken after a dash.
func matrixHeads(apps []string, room int) (heads [][]string, widths []int) {
	const narrow, wide = 8, 20
	heads = [][]string{apps}
	width := func() (all int) {
		widths = make([]int, len(apps))
		for i := range apps {
			widths[i] = narrow
			for _, line := range heads {
				widths[i] = min(wide, max(widths[i], len([]rune(line[i]))+1))
			}
			all += widths[i]
		}
		return all
	}
	if width() > room {
		heads = [][]string{make([]string, len(apps)), make([]string, len(apps))}
		for i, app := range apps {
			dash := strings.LastIndex(app[:(len(app)+3)/2], "-") + 1
			heads[0][i], heads[1][i] = app[:dash], app[dash:]
		}
		width()
	}
	return heads, widths
}

package cli

// brisk reach.

import (
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/reach"
	"briskwarden.example/briskwarden/report"
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
	s.addState(c)
	c.Flags().StringVar(&columns, "columns", "", "circumstances to put beside each other, with commas between")
	c.Flags().BoolVar(&all, "all", false, "the whole matrix: people who fare alike, by apps")
	c.Flags().StringVar(&charts, "charts", "", "with --all: write a chart of the matrix into a folder, as PNG and SVG")
	return c
}

func (s *session) reach(args []string, columns string, all bool, charts string) error {
	rules, _, done, err := s.beside()
	if err != nil {
		return err
	}
	defer done()
	now, err := s.clock(rules)
	if err != nil {
		return err
	}
	kind, name := "", ""
	if !all {
		if len(args) < 2 || args[0] != "user" && args[0] != "app" {
			return usage("say whom or what it is about: brisk reach user U, or brisk reach app A, or --all")
		}
		kind, name, args = args[0], args[1], args[2:]
	}
	switch {
	case kind == "user" && !slices.Contains(rules.Users(), name):
		return usage("there is no user %q%s", name, hint(name, rules.Users()))
	case kind == "app" && !slices.Contains(rules.Apps(), name):
		return usage("there is no app %q%s", name, hint(name, rules.Apps()))
	}
	usual := kind == "user" && len(args) == 0 && columns == ""
	var list []reach.Circumstance
	if usual {
		list = reach.Usual(rules, name, now)
	} else if list, err = s.circumstances(rules, joinWords(args), columns, now); err != nil {
		return err
	}
	switch {
	case all:
		return s.reachAll(rules, list, charts)
	case kind == "user":
		r, err := reach.User(s.ctx, rules, name, list)
		if err != nil {
			return usage("%w", err)
		}
		if usual && !s.json {
			s.reachUsually(r)
			return nil
		}
		return s.reachUser(r)
	}
	r, err := reach.App(s.ctx, rules, name, list)
	if err != nil {
		return usage("%w", err)
	}
	return s.reachApp(r)
}

// circumstances reads the clauses that hold for all, and each column beside them.
func (s *session) circumstances(rules *briskwarden.Rulebook, clauses, columns string, now time.Time) (list []reach.Circumstance, err error) {
	for column := range strings.SplitSeq(columns, ",") {
		column = strings.TrimSpace(column)
		text, err := reach.Clauses(rules, column, now)
		if err != nil {
			return nil, usage("--columns: %w", err)
		}
		stated := text == column
		text = strings.TrimSpace(clauses + " " + text)
		so, err := s.told(rules.SignOn, "circumstances", text)
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

// fareText tells a fare in a few words.
func (s *session) fareText(f *reach.Fare, width int) screen.Styled {
	text := f.Outcome.String()
	if f.Asked != "" {
		text += ": " + f.Asked
	}
	laid := screen.Wrapped(text, 18)
	if width > 0 {
		laid = screen.Pad(screen.Cut(text, width), width)
	}
	rest, whole := strings.CutPrefix(string(laid), f.Outcome.String())
	if !whole {
		return laid
	}
	return s.paint.Outcome(f.Outcome, f.Outcome.String()) + screen.Styled(rest)
}

// columnWidth is the width of each of several columns.
func columnWidth(n int) int {
	if n == 1 {
		return 0
	}
	return max(12, 96/n)
}

func (s *session) columnHeads(width int, names []string) {
	if len(names) == 1 {
		return
	}
	s.out.Print(screen.Pad("", 18))
	for _, name := range names {
		s.out.Print(s.paint.Blue(screen.Pad(screen.Cut(name, width), width)), "  ")
	}
	s.out.Println()
}

func (s *session) reachUser(of *reach.OfUser) error {
	if s.json {
		return s.writeJSON(of)
	}
	width, reached := columnWidth(len(of.Columns)), 0
	for _, r := range of.Apps {
		if slices.ContainsFunc(r.Fares, func(f reach.Fare) bool { return f.Outcome != signon.Block }) {
			reached++
		}
	}
	s.out.Printf("%s gets to %d of %s.\n\n", s.paint.Bold(of.User), reached, spell.Plural(len(of.Apps), "app"))
	s.columnHeads(width, of.Columns)
	for _, r := range of.Apps {
		s.out.Print(screen.Pad(r.App, 18))
		for i := range r.Fares {
			s.out.Print(s.fareText(&r.Fares[i], width), "  ")
		}
		if len(of.Columns) == 1 {
			s.out.Print(s.paint.Faint(r.Fares[0].By))
		}
		s.out.Println()
	}
	var all []reach.Fare
	for _, r := range of.Apps {
		all = append(all, r.Fares...)
	}
	s.unknownFacts(all)
	return nil
}

// reachUsually tells how somebody gets to apps who said nothing of circumstances: those that come to the same stand together.
func (s *session) reachUsually(of *reach.OfUser) {
	groups := of.Together()
	reached := 0
	for _, r := range of.Apps {
		if slices.ContainsFunc(r.Fares, func(f reach.Fare) bool { return f.Outcome != signon.Block }) {
			reached++
		}
	}
	s.out.Printf("%s gets to %d of %s, in one way or another:\n\n", s.paint.Bold(of.User), reached, spell.Plural(len(of.Apps), "app"))
	if len(groups) == 1 {
		s.out.Printf("  %s\n\n", screen.Wrapped(groups[0].Name, 2))
	}
	var letters []string
	for i := range groups {
		letters = append(letters, string(rune('A'+i%26)))
	}
	if len(groups) > 1 {
		for i, g := range groups {
			s.out.Printf("  %s  %s\n", s.paint.Blue(letters[i]), screen.Wrapped(g.Name, 5))
		}
		s.out.Println()
	}
	width := columnWidth(len(groups))
	s.columnHeads(width, letters)
	for i, r := range of.Apps {
		s.out.Print(screen.Pad(r.App, 18))
		for _, g := range groups {
			s.out.Print(s.fareText(&g.Fares[i], width), "  ")
		}
		s.out.Println()
	}
	s.out.Printf("\n%s\n", s.paint.Faint("Other circumstances: brisk reach user U CLAUSES, or --columns"))
}

// unknownFacts names the facts that were left out, and mattered.
func (s *session) unknownFacts(fares []reach.Fare) {
	var unknown []string
	for _, f := range fares {
		unknown = append(unknown, f.Unknown...)
	}
	slices.Sort(unknown)
	if unknown = slices.Compact(unknown); len(unknown) > 0 {
		s.out.Printf("\nLeft out, and it mattered: %s\n", screen.Wrapped(strings.Join(unknown, ", "), 0))
	}
}

func (s *session) reachApp(of *reach.OfApp) error {
	if s.json {
		return s.writeJSON(of)
	}
	all, in := 0, 0
	var fares []reach.Fare
	for _, g := range of.Alike {
		all += len(g.People)
		if slices.ContainsFunc(g.Fares, func(f reach.Fare) bool { return f.Outcome != signon.Block }) {
			in += len(g.People)
		}
		fares = append(fares, g.Fares...)
	}
	s.out.Printf("%s get to %s, of %d; those who fare alike stand together.\n\n", s.paint.Bold(spell.Plural(in, "person")), of.App, all)
	width := columnWidth(len(of.Columns))
	s.columnHeads(width, of.Columns)
	for _, g := range of.Alike {
		s.out.Print(screen.Pad(spell.Plural(len(g.People), "person"), 18))
		for i := range g.Fares {
			s.out.Print(s.fareText(&g.Fares[i], width), "  ")
		}
		s.out.Printf("\n    %s\n", s.paint.Faint(screen.Wrapped(spell.Few(g.People, 8), 4)))
	}
	s.unknownFacts(fares)
	return nil
}

// reachAll shows the matrix under every circumstance.
func (s *session) reachAll(rules *briskwarden.Rulebook, list []reach.Circumstance, charts string) error {
	if charts != "" && len(list) > 1 {
		return usage("--charts draws one circumstance: give it in clauses, without --columns")
	}
	var all []*reach.Matrix
	for _, c := range list {
		m, err := reach.All(s.ctx, rules, c)
		if err != nil {
			return usage("%w", err)
		}
		all = append(all, m)
	}
	if err := s.writeCharts(charts, []report.Chart{report.Reach(all[0])}); err != nil {
		return err
	}
	switch {
	case s.json && len(all) == 1:
		return s.writeJSON(all[0])
	case s.json:
		return s.writeJSON(struct {
			Columns []*reach.Matrix `json:"columns"`
		}{all})
	}
	for i := range all {
		if i > 0 {
			s.out.Println()
		}
		s.reachMatrix(all[i])
	}
	return nil
}

func (s *session) reachMatrix(m *reach.Matrix) {
	under := ""
	if m.Column != "" {
		under = ", under " + m.Column
	}
	s.out.Printf("%s, of people who fare alike, by app%s.\n\n", s.paint.Bold(spell.Plural(len(m.Alike), "group")), under)
	const first = 12
	heads, widths := matrixHeads(m.Apps, screen.Width-first)
	for _, line := range heads {
		s.out.Print(strings.Repeat(" ", first))
		for i, text := range line {
			s.out.Print(s.paint.Blue(screen.Pad(screen.Cut(text, widths[i]-1), widths[i])))
		}
		s.out.Println()
	}
	for _, g := range m.Alike {
		s.out.Print(screen.Pad(spell.Plural(len(g.People), "person"), first))
		for i, f := range g.Fares {
			s.out.Print(s.paint.Outcome(f.Outcome, screen.Pad(f.Outcome.String(), widths[i])))
		}
		s.out.Printf("\n    %s\n", s.paint.Faint(screen.Wrapped(spell.Few(g.People, 8), 4)))
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

package report

// The page of how well every app is covered.

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/survey"
)

// Survey is a page of how well every app is covered: counts of ways in, the least that lets people in by app,
// and what to do next.
func Survey(r *survey.Report) *Page {
	p := &Page{
		Title: r.Rulebook + ": how well every app is covered",
		About: []string{"every possible sign-on from " + r.From.Format(time.DateOnly) + " to " + r.Until.Format(time.DateOnly)},
		Answer: fmt.Sprintf("Of %s in, %s on one factor; %s open on any device, %s from anywhere.", spell.Plural(r.Ways, "way"),
			counted(r.OneFactor, "stands", "stand"), counted(r.AnyDevice, "is", "are"), Count(r.Anywhere)),
		Tiles: []Tile{{r.Ways, "ways in: a person and an app", Plain}, {r.OneFactor, "on one factor, or none", weak(r.OneFactor)}, {r.AnyDevice, "on any device", weak(r.AnyDevice)},
			{r.Anywhere, "from anywhere", weak(r.Anywhere)}},
	}
	if r.AsEnforced {
		p.About = append(p.About, "policies on watch count as if they were enforced")
	}
	for _, x := range r.Exceptions {
		p.Say = append(p.Say, Remark{StepUp, x.What, spell.Few(x.People, 8)})
	}
	p.Parts = append(p.Parts, Part{Title: "The least that lets people in", Charts: []Chart{coverage(r)}},
		Part{Title: "Every app, the weakest first", Table: rowsOf(r)}, Part{Title: "What to do next", Table: stepsOf(r)})
	return p
}

// counted is a number with the verb that goes with it.
func counted(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return Count(n) + " " + many
}

func weak(n int) Colour {
	if n > 0 {
		return StepUp
	}
	return Grant
}

// coverage is a chart of how many people get into each app on which least level.
func coverage(r *survey.Report) Chart {
	levels := []string{"none", "aal1", "aal2", "aal3"}
	var apps []string
	people := map[string][4]int{}
	for i := range r.Rows {
		row := &r.Rows[i]
		if _, seen := people[row.App]; !seen {
			apps = append(apps, row.App)
		}
		counts := people[row.App]
		counts[slices.Index(levels, row.Least)] += len(row.People)
		people[row.App] = counts
	}
	most := 1
	for _, counts := range people {
		most = max(most, slices.Max(counts[:]))
	}
	g := &Grid{Head: Head{Name: "coverage", Title: "People by the least that ever lets them in, by app"}, Columns: []string{"none", "one factor (aal1)", "two factors (aal2)", "aal3"}}
	for _, app := range apps {
		row := GridRow{Label: app}
		for level, n := range people[app] {
			row.Cells = append(row.Cells, cell(n, most, []Colour{Block, StepUp, Grant, Grant}[level]))
		}
		g.Rows = append(g.Rows, row)
	}
	return g
}

func rowsOf(r *survey.Report) *Table {
	t := &Table{Heads: []string{"App", "People", "Who", "Least", "Phishing-resistant", "Device", "From", "Risk up to"}}
	if r.Logged > 0 {
		t.Heads = append(t.Heads, "Used", "on less than aal2")
	}
	for i := range r.Rows {
		row := &r.Rows[i]
		colour := Grant
		if row.Least == "none" || row.Least == "aal1" {
			colour = StepUp
		}
		device := "any"
		if row.Managed {
			device = "managed"
		}
		if len(row.Baselines) > 0 {
			device = strings.Join(row.Baselines, ", ")
		}
		cells := []Text{plain(row.App), amount(len(row.People)), faint(spell.Few(row.People, 3)), marked(row.Least, colour), plain(yesNo(row.Resistant)), plain(device),
			plain(row.From(r.Networks)), plain(row.Band)}
		if r.Logged > 0 {
			cells = append(cells, amount(row.Used), amount(row.Weakly))
		}
		t.Rows = append(t.Rows, cells)
	}
	return t
}

func yesNo(b bool) string {
	if b {
		return "always"
	}
	return "no"
}

func stepsOf(r *survey.Report) *Table {
	t := &Table{Heads: []string{"Step", "Closes", "Not ready", "Policy", "Promise that it makes true"}}
	for i := range r.Steps {
		x := &r.Steps[i]
		t.Rows = append(t.Rows, []Text{plain(x.What), amount(x.Closes), amount(len(x.NotReady)), code(x.Policy), code(x.Promise)})
	}
	return t
}

package report

// The chart of who gets to what.

import (
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/reach"
)

// Reach is a chart of who gets to which app: people who fare alike, by apps.
func Reach(m *reach.Matrix) Chart {
	g := &Grid{Head: Head{Name: "reach", Title: "Who gets to what: people who fare alike, by app"}, Columns: m.Apps}
	for _, alike := range m.Alike {
		row := GridRow{Label: spell.Plural(len(alike.People), "person") + ": " + alike.People[0]}
		if len(alike.People) > 1 {
			row.Label += ", …"
		}
		for _, f := range alike.Fares {
			row.Cells = append(row.Cells, Cell{Text: f.Outcome.String(), Colour: colourOf(f.Outcome), Shade: 1})
		}
		g.Rows = append(g.Rows, row)
	}
	return g
}

package about

// What concerns a thing, as text.

import (
	"fmt"
	"slices"
	"strings"

	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/internal/spell"
)

// mostMentions is how many declarations are told one by one.
const mostMentions = 30

// Text is everything as plain text of a width in columns. Whatever anybody named stands in it in characters that can be seen.
func (a *About) Text(width int) string {
	w := &writer{width: width}
	w.line(0, fmt.Sprintf("%s %s", a.Kind, a.Name))
	w.lines("", a.Known)
	title := "Gets to what, with what is stated alone"
	if a.On != "" {
		title += ", from trusted networks on " + a.On
	}
	if a.Kind == App {
		title = "Who gets to it, with what is stated alone"
	}
	w.lines(title, a.Reach)
	w.mentions(a.Speaks)
	w.lines("If it went", a.Felt)
	w.signOns(a)
	return w.String()
}

type writer struct {
	strings.Builder
	width int
}

func (w *writer) line(indent int, text string) {
	w.WriteString(strings.Repeat(" ", indent) + string(screen.WrappedTo(spell.Printable(text), indent, indent+2, w.width)) + "\n")
}

// lines writes lines with their labels in a column, each label once where several follow each other.
func (w *writer) lines(title string, list []Line) {
	if len(list) == 0 {
		return
	}
	if title != "" {
		w.WriteString("\n")
		w.line(0, title)
	}
	var shown [][2]string
	for i, l := range list {
		label, text := l.Label, l.Text
		if i > 0 && label == list[i-1].Label {
			label = ""
		}
		if r := []rune(text); len(r) > mostText {
			text = string(r[:mostText]) + "…: --json has all"
		}
		if l.At != "" {
			text += "  (" + l.At + ")"
		}
		shown = append(shown, [2]string{label, text})
	}
	w.WriteString(string(screen.Labelled(shown, w.width)))
}

// mentions writes the declarations that speak of the thing: those that name it first, then those that speak of it among others,
// in a line for each kind.
func (w *writer) mentions(list []Mention) {
	if len(list) == 0 {
		return
	}
	var lines, others []Line
	for _, m := range list {
		if m.How != inGeneral && m.How != forEverything {
			lines = append(lines, Line{m.What, fmt.Sprintf("%s: %s", m.Name, m.How), m.At})
			continue
		}
		text := fmt.Sprintf("%s (%s)", m.Name, m.At)
		if i := slices.IndexFunc(others, func(l Line) bool { return l.Label == m.What }); i >= 0 {
			others[i].Text += ", " + text
		} else {
			others = append(others, Line{Label: m.What, Text: m.How + ": " + text})
		}
	}
	shown := lines[:min(len(lines), mostMentions)]
	w.lines("Speaks of it: "+spell.Plural(len(list), "declaration"), append(shown, others...))
	if more := len(lines) - len(shown); more > 0 {
		w.line(2, fmt.Sprintf("and %d more: --json has them all", more))
	}
}

// mostText is how long the text of a line is at most.
const mostText = 1200

func (w *writer) signOns(a *About) {
	if len(a.SignOns) == 0 && a.All == 0 && a.Bad == 0 {
		return
	}
	title := fmt.Sprintf("The last %s", spell.Plural(len(a.SignOns), "sign-on"))
	if a.All > len(a.SignOns) {
		title += fmt.Sprintf(" of %d", a.All)
	}
	w.WriteString("\n")
	w.line(0, title)
	var rows [][]string
	for _, s := range a.SignOns {
		row := []string{s.Time.In(a.zone).Format("Mon 2006-01-02 15:04"), s.Outcome}
		if a.Kind != User {
			row = append(row, s.User)
		}
		if a.Kind != App {
			row = append(row, s.App)
		}
		rows = append(rows, append(row, s.From, s.Device, s.Where))
	}
	w.table(rows)
	if a.Bad > 0 {
		w.line(2, spell.Plural(a.Bad, "line")+" of the logs cannot be read")
	}
}

// table writes rows in columns.
func (w *writer) table(rows [][]string) {
	widths := map[int]int{}
	for _, row := range rows {
		for i, cell := range row {
			widths[i] = max(widths[i], screen.Cells(spell.Printable(cell)))
		}
	}
	for _, row := range rows {
		line := " "
		for i, cell := range row {
			if widths[i] > 0 {
				line += " " + string(screen.Pad(spell.Printable(cell), widths[i])) + " "
			}
		}
		w.WriteString(strings.TrimRight(line, " ") + "\n")
	}
}

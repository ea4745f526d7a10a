package report

// Pages.

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"strings"

	"briskwarden.example/briskwarden/internal/spell"
)

// Page is one page: the answer first, then figures, then tables with the reasons.
type Page struct {
	Title  string
	About  []string // what it was made from
	Answer string   // in one sentence
	Tiles  []Tile
	Say    []Remark // what else is to be known at once
	Parts  []Part
}

// Tile is one number of the answer.
type Tile struct {
	Number int
	What   string
	Colour Colour
}

// Remark is a sentence with a verdict.
type Remark struct {
	Colour Colour // of the verdict
	Head   string
	Text   string
}

// Part is a part of a page: charts beside each other, or a table.
type Part struct {
	Title  string
	Charts []Chart
	Table  *Table
}

// Table is a table of texts and numbers.
type Table struct {
	Note  string
	Heads []string
	Rows  [][]Text
	More  string // what is left out, and where it stands
}

// Text is a cell of a table.
type Text struct {
	Text   string
	Number bool
	Faint  bool
	Code   bool
	Mark   bool // Colour stands beside it
	Colour Colour
}

func plain(s string) Text            { return Text{Text: s} }
func faint(s string) Text            { return Text{Text: s, Faint: true} }
func code(s string) Text             { return Text{Text: s, Code: true} }
func amount(n int) Text              { return Text{Text: number(n), Number: true} }
func marked(s string, c Colour) Text { return Text{Text: s, Mark: true, Colour: c} }

// number tells an amount; nothing at all is a dot.
func number(n int) string {
	if n == 0 {
		return "·"
	}
	return Count(n)
}

// Count is a number with its thousands apart.
func Count(n int) string {
	text := fmt.Sprint(n)
	for i := len(text) - 3; i > 0; i -= 3 {
		text = text[:i] + "," + text[i:]
	}
	return text
}

// Charts are all charts of the page, in their order.
func (p *Page) Charts() (list []Chart) {
	for _, part := range p.Parts {
		list = append(list, part.Charts...)
	}
	return list
}

//go:embed page.html
var pageText string

//go:embed page.css
var pageStyle string

var colourNames = [...]string{Grant: "grant", Review: "review", StepUp: "step-up", Block: "block", Plain: "plain", Still: "still"}

// String is the colour's class on a page.
func (c Colour) String() string { return colourNames[c] }

var pageTemplate = template.Must(template.New("page").Funcs(template.FuncMap{
	"style":   func() template.CSS { return template.CSS(pageStyle) },
	"count":   Count,
	"number":  number,
	"bars":    func(c Chart) *Bars { b, _ := c.(*Bars); return b },
	"grid":    func(c Chart) *Grid { g, _ := c.(*Grid); return g },
	"share":   func(n, of int) string { return fmt.Sprintf("%.2f%%", 100*float64(n)/float64(max(of, 1))) },
	"numeric": func(t *Table, column int) bool { return len(t.Rows) > 0 && t.Rows[0][column].Number },
	"shade":   func(f float64) string { return fmt.Sprintf("%.0f%%", f*100) },
}).Parse(pageText))

// Write writes the page. Whatever anybody named stands there in characters that can be seen.
func (p *Page) Write(w io.Writer) error {
	var b strings.Builder
	if err := pageTemplate.Execute(&b, p); err != nil {
		return err
	}
	_, err := io.WriteString(w, spell.PrintableLines(b.String()))
	return err
}

// Slice is one part of a bar as it is drawn.
type Slice struct {
	Series
	Value int
}

// Slices are the parts of a bar that are there.
func (b *Bars) Slices(bar Bar) (list []Slice) {
	for i, s := range b.Series {
		if bar.Parts[i] > 0 {
			list = append(list, Slice{s, bar.Parts[i]})
		}
	}
	return list
}

// Numbers are the amounts of a bar, for the series that the chart uses.
func (b *Bars) Numbers(bar Bar) (list []Slice) {
	for _, u := range b.Used() {
		for i, s := range b.Series {
			if s == u {
				list = append(list, Slice{s, bar.Parts[i]})
			}
		}
	}
	return list
}

// Tells is a bar in words.
func (b *Bars) Tells(bar Bar) string {
	var parts []string
	for _, s := range b.Slices(bar) {
		parts = append(parts, Count(s.Value)+" "+s.Name)
	}
	if len(parts) == 0 {
		parts = []string{"none"}
	}
	return bar.Label + ": " + strings.Join(parts, ", ")
}

// Tick is the label below a column: of days the Mondays', of months all, or few of many.
func (b *Bars) Tick(i int) string {
	label := b.Bars[i].Label
	t := day(label)
	switch {
	case t.IsZero() && len(b.Bars) > 24 && i%6 > 0:
		return ""
	case t.IsZero():
		return label
	case len(b.Bars) > 35 && t.Day() == 1, len(b.Bars) <= 35 && (t.Weekday() == 1 || len(b.Bars) < 7):
		return t.Format("2 Jan")
	}
	return ""
}

// Steps are round amounts for the lines across columns.
func (b *Bars) Steps() (list []int) {
	step := stepOf(b.Longest())
	for n := step; n <= b.Longest(); n += step {
		list = append(list, n)
	}
	return list
}

// stepOf is a round amount of which two to five make up n.
func stepOf(n int) int {
	step := 1
	for {
		for _, f := range []int{1, 2, 5} {
			if n/(step*f) < 5 {
				return step * f
			}
		}
		step *= 10
	}
}

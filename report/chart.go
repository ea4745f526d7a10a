package report

// The charts of a page, and what they draw.

import (
	"time"

	"briskwarden.example/briskwarden/replay"
	"briskwarden.example/briskwarden/signon"
)

// Chart is a figure: drawn beside its numbers on a page, and alone as PNG and SVG.
type Chart interface {
	head() *Head
}

// Head is what every chart has.
type Head struct {
	Name  string // of its files, without suffix
	Title string
	Note  string // how to read it; empty for none
}

func (h *Head) head() *Head { return h }

// Colour is what a part of a chart means, and so is drawn in.
type Colour int

const (
	Grant Colour = iota
	Review
	StepUp
	Block
	Plain // an amount, whatever came of it
	Still // what does not change
)

// Series is one part of every bar.
type Series struct {
	Name   string
	Colour Colour
}

// byOutcome are the parts of bars of outcomes: the strictest stands at the foot of each, so
// that it is the easiest to compare.
var byOutcome = []Series{{"block", Block}, {"step-up", StepUp}, {"review", Review}, {"grant", Grant}}

// outcomes are counts as the parts of a bar.
func outcomes(o *replay.Outcomes) []int {
	return []int{o[signon.Block], o[signon.StepUp], o[signon.Review], o[signon.Grant]}
}

// colours are those of outcomes.
var colours = [...]Colour{signon.Block: Block, signon.StepUp: StepUp, signon.Review: Review, signon.Grant: Grant}

func colourOf(o signon.Outcome) Colour { return colours[o] }

// Bar is a bar, or a column, of a chart.
type Bar struct {
	Label  string
	Parts  []int // by series
	Within bool  // it belongs to the bar above, and is drawn paler
}

// Sum is the length of the bar.
func (b *Bar) Sum() (n int) {
	for _, p := range b.Parts {
		n += p
	}
	return n
}

// Bars are amounts beside each other, each of several parts.
type Bars struct {
	Head
	Series []Series
	Bars   []Bar
	More   int  // bars that are left out
	Time   bool // the bars are days or months, one after the other
}

// Longest is the length of the longest bar.
func (b *Bars) Longest() (n int) {
	for i := range b.Bars {
		n = max(n, b.Bars[i].Sum())
	}
	return n
}

// Used are the series of which there is anything.
func (b *Bars) Used() (list []Series) {
	for i, s := range b.Series {
		for _, bar := range b.Bars {
			if bar.Parts[i] > 0 {
				list = append(list, s)
				break
			}
		}
	}
	return list
}

// mostBars is how many bars a chart has at most, where the rest is of little weight.
const mostBars = 15

// bars are the rows of a table of counts.
func bars(head Head, rows []replay.Row, unnamed string) *Bars {
	b := &Bars{Head: head, Series: byOutcome, More: max(0, len(rows)-mostBars)}
	for i := range rows[:len(rows)-b.More] {
		label := rows[i].Name
		if label == "" {
			label = unnamed
		}
		b.Bars = append(b.Bars, Bar{Label: label, Parts: outcomes(&rows[i].Outcomes)})
	}
	return b
}

// mostDays is up to how many days each has a column of its own; beyond, each month has.
const mostDays = 92

// timeline are counts by day, with no day left out; of a long time by month.
func timeline(head Head, rows []replay.Row, first, last time.Time) *Bars {
	b := &Bars{Head: head, Series: byOutcome, Time: true}
	at := map[string]int{}
	add := func(label string) {
		if _, there := at[label]; !there {
			at[label] = len(b.Bars)
			b.Bars = append(b.Bars, Bar{Label: label, Parts: make([]int, len(b.Series))})
		}
	}
	layout := "2006-01"
	if last.Sub(first) <= mostDays*24*time.Hour {
		layout = time.DateOnly
		for d := first; d.Before(last); d = d.AddDate(0, 0, 1) {
			add(d.Format(layout))
		}
	}
	for i := range rows {
		label := day(rows[i].Name).Format(layout)
		add(label)
		for j, n := range outcomes(&rows[i].Outcomes) {
			b.Bars[at[label]].Parts[j] += n
		}
	}
	return b
}

func day(name string) time.Time {
	t, _ := time.Parse(time.DateOnly, name)
	return t
}

// Grid is a table of amounts or of outcomes, in which the shade tells as much as the text.
type Grid struct {
	Head
	Corner  string
	Columns []string
	Rows    []GridRow
}

// GridRow is one row of a grid.
type GridRow struct {
	Label string
	Cells []Cell
}

// Cell is a cell of a grid.
type Cell struct {
	Text   string
	Colour Colour
	Shade  float64 // 0 is none, 1 is full
}

// week is a grid of the hours of the week.
func week(head Head, colour Colour, hours *[7][24]replay.Outcomes, count func(*replay.Outcomes) int) *Grid {
	g := &Grid{Head: head, Columns: []string{"Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"}}
	most := 0
	for d := range hours {
		for h := range hours[d] {
			most = max(most, count(&hours[d][h]))
		}
	}
	for h := range 24 {
		row := GridRow{Label: time.Date(2000, 1, 1, h, 0, 0, 0, time.UTC).Format("15:04")}
		for d := range hours {
			row.Cells = append(row.Cells, cell(count(&hours[d][h]), most, colour))
		}
		g.Rows = append(g.Rows, row)
	}
	return g
}

func cell(n, most int, colour Colour) Cell {
	if n == 0 {
		return Cell{Text: "·", Colour: colour}
	}
	return Cell{Text: number(n), Colour: colour, Shade: 0.15 + 0.85*float64(n)/float64(most)}
}

// fromTo is a grid from outcome to outcome.
func fromTo(head Head, table *replay.Table) *Grid {
	order := []signon.Outcome{signon.Grant, signon.Review, signon.StepUp, signon.Block}
	g := &Grid{Head: head, Corner: "from, and to"}
	most := 0
	for from := range table {
		for to, n := range table[from] {
			if from != to {
				most = max(most, n)
			}
		}
	}
	for _, from := range order {
		g.Columns = append(g.Columns, from.String())
		row := GridRow{Label: from.String()}
		for _, to := range order {
			n := table[from][to]
			c := cell(n, max(most, 1), colourOf(to))
			if from == to {
				c = Cell{Text: c.Text, Colour: Still, Shade: float64(min(n, 1)) * 0.5}
			}
			row.Cells = append(row.Cells, c)
		}
		g.Rows = append(g.Rows, row)
	}
	return g
}

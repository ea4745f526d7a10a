package report

// Charts as PNG and SVG.

import (
	"bytes"
	"fmt"
	"image/color"
	"io"
	"os"
	"path/filepath"
	"strings"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
	"gonum.org/v1/plot/vg/vgsvg"

	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/spell"
)

// The colours of charts on paper; those of a page in the light are the same.
var (
	paper = color.RGBA{255, 255, 255, 255}
	ink   = color.RGBA{0x17, 0x20, 0x2a, 255}
	pale  = color.RGBA{0x5b, 0x68, 0x75, 255}
	rule  = color.RGBA{0xd5, 0xdc, 0xe3, 255}
	tints = [...]color.RGBA{Grant: {0x8f, 0xbb, 0xe0, 255}, Review: {0x6b, 0x4c, 0x9a, 255}, StepUp: {0xe3, 0x9a, 0x2d, 255},
		Block: {0xa8, 0x28, 0x1c, 255}, Plain: {0x55, 0x78, 0x9b, 255}, Still: {0xb9, 0xc2, 0xcb, 255}}
)

// towards mixes a colour with another: 0 is the one, 1 the other.
func towards(a, b color.RGBA, share float64) color.RGBA {
	mix := func(x, y uint8) uint8 { return uint8(float64(x)*(1-share) + float64(y)*share) }
	return color.RGBA{mix(a.R, b.R), mix(a.G, b.G), mix(a.B, b.B), 255}
}

// Save draws charts into a folder, each as NAME.png and NAME.svg, and tells how many there are.
func Save(dir string, charts []Chart) (n int, err error) {
	if err := os.MkdirAll(dir, 0o777); err != nil {
		return 0, err
	}
	for _, c := range charts {
		for _, format := range []string{"png", "svg"} {
			if err := save(filepath.Join(dir, c.head().Name+"."+format), c, format); err != nil {
				return 0, err
			}
		}
	}
	return len(charts), nil
}

func save(name string, c Chart, format string) error {
	file, err := lines.Create(name)
	if err != nil {
		return err
	}
	defer file.Discard()
	if err := Draw(file, c, format); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	return file.Finish()
}

// Draw draws a chart as "png" or "svg".
func Draw(w io.Writer, c Chart, format string) (err error) {
	p, width, height := plotOf(c)
	const margin = 14
	width, height = width+2*margin, height+2*margin
	whole := func(c vg.CanvasSizer) draw.Canvas { return draw.Crop(draw.New(c), margin, -margin, margin, -margin) }
	if format == "svg" {
		canvas := vgsvg.New(width, height)
		sheet := draw.New(canvas)
		sheet.SetColor(paper)
		sheet.Fill(sheet.Rectangle.Path())
		p.Draw(whole(canvas))
		var b bytes.Buffer
		if _, err := canvas.WriteTo(&b); err != nil {
			return err
		}
		// Where the font is not installed, the nearest one serves.
		_, err := io.WriteString(w, strings.ReplaceAll(spell.PrintableLines(b.String()), "font-family:Liberation Sans;", "font-family:Liberation Sans,Helvetica,Arial,sans-serif;"))
		return err
	}
	canvas := vgimg.NewWith(vgimg.UseWH(width, height), vgimg.UseDPI(120), vgimg.UseBackgroundColor(paper))
	p.Draw(whole(canvas))
	_, err = vgimg.PngCanvas{Canvas: canvas}.WriteTo(w)
	return err
}

// plotOf is a chart on a canvas of its size.
func plotOf(c Chart) (p *plot.Plot, width, height vg.Length) {
	p = plot.New()
	sans := font.Font{Typeface: "Liberation", Variant: "Sans"}
	for _, f := range []*font.Font{&p.Title.TextStyle.Font, &p.X.Tick.Label.Font, &p.Y.Tick.Label.Font, &p.Legend.TextStyle.Font} {
		*f = font.From(sans, f.Size)
	}
	p.Title.Text = spell.Printable(c.head().Title)
	p.Title.TextStyle.Font.Size, p.Title.TextStyle.Color, p.Title.Padding = 14, ink, 10
	for _, a := range []*plot.Axis{&p.X, &p.Y} {
		a.LineStyle.Color, a.Tick.LineStyle.Color, a.Tick.Label.Color = rule, rule, pale
		a.Tick.Label.Font.Size, a.Padding = 10, 2
	}
	p.Legend.TextStyle.Font.Size, p.Legend.TextStyle.Color = 10, pale
	p.Legend.Top, p.Legend.ThumbnailWidth, p.Legend.Padding = true, 10, 2
	switch c := c.(type) {
	case *Bars:
		if len(c.Bars) > 0 {
			return p, 640, c.drawOn(p)
		}
	case *Grid:
		if len(c.Rows) == 0 || len(c.Columns) == 0 {
			break
		}
		return p, vg.Length(150 + max(60*len(c.Columns), 250)), c.drawOn(p)
	}
	p.HideAxes()
	p.Title.Text += ": nothing to show"
	return p, 640, 80
}

// drawOn draws bars, and tells how high they want to be.
func (b *Bars) drawOn(p *plot.Plot) vg.Length {
	width, height := vg.Length(13), vg.Length(90+20*len(b.Bars))
	if b.Time {
		width, height = min(24, 520/vg.Length(max(1, len(b.Bars)))*0.8), 360
	}
	var below *plotter.BarChart
	for _, s := range b.Used() {
		i := indexOf(b.Series, s)
		values := make(plotter.Values, len(b.Bars))
		for j := range b.Bars {
			values[b.position(j)] = float64(b.Bars[j].Parts[i])
		}
		stack, err := plotter.NewBarChart(values, width)
		if err != nil {
			continue // there is no bar
		}
		stack.Color, stack.LineStyle.Width, stack.Horizontal = tints[s.Colour], 0, !b.Time
		if below != nil {
			stack.StackOn(below)
		}
		below = stack
		p.Add(stack)
		p.Legend.Add(s.Name, stack)
	}
	names := make([]string, len(b.Bars))
	for j := range b.Bars {
		names[b.position(j)] = b.nameOf(j)
	}
	longest := float64(b.Longest())
	amounts := &p.Y
	if b.Time {
		p.NominalX(names...)
	} else {
		amounts = &p.X
		p.NominalY(names...)
		p.X.Max = longest * 1.6 // with room for the numbers beside the longest
		p.Add(b.numbers(p))
	}
	amounts.Min, amounts.Max = 0, max(amounts.Max, longest*1.15, 1)
	amounts.Tick.Marker = plot.TickerFunc(func(_, _ float64) (ticks []plot.Tick) {
		for _, n := range append([]int{0}, b.Steps()...) {
			ticks = append(ticks, plot.Tick{Value: float64(n), Label: Count(n)})
		}
		return ticks
	})
	return height
}

func indexOf(list []Series, s Series) int {
	for i := range list {
		if list[i] == s {
			return i
		}
	}
	return -1
}

// position is where the bar stands on its axis: the first one is on top.
func (b *Bars) position(i int) int {
	if b.Time {
		return i
	}
	return len(b.Bars) - 1 - i
}

func (b *Bars) nameOf(i int) string {
	if b.Time {
		return b.Tick(i)
	}
	name := []rune(spell.Printable(b.Bars[i].Label))
	if b.Bars[i].Within {
		name = append([]rune("– "), name...)
	}
	const most = 40
	if len(name) > most {
		name = append(name[:most-1], '…')
	}
	return string(name)
}

// brief are the numbers of a bar: the sum, and those parts that are not as it should be.
func (b *Bars) brief(bar Bar) string {
	text := number(bar.Sum())
	for i, n := range bar.Parts[:len(bar.Parts)-1] {
		if n > 0 && n < bar.Sum() {
			text += fmt.Sprintf(" · %s %s", Count(n), b.Series[i].Name)
		}
	}
	return text
}

// numbers stand at the end of each bar.
func (b *Bars) numbers(p *plot.Plot) *plotter.Labels {
	var at plotter.XYLabels
	for i := range b.Bars {
		at.XYs = append(at.XYs, plotter.XY{X: float64(b.Bars[i].Sum()), Y: float64(b.position(i))})
		at.Labels = append(at.Labels, "  "+b.brief(b.Bars[i]))
	}
	labels, _ := plotter.NewLabels(at) // there are as many labels as points
	for i := range labels.TextStyle {
		labels.TextStyle[i] = p.X.Tick.Label
		labels.TextStyle[i].Color, labels.TextStyle[i].XAlign, labels.TextStyle[i].YAlign = ink, draw.XLeft, draw.YCenter
	}
	return labels
}

// drawOn draws a grid, and tells how high it wants to be.
func (g *Grid) drawOn(p *plot.Plot) vg.Length {
	names := make([]string, len(g.Rows))
	for i, row := range g.Rows {
		names[len(g.Rows)-1-i] = spell.Printable(row.Label)
	}
	p.NominalX(g.Columns...)
	p.NominalY(names...)
	p.X.Min, p.X.Max, p.Y.Min, p.Y.Max = -0.5, float64(len(g.Columns))-0.5, -0.5, float64(len(g.Rows))-0.5
	p.X.LineStyle.Width, p.Y.LineStyle.Width = 0, 0
	p.Add(cells{g, p.X.Tick.Label})
	return vg.Length(80 + 22*len(g.Rows))
}

// cells draws the cells of a grid.
type cells struct {
	*Grid
	style draw.TextStyle
}

// Plot draws them.
func (g cells) Plot(c draw.Canvas, p *plot.Plot) {
	x, y := p.Transforms(&c)
	style := g.style
	style.XAlign, style.YAlign, style.Color = draw.XCenter, draw.YCenter, ink
	for i, row := range g.Rows {
		at := float64(len(g.Rows) - 1 - i)
		for j, cell := range row.Cells {
			left, right, foot, top := x(float64(j)-0.5)+1, x(float64(j)+0.5)-1, y(at-0.5)+1, y(at+0.5)-1
			full := towards(paper, tints[cell.Colour], 0.62)
			c.FillPolygon(towards(color.RGBA{0xf5, 0xf7, 0xf9, 255}, full, cell.Shade), []vg.Point{{X: left, Y: foot}, {X: right, Y: foot}, {X: right, Y: top}, {X: left, Y: top}})
			c.FillText(style, vg.Point{X: (left + right) / 2, Y: (foot + top) / 2}, cell.Text)
		}
	}
}

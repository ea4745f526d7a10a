package screen

// Colours, and text that is laid out.

import (
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/mattn/go-isatty"

	"briskwarden.example/briskwarden/signon"
)

// Width is the width that text is laid out for.
const Width = 100

// Painter colours words, on a terminal alone and never when NO_COLOR is set.
type Painter bool

// Plain paints nothing.
const Plain Painter = false

// NewPainter returns the painter for a stream.
func NewPainter(out io.Writer) Painter {
	return Painter(IsTerminal(out) && os.Getenv("NO_COLOR") == "")
}

// IsTerminal reports whether a stream is one.
func IsTerminal(stream any) bool {
	f, ok := stream.(*os.File)
	return ok && isatty.IsTerminal(f.Fd())
}

func (p Painter) with(v any, colors ...text.Color) Styled {
	s := Clean(v)
	if !p {
		return s
	}
	return Styled("\x1b[" + text.Colors(colors).EscapeSeq()[2:] + string(s) + "\x1b[0m")
}

// Bold makes text bold.
func (p Painter) Bold(v any) Styled { return p.with(v, text.Bold) }

// Faint makes text faint.
func (p Painter) Faint(v any) Styled { return p.with(v, text.Faint) }

// Red makes text red.
func (p Painter) Red(v any) Styled { return p.with(v, text.Bold, text.FgHiRed) }

// Amber makes text amber.
func (p Painter) Amber(v any) Styled { return p.with(v, text.Bold, text.FgHiYellow) }

// Green makes text green.
func (p Painter) Green(v any) Styled { return p.with(v, text.Bold, text.FgHiGreen) }

// Blue makes text blue.
func (p Painter) Blue(v any) Styled { return p.with(v, text.Bold, text.FgHiCyan) }

// Outcome colours an outcome; the word itself says it too.
func (p Painter) Outcome(o signon.Outcome, v any) Styled {
	switch o {
	case signon.Grant:
		return p.Green(v)
	case signon.Review:
		return p.Blue(v)
	case signon.StepUp:
		return p.Amber(v)
	}
	return p.Red(v)
}

// Score colours a score by its band, counted from the lowest: the highest of several most.
func (p Painter) Score(s Styled, band, bands int) Styled {
	switch {
	case band == bands-1:
		return p.Red(s)
	case band > 0:
		return p.Amber(s)
	}
	return s
}

// Pad fills a text with spaces to a width in cells.
func Pad(v any, width int) Styled {
	s := Clean(v)
	return s + Styled(strings.Repeat(" ", max(0, width-Cells(string(s)))))
}

// Cut shortens a text to a width in cells.
func Cut(v any, width int) Styled {
	s := Clean(v)
	if Cells(string(s)) > width {
		return Styled(text.Trim(string(s), width-1)) + "…"
	}
	return s
}

// Ago tells how long something has been, in the largest unit that fits.
func Ago(d time.Duration) string {
	switch {
	case d >= 48*time.Hour:
		return fmt.Sprintf("%dd", d/(24*time.Hour))
	case d >= time.Hour:
		return fmt.Sprintf("%dh", d/time.Hour)
	}
	return fmt.Sprintf("%dm", max(0, d/time.Minute))
}

// Wrapped breaks a text at spaces to fit beside an indent, and indents all lines but the first.
func Wrapped(v any, indent int) Styled { return WrappedTo(v, indent, indent, Width) }

// WrappedFrom is Wrapped for a text that begins in another column than its later lines.
func WrappedFrom(v any, column, indent int) Styled { return WrappedTo(v, column, indent, Width) }

// WrappedTo is WrappedFrom to another width.
func WrappedTo(v any, column, indent, width int) Styled {
	var b strings.Builder
	for i, word := range strings.Fields(string(Clean(v))) {
		n := Cells(word)
		switch {
		case i > 0 && column+1+n > width:
			b.WriteString("\n" + strings.Repeat(" ", indent))
			column = indent
		case i > 0:
			b.WriteByte(' ')
			column++
		}
		b.WriteString(word)
		column += n
	}
	return Styled(b.String())
}

// mostLabel is how wide a column of labels is at most, in cells.
const mostLabel = 30

// Labelled lays out texts beside their labels in a column, line by line; a label that is wider than the column stands above its text.
func Labelled(lines [][2]string, width int) Styled {
	column := 0
	for _, l := range lines {
		column = max(column, min(mostLabel, Cells(string(Clean(l[0])))))
	}
	var b strings.Builder
	for _, l := range lines {
		label := Clean(l[0])
		if Cells(string(label)) > column {
			b.WriteString("  " + string(label) + "\n")
			label = ""
		}
		b.WriteString("  " + string(Pad(label, column)) + "  " + string(WrappedTo(l[1], column+4, column+4, width)) + "\n")
	}
	return Styled(b.String())
}

// Cells is how many columns of a terminal a text takes.
func Cells(s string) int { return text.StringWidthWithoutEscSequences(s) }

package cli

import (
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/mattn/go-isatty"

	"briskwarden.example/briskwarden/internal/condition"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/signon"
)

// lineWidth is the width that text is laid out for.
const lineWidth = 100

// painter colours words, on a terminal alone and never when NO_COLOR is set.
type painter bool

const plain painter = false

func newPainter(out io.Writer) painter {
	f, ok := out.(*os.File)
	return painter(ok && isatty.IsTerminal(f.Fd()) && os.Getenv("NO_COLOR") == "")
}

func (p painter) with(s string, colors ...text.Color) string {
	if !p {
		return s
	}
	return "\x1b[" + text.Colors(colors).EscapeSeq()[2:] + s + "\x1b[0m"
}

func (p painter) bold(s string) string  { return p.with(s, text.Bold) }
func (p painter) faint(s string) string { return p.with(s, text.Faint) }
func (p painter) red(s string) string   { return p.with(s, text.Bold, text.FgHiRed) }
func (p painter) amber(s string) string { return p.with(s, text.Bold, text.FgHiYellow) }
func (p painter) green(s string) string { return p.with(s, text.Bold, text.FgHiGreen) }
func (p painter) blue(s string) string  { return p.with(s, text.Bold, text.FgHiCyan) }

// outcome colours an outcome; the word itself says it too.
func (p painter) outcome(o signon.Outcome, s string) string {
	switch o {
	case signon.Grant:
		return p.green(s)
	case signon.Review:
		return p.blue(s)
	case signon.StepUp:
		return p.amber(s)
	}
	return p.red(s)
}

// score colours a score by its band: the highest one most.
func (p painter) score(s string, bands []condition.Band, score int) string {
	switch i := slices.IndexFunc(bands, func(b condition.Band) bool { return score <= b.High }); {
	case i == len(bands)-1:
		return p.red(s)
	case i > 0:
		return p.amber(s)
	}
	return s
}

// pad fills s with spaces to a width in characters.
func pad(s string, width int) string {
	return s + strings.Repeat(" ", max(0, width-utf8.RuneCountInString(s)))
}

// ago tells how long something has been, in the largest unit that fits.
func ago(d time.Duration) string {
	switch {
	case d >= 48*time.Hour:
		return fmt.Sprintf("%dd", d/(24*time.Hour))
	case d >= time.Hour:
		return fmt.Sprintf("%dh", d/time.Hour)
	}
	return fmt.Sprintf("%dm", max(0, d/time.Minute))
}

// wrapped breaks a text at spaces to fit beside an indent, and indents all lines but the first.
func wrapped(s string, indent int) string { return wrappedFrom(s, indent, indent) }

// wrappedFrom is wrapped for a text that begins in another column than its later lines.
func wrappedFrom(s string, column, indent int) string {
	var b strings.Builder
	for i, word := range strings.Fields(spell.Printable(s)) {
		n := utf8.RuneCountInString(word)
		switch {
		case i > 0 && column+1+n > lineWidth:
			b.WriteString("\n" + strings.Repeat(" ", indent))
			column = indent
		case i > 0:
			b.WriteByte(' ')
			column++
		}
		b.WriteString(word)
		column += n
	}
	return b.String()
}

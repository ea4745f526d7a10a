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
	"briskwarden.example/briskwarden/signon"
)

// lineWidth is the width that text is laid out for.
const lineWidth = 100

// painter colours words, on a terminal alone and never when NO_COLOR is set.
type painter bool

const plain painter = false

func newPainter(out io.Writer) painter {
	return painter(isTerminal(out) && os.Getenv("NO_COLOR") == "")
}

// isTerminal reports whether a stream is one.
func isTerminal(stream any) bool {
	f, ok := stream.(*os.File)
	return ok && isatty.IsTerminal(f.Fd())
}

func (p painter) with(v any, colors ...text.Color) styled {
	s := clean(v)
	if !p {
		return s
	}
	return styled("\x1b[" + text.Colors(colors).EscapeSeq()[2:] + string(s) + "\x1b[0m")
}

func (p painter) bold(v any) styled  { return p.with(v, text.Bold) }
func (p painter) faint(v any) styled { return p.with(v, text.Faint) }
func (p painter) red(v any) styled   { return p.with(v, text.Bold, text.FgHiRed) }
func (p painter) amber(v any) styled { return p.with(v, text.Bold, text.FgHiYellow) }
func (p painter) green(v any) styled { return p.with(v, text.Bold, text.FgHiGreen) }
func (p painter) blue(v any) styled  { return p.with(v, text.Bold, text.FgHiCyan) }

// outcome colours an outcome; the word itself says it too.
func (p painter) outcome(o signon.Outcome, v any) styled {
	switch o {
	case signon.Grant:
		return p.green(v)
	case signon.Review:
		return p.blue(v)
	case signon.StepUp:
		return p.amber(v)
	}
	return p.red(v)
}

// score colours a score by its band: the highest one most.
func (p painter) score(s styled, bands []condition.Band, score int) styled {
	switch i := slices.IndexFunc(bands, func(b condition.Band) bool { return score <= b.High }); {
	case i == len(bands)-1:
		return p.red(s)
	case i > 0:
		return p.amber(s)
	}
	return s
}

// pad fills a text with spaces to a width in characters.
func pad(v any, width int) styled {
	s := clean(v)
	return s + styled(strings.Repeat(" ", max(0, width-utf8.RuneCountInString(string(s)))))
}

// cut shortens a text to a width in characters.
func cut(v any, width int) styled {
	s := clean(v)
	if runes := []rune(string(s)); len(runes) > width {
		return styled(runes[:width-1]) + "…"
	}
	return s
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
func wrapped(v any, indent int) styled { return wrappedFrom(v, indent, indent) }

// wrappedFrom is wrapped for a text that begins in another column than its later lines.
func wrappedFrom(v any, column, indent int) styled {
	var b strings.Builder
	for i, word := range strings.Fields(string(clean(v))) {
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
	return styled(b.String())
}

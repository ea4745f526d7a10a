package cli

// How problems are printed, each with its line.

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/screen"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language/token"
)

// syntaxProblems are the errors of a text that does not parse.
func syntaxProblems(err error, place, source string) (list []briskwarden.Problem) {
	var errs token.ErrorList
	if !errors.As(err, &errs) {
		return []briskwarden.Problem{{Code: "syntax", Severity: briskwarden.Error, File: place, Message: err.Error()}}
	}
	lines := slices.Collect(strings.Lines(strings.TrimPrefix(source, "\ufeff")))
	for _, e := range errs {
		p := briskwarden.Problem{Code: "syntax", Severity: briskwarden.Error, File: place, Line: int(e.Pos.Line), Column: int(e.Pos.Column),
			Message: e.Msg, Help: e.Help, Span: max(1, e.Span)}
		if p.Line >= 1 && p.Line <= len(lines) {
			p.Text = strings.TrimRight(lines[p.Line-1], "\r\n")
		}
		list = append(list, p)
	}
	return list
}

// mostListed is how many findings are shown before the rest is counted.
const mostListed = 50

// listing prints problems, each with the line that it is about.
type listing struct {
	out   *screen.Screen
	dir   string // the rulebook's folder, for the lines of its data files
	paint screen.Painter
}

func (l *listing) print(list []briskwarden.Problem) {
	for i, p := range list {
		if i == mostListed {
			errors := 0
			for _, p := range list[i:] {
				if p.Severity == briskwarden.Error {
					errors++
				}
			}
			l.out.Printf("… and %s and %s more.\n\n", spell.Plural(errors, "error"), spell.Plural(len(list)-i-errors, "warning"))
			return
		}
		l.problem(p)
	}
}

func (l *listing) problem(p briskwarden.Problem) {
	word := l.paint.Red("error")
	if p.Severity == briskwarden.Warning {
		word = l.paint.Amber("warning")
	}
	at, _, _ := strings.Cut(p.String(), ": "+p.Message)
	where, message := screen.Clean(at), p.Message
	if p.Severity == briskwarden.Warning {
		message += " [" + p.Code + "]"
	}
	text := screen.Clean(message)
	if l.paint { // elsewhere a finding is one line, for what reads it
		text = screen.WrappedFrom(message, screen.Cells(string(where))+len(p.Severity)+4, 9)
	}
	if code := strings.LastIndexByte(string(text), '['); p.Severity == briskwarden.Warning {
		text = text[:code] + l.paint.Faint(text[code:])
	}
	l.out.Printf("%s: %s: %s\n", l.paint.Bold(where), word, text)
	if p.Text != "" || filepath.Ext(p.File) == ".warden" && p.Line > 0 {
		l.excerpt(p.Text, p.Line, p.Column, p.Span)
	} else if line, ok := l.lineOfData(p); ok {
		l.excerpt(line, p.Line, 1, 0)
	}
	if p.Help != "" {
		l.out.Printf("       %s %s\n", l.paint.Faint("→"), screen.Wrapped(p.Help, 9))
	}
	l.out.Println()
}

// lineOfData reads a line of a file that the rulebook points to.
func (l *listing) lineOfData(p briskwarden.Problem) (text string, ok bool) {
	if l.dir == "" {
		return "", false
	}
	root, err := os.OpenRoot(l.dir)
	if err != nil || p.Line < 1 {
		return "", false
	}
	defer root.Close()
	f, err := root.Open(filepath.FromSlash(p.File))
	if err != nil {
		return "", false
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return "", false
	}
	in, err := lines.Unpacked(p.File, f, info.Size())
	if err != nil {
		return "", false
	}
	_ = lines.Each(in, func(n int, line []byte) error {
		if n < p.Line {
			return nil
		}
		text, ok = string(line[:min(len(line), 1<<12)]), true
		return errFound
	})
	return text, ok
}

var errFound = errors.New("found")

// excerpt shows the line with a caret under what is meant, if span says how long that is; of
// a long line, the part around it.
func (l *listing) excerpt(line string, number, column, span int) {
	const most = 92
	line = strings.Map(oneCell, line[:min(len(line), 1<<16)])
	runes := []rune(line)
	from := 0
	if column > most-20 {
		from = column - most/2
	}
	to := min(len(runes), from+most)
	if from > to {
		return
	}
	caret := column - 1 - from
	width := max(1, min(span, to-from-caret))
	l.out.Printf("%s %s\n", l.paint.Faint(fmt.Sprintf("%5d │", number)), string(runes[from:to]))
	if span == 0 {
		return
	}
	cells := func(from, to int) int { return screen.Cells(string(runes[from:max(from, min(to, len(runes)))])) }
	l.out.Printf("%s %s%s\n", l.paint.Faint("      │"), strings.Repeat(" ", cells(from, from+caret)),
		l.paint.Amber(strings.Repeat("^", max(1, cells(from+caret, from+caret+width)))))
}

// oneCell keeps what takes one cell of a terminal, and stands in for what could steer it.
func oneCell(r rune) rune {
	switch {
	case r == '\t':
		return ' '
	case spell.Unseen(r) || r == utf8.RuneError:
		return '·'
	}
	return r
}

package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"

	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language/token"
)

// mostListed is how many findings are shown before the rest is counted.
const mostListed = 50

// listing prints findings, each with the line that it is about.
type listing struct {
	out    *screen
	rb     *rulebook.Rulebook // nil where the text is given
	dir    string             // the rulebook's folder, for the lines of its other files
	source string
	paint  painter
	cut    map[string][]string // the lines of the files that were asked for
}

func (l *listing) print(list diag.List) {
	for i, d := range list {
		if i == mostListed {
			rest := list[i:]
			l.out.printf("… and %s and %s more.\n\n", spell.Plural(rest.Count(diag.Error), "error"), spell.Plural(rest.Count(diag.Warning), "warning"))
			return
		}
		l.finding(d)
	}
}

func (l *listing) finding(d diag.Diagnostic) {
	word := l.paint.red("error")
	if d.Severity == diag.Warning {
		word = l.paint.amber("warning")
	}
	at, message := clean(d.Pos.String()), d.Message
	if d.Severity == diag.Warning {
		message += " [" + string(d.Code) + "]"
	}
	text := clean(message)
	if l.paint { // elsewhere a finding is one line, for what reads it
		text = wrappedFrom(message, utf8.RuneCountInString(string(at))+len(d.Severity.String())+4, 9)
	}
	if code := strings.LastIndexByte(string(text), '['); d.Severity == diag.Warning {
		text = text[:code] + l.paint.faint(text[code:])
	}
	l.out.printf("%s: %s: %s\n", l.paint.bold(at), word, text)
	if line, ok := l.line(d.Pos); ok {
		l.excerpt(line, int(d.Pos.Line), int(d.Pos.Column), d.Span)
	} else if line, ok := l.lineOfData(d.Pos); ok {
		l.excerpt(line, int(d.Pos.Line), 1, 0)
	}
	if d.Help != "" {
		l.out.printf("       %s %s\n", l.paint.faint("→"), wrapped(d.Help, 9))
	}
	l.out.println()
}

// line is the source line at a position.
func (l *listing) line(pos token.Pos) (string, bool) {
	list, cut := l.cut[pos.File]
	if !cut {
		list = l.linesOf(pos.File)
		if l.cut == nil {
			l.cut = map[string][]string{}
		}
		l.cut[pos.File] = list
	}
	if pos.Line < 1 || int(pos.Line) > len(list) {
		return "", false
	}
	return strings.TrimRight(list[pos.Line-1], "\r\n"), true
}

func (l *listing) linesOf(file string) []string {
	source := l.source
	if l.rb != nil {
		i := slices.IndexFunc(l.rb.Files, func(f *rulebook.File) bool { return f.Name == file })
		if i < 0 {
			return nil
		}
		source = string(l.rb.Files[i].Source)
	}
	return slices.Collect(strings.Lines(strings.TrimPrefix(source, "\ufeff")))
}

// lineOfData reads a line of a file that the rulebook points to.
func (l *listing) lineOfData(pos token.Pos) (text string, ok bool) {
	if l.dir == "" {
		return "", false
	}
	root, err := os.OpenRoot(l.dir)
	if err != nil || !pos.IsValid() {
		return "", false
	}
	defer root.Close()
	f, err := root.Open(filepath.FromSlash(pos.File))
	if err != nil {
		return "", false
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return "", false
	}
	in, err := lines.Unpacked(pos.File, f, info.Size())
	if err != nil {
		return "", false
	}
	_ = lines.Each(in, func(n int, line []byte) error {
		if n < int(pos.Line) {
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
	l.out.printf("%s %s\n", l.paint.faint(fmt.Sprintf("%5d │", number)), string(runes[from:to]))
	if span == 0 {
		return
	}
	l.out.printf("%s %s%s\n", l.paint.faint("      │"), strings.Repeat(" ", caret), l.paint.amber(strings.Repeat("^", width)))
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

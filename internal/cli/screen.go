package cli

// The one way to a terminal: whatever anybody named comes out in characters that can be seen,
// on the line where it was put.

import (
	"bufio"
	"encoding/csv"
	"fmt"
	"io"
	"reflect"
	"strings"

	"briskwarden.example/briskwarden/internal/spell"
)

// screen takes text for people. It is no io.Writer, so that nothing gets past [screen.printf].
type screen struct{ to *bufio.Writer }

func newScreen(to io.Writer) *screen { return &screen{bufio.NewWriter(to)} }

// styled is text that was made fit for a terminal already: painted, padded or wrapped.
type styled string

// printf writes by a format of ours; of the arguments, only styled ones are taken as they are.
func (s *screen) printf(format string, args ...any) { fmt.Fprintf(s.to, format, harmless(args)...) }

// print writes the arguments one after the other.
func (s *screen) print(args ...any) {
	for _, a := range args {
		_, _ = s.to.WriteString(string(clean(a)))
	}
}

// println is print, and ends the line.
func (s *screen) println(args ...any) {
	s.print(args...)
	_ = s.to.WriteByte('\n')
}

// source writes lines of a file; its tabs stay.
func (s *screen) source(text []byte) {
	_, _ = s.to.WriteString(spell.PrintableLines(string(text)))
}

// table writes comma-separated rows (RFC 4180). A cell that a spreadsheet would take for a
// formula begins with an apostrophe.
func (s *screen) table(rows [][]string) error {
	w := csv.NewWriter(s.to)
	for _, row := range rows {
		cells := make([]string, len(row))
		for i, cell := range row {
			if cells[i] = spell.Printable(cell); strings.ContainsAny(cells[i][:min(1, len(cells[i]))], "=+-@") || strings.HasPrefix(cells[i], "＝") ||
				strings.HasPrefix(cells[i], "＋") || strings.HasPrefix(cells[i], "－") || strings.HasPrefix(cells[i], "＠") {
				cells[i] = "'" + cells[i]
			}
		}
		if err := w.Write(cells); err != nil {
			return err
		}
	}
	w.Flush()
	return w.Error()
}

// machine is where JSON, CSV and files in formats of their own go, as they are.
func (s *screen) machine() *bufio.Writer { return s.to }

// styledf formats text of ours, as [screen.printf] does.
func styledf(format string, args ...any) styled {
	return styled(fmt.Sprintf(format, harmless(args)...))
}

// clean is a text that cannot do anything but be read.
func clean(v any) styled {
	switch v := v.(type) {
	case styled:
		return v
	case string:
		return styled(spell.Printable(v))
	}
	return styled(spell.Printable(fmt.Sprint(v)))
}

func harmless(args []any) []any {
	list := make([]any, len(args))
	for i, a := range args {
		switch v := a.(type) {
		case styled:
			list[i] = string(v)
		case error:
			list[i] = named(v.Error())
		case fmt.Stringer:
			list[i] = named(v.String())
		default:
			if list[i] = v; v != nil && reflect.TypeOf(v).Kind() == reflect.String {
				list[i] = named(reflect.ValueOf(v).String())
			}
		}
	}
	return list
}

// named is what somebody named.
type named string

// Format writes it fit for a terminal; quoted, it already is.
func (n named) Format(f fmt.State, verb rune) {
	text := string(n)
	if verb != 'q' {
		text = spell.Printable(text)
	}
	fmt.Fprintf(f, fmt.FormatString(f, verb), text)
}

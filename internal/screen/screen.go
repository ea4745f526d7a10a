// Package screen is the one way to a terminal: whatever anybody named comes out in characters that
// can be seen, on the line where it was put. Its widths are in the cells of a terminal.
package screen

import (
	"bufio"
	"encoding/csv"
	"fmt"
	"io"
	"reflect"
	"strings"

	"briskwarden.example/briskwarden/internal/spell"
)

// Screen takes text for people. It is no io.Writer, so that nothing gets past [Screen.Printf].
type Screen struct{ to *bufio.Writer }

// New returns a screen that writes to a stream when it is flushed.
func New(to io.Writer) *Screen { return &Screen{bufio.NewWriter(to)} }

// Styled is text that was made fit for a terminal already: painted, padded or wrapped.
type Styled string

// Printf writes by a format of ours; of the arguments, only styled ones are taken as they are.
func (s *Screen) Printf(format string, args ...any) { fmt.Fprintf(s.to, format, harmless(args)...) }

// Print writes the arguments one after the other.
func (s *Screen) Print(args ...any) {
	for _, a := range args {
		_, _ = s.to.WriteString(string(Clean(a)))
	}
}

// Println is Print, and ends the line.
func (s *Screen) Println(args ...any) {
	s.Print(args...)
	_ = s.to.WriteByte('\n')
}

// Source writes lines of a file; its tabs stay.
func (s *Screen) Source(text []byte) {
	_, _ = s.to.WriteString(spell.PrintableLines(string(text)))
}

// Table writes comma-separated rows (RFC 4180). A cell that a spreadsheet would take for a
// formula begins with an apostrophe.
func (s *Screen) Table(rows [][]string) error {
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

// Machine is where JSON, CSV and files in formats of their own go, as they are.
func (s *Screen) Machine() *bufio.Writer { return s.to }

// Flush writes out what was written so far.
func (s *Screen) Flush() error { return s.to.Flush() }

// Styledf formats text of ours, as [Screen.Printf] does.
func Styledf(format string, args ...any) Styled {
	return Styled(fmt.Sprintf(format, harmless(args)...))
}

// Clean is a text that cannot do anything but be read.
func Clean(v any) Styled {
	switch v := v.(type) {
	case Styled:
		return v
	case string:
		return Styled(spell.Printable(v))
	}
	return Styled(spell.Printable(fmt.Sprint(v)))
}

func harmless(args []any) []any {
	list := make([]any, len(args))
	for i, a := range args {
		switch v := a.(type) {
		case Styled:
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

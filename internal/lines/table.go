package lines

// Comma-separated files (RFC 4180).

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"briskwarden.example/briskwarden/internal/spell"
)

// Table is the header of a comma-separated file (RFC 4180), and the row at hand.
type Table struct {
	Columns []string
	Line    int // at which the row begins
	cells   []string
}

// Cell is the cell of the row at hand in a column, as it stands there.
func (t *Table) Cell(column int) string { return t.cells[column] }

// Name is a cell that holds a name or a word of ours, which has no blanks at its ends.
func (t *Table) Name(column int) (string, error) {
	if cell := t.cells[column]; Padded(cell) {
		return "", fmt.Errorf("%s: %q has blanks at its ends: take them away", t.Columns[column], cell)
	}
	return t.cells[column], nil
}

// Header says what the header of a table may hold.
type Header struct {
	Needs string            // the column that every row needs
	Known []string          // all columns that mean something
	Free  func(string) bool // whether another column means something too; one that does not may not be like a known one
}

// EachRow reads the header, and then calls row for every row. An error, of row or of reading,
// is an [*Error].
func EachRow(in io.Reader, header Header, row func(*Table) error) error {
	begin := bufio.NewReader(in)
	mark, _ := begin.Peek(len(byteOrderMark))
	rest, err := Unmarked(mark)
	if err != nil {
		return At(1, err)
	}
	_, _ = begin.Discard(len(mark) - len(rest))
	limit := &limited{in: begin}
	r := csv.NewReader(limit)
	r.ReuseRecord = true
	var t Table
	for {
		cells, err := r.Read()
		limit.start = r.InputOffset()
		switch {
		case errors.Is(err, io.EOF) && t.Columns == nil:
			return At(1, fmt.Errorf("the header is missing: it names the columns, among them %s", header.Needs))
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return csvError(err, t.Line+1)
		}
		t.Line, _ = r.FieldPos(0)
		t.cells = cells
		switch {
		case slices.ContainsFunc(cells, func(cell string) bool { return !utf8.ValidString(cell) }):
			err = ErrNotUTF8
		case t.Columns == nil:
			err = t.header(header)
		default:
			err = row(&t)
		}
		if err != nil {
			return At(t.Line, err)
		}
	}
}

func (t *Table) header(h Header) error {
	seen := map[string]bool{}
	for i, name := range t.cells {
		switch {
		case name == "":
			return fmt.Errorf("column %d has no name", i+1)
		case seen[name]:
			return fmt.Errorf("the column %q stands twice", name)
		case !slices.Contains(h.Known, name) && !h.Free(name):
			if like := spell.Like(name, h.Known); like != "" {
				return fmt.Errorf("there is no column %q: did you mean %q?", name, like)
			}
		}
		seen[name] = true
		t.Columns = append(t.Columns, name)
	}
	if !seen[h.Needs] {
		return fmt.Errorf("the header has no column %q: found %s", h.Needs, strings.Join(t.Columns[:min(len(t.Columns), 20)], ", "))
	}
	return nil
}

// csvError says what is wrong in our words, at the line where it is.
func csvError(err error, line int) error {
	var parse *csv.ParseError
	if !errors.As(err, &parse) {
		return At(line, fmt.Errorf("cannot be read on: %w", err))
	}
	switch {
	case errors.Is(err, csv.ErrFieldCount):
		return At(parse.Line, errors.New("the row has not as many cells as the header"))
	case errors.Is(err, csv.ErrBareQuote):
		return At(parse.Line, errors.New(`a " stands inside a cell: quote the whole cell, and double it`))
	case errors.Is(err, csv.ErrQuote):
		return At(parse.Line, errors.New(`a quoted cell does not end as it should: look for a single "`))
	}
	return At(parse.Line, parse.Err)
}

// limited fails when a row is too long, such as one with a quote that never ends.
type limited struct {
	in          io.Reader
	start, read int64
}

// Read reads on while the row is not too long.
func (l *limited) Read(p []byte) (int, error) {
	if l.read-l.start > Longest {
		return 0, errTooLong
	}
	n, err := l.in.Read(p)
	l.read += int64(n)
	return n, err
}

package lines

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"
)

// Table is the header of a comma-separated file (RFC 4180), and the row at hand.
type Table struct {
	Columns []string
	Line    int // at which the row begins
	cells   []string
}

// Cell is the cell of the row at hand in a column, without the space around it.
func (t *Table) Cell(column int) string { return strings.TrimSpace(t.cells[column]) }

// EachRow reads the header, which holds the column that each row needs, and then calls row
// for every row. An error, of row or of reading, is an [*Error].
func EachRow(in io.Reader, needs string, row func(*Table) error) error {
	limit := &limited{in: in}
	r := csv.NewReader(limit)
	r.ReuseRecord = true
	var t Table
	for {
		cells, err := r.Read()
		limit.start = r.InputOffset()
		switch {
		case errors.Is(err, io.EOF) && t.Columns == nil:
			return At(1, fmt.Errorf("the header is missing: it names the columns, among them %s", needs))
		case errors.Is(err, io.EOF):
			return nil
		case err != nil:
			return csvError(err, t.Line+1)
		}
		t.Line, _ = r.FieldPos(0)
		t.cells = cells
		switch {
		case t.Columns == nil:
			err = t.header(needs)
		case !utf8.ValidString(strings.Join(cells, "")):
			err = ErrNotUTF8
		default:
			err = row(&t)
		}
		if err != nil {
			return At(t.Line, err)
		}
	}
}

func (t *Table) header(needs string) error {
	first, err := Unmarked([]byte(t.cells[0]))
	if err != nil {
		return err
	}
	t.cells[0] = string(first)
	for i := range t.cells {
		name := t.Cell(i)
		switch {
		case !utf8.ValidString(name):
			return ErrNotUTF8
		case name == "":
			return fmt.Errorf("column %d has no name", i+1)
		case slices.Contains(t.Columns, name):
			return fmt.Errorf("the column %q stands twice", name)
		}
		t.Columns = append(t.Columns, name)
	}
	if !slices.Contains(t.Columns, needs) {
		return fmt.Errorf("the header has no column %q: found %s", needs, strings.Join(t.Columns, ", "))
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

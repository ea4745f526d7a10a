package directory

// People as comma-separated values.

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/lines"
)

// ReadCSV reads users from a comma-separated file (RFC 4180) with the header
// id,type,groups,methods,joined,risk,active, of which only id must be there. Further columns
// are attributes; lists are separated by ";"; an empty cell is not stated. Attributes are kept
// as they are; all else has no blanks at its ends. A column that is no declared attribute may
// not be like one of the known.
func ReadCSV(in io.Reader, declared func(attribute string) bool, sink Sink) error {
	var u User
	return lines.EachRow(in, lines.Header{Needs: "id", Known: columns, Free: declared}, func(t *lines.Table) error {
		u = User{Groups: u.Groups[:0], Methods: u.Methods[:0], Attributes: u.Attributes[:0]}
		for i, column := range t.Columns {
			cell := t.Cell(i)
			if cell == "" {
				continue
			}
			if slices.Contains(columns, column) {
				if _, err := t.Name(i); err != nil {
					return err
				}
			}
			if err := u.cell(column, cell); err != nil {
				return fmt.Errorf("%s: %w", column, err)
			}
		}
		if u.ID == "" {
			return errors.New("the user has no id")
		}
		return sink.User(t.Line, &u)
	})
}

var columns = []string{"id", "type", "groups", "methods", "joined", "risk", "active"}

// cell reads one cell of the user's row.
func (u *User) cell(column, cell string) (err error) {
	switch column {
	case "id":
		u.ID = cell
	case "type":
		u.Type, err = TypeOf(cell)
	case "groups":
		for name := range strings.SplitSeq(cell, ";") {
			if name != "" {
				u.Groups = append(u.Groups, Reference{Name: name})
			}
		}
	case "methods":
		for name := range strings.SplitSeq(cell, ";") {
			if name != "" {
				u.Methods = append(u.Methods, name)
			}
		}
	case "joined":
		u.JoinedText = cell
	case "risk":
		u.Risk = cell
	case "active":
		active, isTruth := known.Parse(cell)
		if !isTruth {
			return fmt.Errorf("%q is none of yes, no, true and false", cell)
		}
		u.Active = active
	default:
		u.Attributes = append(u.Attributes, Attribute{column, cell})
	}
	return err
}

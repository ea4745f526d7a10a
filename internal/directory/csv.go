package directory

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
// are attributes; lists are separated by ";"; an empty cell is not stated.
func ReadCSV(in io.Reader, sink Sink) error {
	var u User
	return lines.EachRow(in, "id", func(t *lines.Table) error {
		u = User{Groups: u.Groups[:0], Methods: u.Methods[:0], Attributes: u.Attributes[:0]}
		for i, column := range t.Columns {
			cell := t.Cell(i)
			if cell == "" {
				continue
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

// cell reads one cell of the user's row.
func (u *User) cell(column, cell string) (err error) {
	switch column {
	case "id":
		u.ID = cell
	case "type":
		u.Type, err = typeOf(cell)
	case "groups":
		for _, name := range list(cell) {
			u.Groups = append(u.Groups, Reference{Name: name})
		}
	case "methods":
		u.Methods = append(u.Methods, list(cell)...)
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

// list splits a cell at its semicolons.
func list(cell string) []string {
	items := strings.Split(cell, ";")
	for i := range items {
		items[i] = strings.TrimSpace(items[i])
	}
	return slices.DeleteFunc(items, func(s string) bool { return s == "" })
}

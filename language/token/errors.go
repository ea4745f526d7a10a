package token

// Lists of errors with their places.

import (
	"cmp"
	"fmt"
	"slices"
)

// Error is one thing wrong with a source text.
type Error struct {
	Pos  Pos
	Span int    // how many characters it covers, at least 1
	Msg  string // what was expected and what was found
	Help string // what to do about it; may be empty
}

// Error gives "file:line:column: message".
func (e *Error) Error() string { return e.Pos.String() + ": " + e.Msg }

// ErrorList is all that is wrong with one or more source texts.
// The zero value is an empty list ready to use.
type ErrorList []*Error

// Add appends an error that covers span characters from pos on.
func (l *ErrorList) Add(pos Pos, span int, help, format string, args ...any) {
	*l = append(*l, &Error{Pos: pos, Span: max(1, span), Msg: fmt.Sprintf(format, args...), Help: help})
}

// Sort orders the list by place.
func (l ErrorList) Sort() {
	slices.SortStableFunc(l, func(a, b *Error) int {
		return cmp.Or(cmp.Compare(a.Pos.File, b.Pos.File), cmp.Compare(a.Pos.Line, b.Pos.Line),
			cmp.Compare(a.Pos.Column, b.Pos.Column))
	})
}

// Error gives the first error and how many more there are.
func (l ErrorList) Error() string {
	switch len(l) {
	case 0:
		return "no errors"
	case 1:
		return l[0].Error()
	}
	return fmt.Sprintf("%s (and %d more)", l[0], len(l)-1)
}

// Err returns the list as an error, or nil when it is empty.
func (l ErrorList) Err() error {
	if len(l) == 0 {
		return nil
	}
	return l
}

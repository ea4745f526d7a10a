// Package token defines the words and marks of the rulebook language, the places
// where they stand, and the errors that name such a place.
package token

import (
	"fmt"
	"slices"

	"briskwarden.example/briskwarden/internal/spell"
)

// Pos is a place in a source file. Lines and columns count from 1; a column is
// counted in characters (Unicode code points), a tab being one. The zero Pos is no place.
type Pos struct {
	File   string
	Line   int32
	Column int32
}

// IsValid reports whether the position names a place in a file.
func (p Pos) IsValid() bool { return p.Line > 0 }

// InFile gives "file:line".
func (p Pos) InFile() string { return fmt.Sprintf("%s:%d", p.File, p.Line) }

// String gives "file:line:column", the file alone where there is no line, or "-".
func (p Pos) String() string {
	switch {
	case p.Line > 0 && p.File != "":
		return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)
	case p.Line > 0:
		return fmt.Sprintf("%d:%d", p.Line, p.Column)
	case p.File != "":
		return p.File
	}
	return "-"
}

// Before reports whether p stands before q in the same file, or in a file earlier in name order.
func (p Pos) Before(q Pos) bool {
	if p.File != q.File {
		return p.File < q.File
	}
	if p.Line != q.Line {
		return p.Line < q.Line
	}
	return p.Column < q.Column
}

// Kind is the kind of a token.
type Kind uint8

// The kinds of tokens.
const (
	EOF Kind = iota
	Illegal
	Word    // deck-crew, 192.0.2.0/25, 12h
	String  // "…"
	Comment // # to the end of the line
	LBrace  // {
	RBrace  // }
	LParen  // (
	RParen  // )
	Comma   // ,
	Arrow   // =>
	GE      // >=
	LE      // <=
	GT      // >
	LT      // <
)

var kinds = [...]string{"the end of the file", "an unreadable character", "a word", "a string", "a comment",
	`"{"`, `"}"`, `"("`, `")"`, `","`, `"=>"`, `">="`, `"<="`, `">"`, `"<"`}

// String describes the kind for an error message.
func (k Kind) String() string { return kinds[k] }

// Token is one token of a source file.
type Token struct {
	Kind Kind
	Pos  Pos
	Raw  string // as it stands in the source; a comment without its line end
	Text string // a word itself, a string's value; else Raw
}

// Describe tells what was found, for an error message.
func (t Token) Describe() string {
	switch t.Kind {
	case Word:
		return fmt.Sprintf("%q", spell.Clip(t.Text))
	case String:
		return "the string " + fmt.Sprintf("%q", spell.Clip(t.Text))
	}
	return t.Kind.String()
}

// Reserved lists the words that are quoted where they serve as names.
var Reserved = []string{"and", "or", "not", "surely", "except"}

// IsReserved reports whether a bare word is reserved.
func IsReserved(word string) bool {
	return slices.Contains(Reserved, word)
}

// Package language reads and lays out the text of rulebook files. It knows how
// policies are written and nothing of what they mean.
//
// Its parts are packages of their own: token, scanner, ast, parser and printer; this
// one has the two calls that most programs need.
package language

import (
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/parser"
	"briskwarden.example/briskwarden/language/printer"
)

// Parse reads one source file. The name stands in positions. The tree holds whatever
// could be read; the error, if any, is a [token.ErrorList] of all that was wrong.
func Parse(name string, src []byte) (*ast.File, error) { return parser.File(name, src) }

// Format returns src in the one layout, comments where they stood. The meaning does not
// change, and formatting twice is formatting once. A text that does not parse is an error.
func Format(name string, src []byte) ([]byte, error) { return printer.Format(name, src) }

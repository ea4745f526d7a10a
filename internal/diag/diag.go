// Package diag has what is told about a rulebook: errors and warnings, each with its place,
// a stable code and what to do.
package diag

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"briskwarden.example/briskwarden/language/token"
)

// Severity says how much a finding weighs.
type Severity uint8

// The severities. A rulebook with an error never decides.
const (
	Warning Severity = iota
	Error
)

// String names the severity.
func (s Severity) String() string {
	if s == Error {
		return "error"
	}
	return "warning"
}

// MarshalText gives the severity's name.
func (s Severity) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// Code names a kind of finding; it does not change from release to release.
type Code string

// The codes of errors.
const (
	Syntax  Code = "syntax"  // a text that does not parse
	Invalid Code = "invalid" // a name, value or clause that cannot be
	File    Code = "file"    // a file that cannot be read
)

// Diagnostic is one finding.
type Diagnostic struct {
	Code     Code
	Severity Severity
	Pos      token.Pos
	Span     int // how many characters it covers, at least 1
	Message  string
	Help     string // what to do; may be empty
}

// String gives "file:line:column: severity: message".
func (d Diagnostic) String() string {
	return fmt.Sprintf("%s: %s: %s", d.Pos, d.Severity, d.Message)
}

// List is all that was found.
type List []Diagnostic

// Add appends a finding.
func (l *List) Add(code Code, severity Severity, pos token.Pos, span int, help, format string, args ...any) {
	message := strings.ToValidUTF8(fmt.Sprintf(format, args...), "\ufffd") // files may hold any bytes
	*l = append(*l, Diagnostic{code, severity, pos, max(1, span), message, strings.ToValidUTF8(help, "\ufffd")})
}

// AddErrors appends the errors of the language, or another error at the place of the file.
func (l *List) AddErrors(code Code, file string, err error) {
	var list token.ErrorList
	if err != nil && !errors.As(err, &list) {
		l.Add(code, Error, token.Pos{File: file}, 1, "", "%v", err)
	}
	for _, e := range list {
		l.Add(code, Error, e.Pos, e.Span, e.Help, "%s", e.Msg)
	}
}

// Sort orders the list by place, then message, and leaves out what is said twice.
func (l *List) Sort() {
	slices.SortStableFunc(*l, func(a, b Diagnostic) int {
		return cmp.Or(strings.Compare(a.Pos.File, b.Pos.File), cmp.Compare(a.Pos.Line, b.Pos.Line),
			cmp.Compare(a.Pos.Column, b.Pos.Column), strings.Compare(a.Message, b.Message))
	})
	*l = slices.Compact(*l)
}

// Count counts the findings of a severity.
func (l List) Count(s Severity) (n int) {
	for _, d := range l {
		if d.Severity == s {
			n++
		}
	}
	return n
}

// Err is the first error and how many more there are, or nil when there is none.
func (l List) Err() error {
	n := l.Count(Error)
	if n == 0 {
		return nil
	}
	first := l[slices.IndexFunc(l, func(d Diagnostic) bool { return d.Severity == Error })]
	if n == 1 {
		return errors.New(first.String())
	}
	return fmt.Errorf("%s (and %d more errors)", first, n-1)
}

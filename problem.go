package briskwarden

// What is wrong with a rulebook.

import (
	"fmt"

	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/rulebook"
)

// Severity says how much a problem weighs.
type Severity string

// The severities.
const (
	Error   Severity = "error" // a rulebook with an error never decides
	Warning Severity = "warning"
)

// Problem is something that was found about a rulebook.
type Problem struct {
	Code     string   `json:"code"` // names the kind of problem, and does not change from release to release
	Severity Severity `json:"severity"`
	File     string   `json:"file"`            // relative to the rulebook's folder
	Line     int      `json:"line,omitzero"`   // from 1; 0 where the whole file is meant
	Column   int      `json:"column,omitzero"` // in characters, from 1
	Message  string   `json:"message"`
	Help     string   `json:"help,omitzero"` // what to do about it; may be empty

	// Span is how many characters are meant, and Text the line that they stand in, where that is a
	// rulebook's own. Neither is part of the JSON.
	Span int    `json:"-"`
	Text string `json:"-"`
}

// String gives "file:line:column: message".
func (p Problem) String() string {
	if p.Line == 0 {
		return fmt.Sprintf("%s: %s", p.File, p.Message)
	}
	return fmt.Sprintf("%s:%d:%d: %s", p.File, p.Line, p.Column, p.Message)
}

func init() {
	bridge.Problem = func(rb *rulebook.Rulebook, d diag.Diagnostic) any { return problemOf(rb, d) }
}

func problemOf(rb *rulebook.Rulebook, d diag.Diagnostic) Problem {
	return Problem{string(d.Code), Severity(d.Severity.String()), d.Pos.File, int(d.Pos.Line), int(d.Pos.Column), d.Message, d.Help,
		d.Span, rb.Line(d.Pos)}
}

// CheckError says that a rulebook has errors, and is not fit to decide.
type CheckError struct {
	Problems []Problem // errors and warnings, by place
}

func newCheckError(rb *rulebook.Rulebook) *CheckError {
	e := &CheckError{}
	for _, d := range rb.Diagnostics {
		e.Problems = append(e.Problems, problemOf(rb, d))
	}
	return e
}

// Error gives the first error and how many more there are.
func (e *CheckError) Error() string {
	first, more := "", -1
	for _, p := range e.Problems {
		if p.Severity == Error {
			if more++; more == 0 {
				first = p.String()
			}
		}
	}
	if more > 0 {
		return fmt.Sprintf("the rulebook has errors: %s (and %d more)", first, more)
	}
	return "the rulebook has an error: " + first
}

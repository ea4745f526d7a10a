// Package replay takes logs of past sign-ons through the engine.
package replay

import (
	"io"

	"briskwarden.example/briskwarden/internal/fastlog"
	"briskwarden.example/briskwarden/signon"
)

// Line is a line of a sign-on log.
type Line struct {
	File   string
	Number int
	signon.Logged
}

// Teaches reports whether a history learns from the line: it was granted, or carries no outcome.
func (l *Line) Teaches() bool { return !l.Recorded || l.Outcome == signon.Grant }

// BadLine is a line that cannot be read.
type BadLine struct {
	File   string `json:"file"`
	Number int    `json:"line"`
	Why    string `json:"why"`
}

// Each calls f with every sign-on of a log, and bad with every line that cannot be read. An
// error is one of reading on, or of f.
func Each(in io.Reader, file string, f func(*Line) error, bad func(BadLine)) error {
	return fastlog.Each(in, func(n int, l *signon.Logged, wrong error) error {
		if wrong != nil {
			bad(BadLine{file, n, wrong.Error()})
			return nil
		}
		return f(&Line{File: file, Number: n, Logged: *l})
	})
}

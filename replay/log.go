// Package replay takes logs of past sign-ons through the engine.
package replay

import (
	"errors"
	"io"

	"briskwarden.example/briskwarden/internal/lines"
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

var errNoTime = errors.New("context.time: is missing: a past sign-on says when it was")

// Each calls f with every sign-on of a log, and bad with every line that cannot be read. An
// error is one of reading on, or of f.
func Each(in io.Reader, file string, f func(*Line) error, bad func(BadLine)) error {
	return lines.EachOfAny(in, func(n int, text []byte) error {
		if len(lines.Trimmed(text)) == 0 {
			return nil
		}
		l := Line{File: file, Number: n}
		var err error
		l.Logged, err = signon.DecodeLogged(text)
		if err == nil && l.SignOn.Time.IsZero() {
			err = errNoTime
		}
		if err != nil {
			bad(BadLine{file, n, err.Error()})
			return nil
		}
		return f(&l)
	})
}

package fastlog

// Whole logs.

import (
	"errors"
	"io"

	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/signon"
)

// ErrNoTime says that a line does not say when the sign-on was.
var ErrNoTime = errors.New("context.time: is missing: a past sign-on says when it was")

// Each reads a log, and calls f with every sign-on in it, which is good for ever, or with what is
// wrong with the line. Blank lines are left out. It ends with the first error of f, or of reading on,
// as a [*lines.Error].
func Each(in io.Reader, f func(line int, l *signon.Logged, wrong error) error) error {
	var r Reader
	return lines.EachOfAny(in, func(n int, text []byte) error {
		if len(lines.Trimmed(text)) == 0 {
			return nil
		}
		var l signon.Logged
		err := r.ReadPast(text, &l, nil)
		return f(n, &l, err)
	})
}

// ReadPast is [Reader.Read] of a sign-on that was: the line must say when.
func (r *Reader) ReadPast(line []byte, l *signon.Logged, arena *Arena) error {
	err := r.Read(line, l, arena)
	if err == nil && l.Time.IsZero() {
		err = ErrNoTime
	}
	return err
}

package possible

// Which sign-ons count, by their time.

import (
	"errors"
	"fmt"
	"time"
)

// DefaultSpan is how long a span is that does not say until when.
const DefaultSpan = 366 * 24 * time.Hour

// longestSpan is how long one can be.
const longestSpan = 100 * 366 * 24 * time.Hour

// ErrSpan is the error of a span that ends before it begins, or is too long.
var ErrSpan = errors.New("the span is none")

// Span gives the first instant of a span and the first after it: of what is left out the first is now, and the
// other as much later as [DefaultSpan].
func Span(from, until, now time.Time) (first, after time.Time, err error) {
	if from.IsZero() {
		from = now
	}
	if until.IsZero() {
		until = from.Add(DefaultSpan)
	}
	switch {
	case !until.After(from):
		err = fmt.Errorf("%w: it ends (%s) before it begins (%s)", ErrSpan, until.Format(time.RFC3339), from.Format(time.RFC3339))
	case until.Sub(from) > longestSpan:
		err = fmt.Errorf("%w: it is longer than 100 years", ErrSpan)
	}
	return from, until, err
}

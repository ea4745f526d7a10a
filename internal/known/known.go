// Package known has the three values that a condition can take, with Kleene's strong
// logic over them, and intervals for numbers of which only the bounds are known.
package known

import "strings"

// Truth is false, unknown or true. The zero value is unknown.
type Truth int8

// The three values, in an order in which "and" is the minimum and "or" the maximum.
const (
	False   Truth = -1
	Unknown Truth = 0
	True    Truth = 1
)

// Of converts a Go truth value.
func Of(b bool) Truth {
	if b {
		return True
	}
	return False
}

// Not is the strong negation: unknown stays unknown.
func (t Truth) Not() Truth { return -t }

// And is the strong conjunction.
func (t Truth) And(u Truth) Truth { return min(t, u) }

// Or is the strong disjunction.
func (t Truth) Or(u Truth) Truth { return max(t, u) }

// String names the value.
func (t Truth) String() string {
	switch t {
	case True:
		return "true"
	case False:
		return "false"
	}
	return "unknown"
}

// Interval is a number somewhere from Low to High, both included. For a number that is
// known both are the same.
type Interval struct{ Low, High float64 }

// Exactly is the interval of one number.
func Exactly(x float64) Interval { return Interval{x, x} }

// Both is the truth of a monotone predicate over the interval, given what it is at both
// ends. Monotone: along the numbers it changes at most once.
func Both(low, high bool) Truth {
	if low != high {
		return Unknown
	}
	return Of(low)
}

// Parse reads yes, no, true or false, in any case.
func Parse(text string) (t Truth, ok bool) {
	switch strings.ToLower(text) {
	case "yes", "true":
		return True, true
	case "no", "false":
		return False, true
	}
	return Unknown, false
}

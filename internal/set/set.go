// Package set has sets of small numbers, such as the ids of what was declared.
package set

import (
	"iter"
	"math/bits"
)

// Set is a set of small numbers.
type Set []uint64

// Has reports whether id is in the set.
func (s Set) Has(id int) bool { return id>>6 < len(s) && s[id>>6]&(1<<(id&63)) != 0 }

// With returns the set with id added; s is not changed.
func (s Set) With(id int) Set {
	t := make(Set, max(len(s), id>>6+1))
	copy(t, s)
	t[id>>6] |= 1 << (id & 63)
	return t
}

// Or returns the union; neither set is changed.
func (s Set) Or(t Set) Set {
	u := make(Set, max(len(s), len(t)))
	copy(u, s)
	for i, w := range t {
		u[i] |= w
	}
	return u
}

// Intersects reports whether the sets share a member.
func (s Set) Intersects(t Set) bool {
	for i := range min(len(s), len(t)) {
		if s[i]&t[i] != 0 {
			return true
		}
	}
	return false
}

// All are the members in order.
func (s Set) All() iter.Seq[int] {
	return func(yield func(int) bool) {
		for i, w := range s {
			for ; w != 0; w &= w - 1 {
				if !yield(i<<6 + bits.TrailingZeros64(w)) {
					return
				}
			}
		}
	}
}

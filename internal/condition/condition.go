// Package condition compiles conditions over fact slots and evaluates them to true, false
// or unknown. It knows slots, not where facts come from.
package condition

import (
	"slices"
	"time"

	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/language/ast"
)

// Facts are the facts of one sign-on. Whatever is not known is unknown in all of them.
type Facts interface {
	// Member tells whether the sign-on belongs to any of some declared sets: networks,
	// groups, tags, schedules (of the time), baselines or the demands of a "user has", by their ids.
	Member(s fact.Slot, ids []int) known.Truth
	// Scopes tells whether the scopes asked for lie within the union of the sets, or touch it.
	Scopes(within bool, sets []int) known.Truth
	YesNo(s fact.Slot) known.Truth
	Word(s fact.Slot) (string, bool)
	Number(s fact.Slot) (known.Interval, bool)
	Instant(s fact.Slot) (time.Time, bool)
	// Date gives the first instant of a date attribute, and that of the day after.
	Date(s fact.Slot) (start, next time.Time, ok bool)
	Known(s fact.Slot) bool
	// Now is the time of the sign-on.
	Now() time.Time
}

// Node is a compiled condition.
type Node interface {
	Eval(f Facts) known.Truth
	reasons(f ExplainedFacts, is known.Truth, r *reasons)
}

type (
	andNode    struct{ parts []Node }
	orNode     struct{ parts []Node }
	notNode    struct{ x Node }
	surelyNode struct{ x Node }

	// memberNode asks whether any of the sets holds.
	memberNode struct {
		fact  *fact.Fact
		ids   []int
		names []string
	}
	scopesNode struct {
		fact   *fact.Fact
		within bool
		sets   []int
		names  string
	}
	yesNoNode struct{ fact *fact.Fact }
	wordNode  struct {
		fact   *fact.Fact
		values []string
	}
	countryNode struct {
		fact  *fact.Fact
		set   map[string]bool
		names string
	}
	numberNode struct {
		fact  *fact.Fact
		op    ast.Op
		bound float64
	}
	// bandNode asks whether the score is one of some whole numbers.
	bandNode struct {
		fact  *fact.Fact
		below [102]int // how many of the numbers are below n
	}
	withinNode struct {
		fact *fact.Fact
		age  time.Duration
	}
	// timeNode asks whether it is before or after a moment, or a date attribute.
	timeNode struct {
		fact      *fact.Fact
		before    bool
		bound     time.Time // before it, or not before it
		strict    bool      // after it, rather than not before it
		attribute *fact.Fact
	}
	versionNode struct {
		fact  *fact.Fact
		op    ast.Op
		bound version
	}
	knownNode struct {
		fact *fact.Fact
		want bool
	}
	knownOfNode struct {
		x    Node
		text string
		want bool
	}
)

// Eval evaluates a conjunction: false as soon as a part is.
func (n *andNode) Eval(f Facts) known.Truth {
	t := known.True
	for _, p := range n.parts {
		if t = t.And(p.Eval(f)); t == known.False {
			break
		}
	}
	return t
}

// Eval evaluates a disjunction: true as soon as a part is.
func (n *orNode) Eval(f Facts) known.Truth {
	t := known.False
	for _, p := range n.parts {
		if t = t.Or(p.Eval(f)); t == known.True {
			break
		}
	}
	return t
}

// Eval evaluates a negation.
func (n *notNode) Eval(f Facts) known.Truth { return n.x.Eval(f).Not() }

// Eval is true when the part is, else false.
func (n *surelyNode) Eval(f Facts) known.Truth { return known.Of(n.x.Eval(f) == known.True) }

// Eval asks the sets in turn.
func (n *memberNode) Eval(f Facts) known.Truth { return f.Member(n.fact.Slot, n.ids) }

// Eval asks about the scopes.
func (n *scopesNode) Eval(f Facts) known.Truth { return f.Scopes(n.within, n.sets) }

// Eval is the fact itself.
func (n *yesNoNode) Eval(f Facts) known.Truth { return f.YesNo(n.fact.Slot) }

// Eval compares exactly, case included.
func (n *wordNode) Eval(f Facts) known.Truth {
	w, ok := f.Word(n.fact.Slot)
	if !ok {
		return known.Unknown
	}
	return known.Of(slices.Contains(n.values, w))
}

// Eval looks the country up.
func (n *countryNode) Eval(f Facts) known.Truth {
	w, ok := f.Word(n.fact.Slot)
	if !ok {
		return known.Unknown
	}
	return known.Of(n.set[w])
}

// Eval compares the bounds of the number.
func (n *numberNode) Eval(f Facts) known.Truth {
	x, ok := f.Number(n.fact.Slot)
	if !ok {
		return known.Unknown
	}
	switch n.op {
	case ast.GE:
		return known.Both(x.Low >= n.bound, x.High >= n.bound)
	case ast.LE:
		return known.Both(x.Low <= n.bound, x.High <= n.bound)
	case ast.GT:
		return known.Both(x.Low > n.bound, x.High > n.bound)
	}
	return known.Both(x.Low < n.bound, x.High < n.bound)
}

// Eval counts how many of the possible scores are among those asked for.
func (n *bandNode) Eval(f Facts) known.Truth {
	x, ok := f.Number(fact.Risk)
	if !ok {
		return known.Unknown
	}
	low, high := int(x.Low), int(x.High)
	switch n.below[high+1] - n.below[low] {
	case high - low + 1:
		return known.True
	case 0:
		return known.False
	}
	return known.Unknown
}

// Eval compares the age; what lies in the future is within nothing.
func (n *withinNode) Eval(f Facts) known.Truth {
	t, ok := f.Instant(n.fact.Slot)
	if !ok {
		return known.Unknown
	}
	now := f.Now()
	return known.Of(!t.After(now) && !t.Before(now.Add(-n.age)))
}

// Eval compares the time of the sign-on.
func (n *timeNode) Eval(f Facts) known.Truth {
	now, bound, strict := f.Now(), n.bound, n.strict
	if n.attribute != nil {
		start, next, ok := f.Date(n.attribute.Slot)
		if !ok {
			return known.Unknown
		}
		if bound = start; !n.before {
			bound = next
		}
	}
	switch {
	case n.before:
		return known.Of(now.Before(bound))
	case strict:
		return known.Of(now.After(bound))
	}
	return known.Of(!now.Before(bound))
}

// Eval compares number by number; a part that is no number makes it unknown.
func (n *versionNode) Eval(f Facts) known.Truth {
	w, ok := f.Word(n.fact.Slot)
	if !ok {
		return known.Unknown
	}
	c, ok := n.bound.compareTo(w)
	if !ok {
		return known.Unknown
	}
	switch n.op {
	case ast.GE:
		return known.Of(c >= 0)
	case ast.LE:
		return known.Of(c <= 0)
	case ast.GT:
		return known.Of(c > 0)
	case ast.LT:
		return known.Of(c < 0)
	case ast.Is:
		return known.Of(c == 0)
	}
	return known.Of(c != 0)
}

// Eval is never unknown.
func (n *knownNode) Eval(f Facts) known.Truth { return known.Of(f.Known(n.fact.Slot) == n.want) }

// Eval is never unknown.
func (n *knownOfNode) Eval(f Facts) known.Truth {
	return known.Of((n.x.Eval(f) != known.Unknown) == n.want)
}

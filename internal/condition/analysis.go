package condition

// What conditions are made of, for those who ask what holds for every possible sign-on.

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/fact"
)

// Algebra puts the values of conditions together, whatever those are.
type Algebra[T any] interface {
	And(parts []T) T
	Or(parts []T) T
	Not(x T) T
	Surely(x T) T
	Known(x T, want bool) T // whether it is known
	Comparison(n Node) T
}

// Fold works a condition out in an algebra.
func Fold[T any](n Node, a Algebra[T]) T {
	switch n := n.(type) {
	case *andNode:
		return a.And(foldAll(n.parts, a))
	case *orNode:
		return a.Or(foldAll(n.parts, a))
	case *notNode:
		return a.Not(Fold(n.x, a))
	case *surelyNode:
		return a.Surely(Fold(n.x, a))
	case *knownOfNode:
		return a.Known(Fold(n.x, a), n.want)
	}
	return a.Comparison(n)
}

func foldAll[T any](parts []Node, a Algebra[T]) []T {
	list := make([]T, len(parts))
	for i, p := range parts {
		list[i] = Fold(p, a)
	}
	return list
}

// Question is what a comparison asks: the fact, and the values at which its answer may change.
type Question struct {
	Fact      *fact.Fact
	Key       string // comparisons of one rulebook that ask the same have the same
	Sets      []int  // declared sets, by id
	Words     []string
	Numbers   []float64
	Versions  []string
	Age       time.Duration // of a "within"
	Aged      bool          // it is one, also of no time at all
	Clock     *Clock        // of "time before" and "time after"
	Knowledge bool          // it asks whether the fact is known, and nothing else,
	Wanted    bool          // and is true where it is
	Within    bool          // of scopes: that all lie in the sets, rather than any
}

// Clock is the moment that "time before" and "time after" ask about.
type Clock struct {
	Turns     time.Time  // the first instant that is no longer before, or that is after
	Attribute *fact.Fact // of whose date that is, in place of Turns; nil for a moment as written
	Before    bool
}

// Asked tells what a comparison asks.
func Asked(n Node) Question {
	switch n := n.(type) {
	case *memberNode:
		return question(n.fact, n.ids, "in").sets(n.ids)
	case *scopesNode:
		q := question(n.fact, n.sets, "scopes", n.within).sets(n.sets)
		q.Within = n.within
		return q
	case *yesNoNode:
		return question(n.fact, nil, "yes")
	case *wordNode:
		q := question(n.fact, nil, "is", fmt.Sprintf("%q", n.values))
		q.Words = n.values
		return q
	case *countryNode:
		q := question(n.fact, nil, "is", slices.Sorted(maps.Keys(n.set)))
		q.Words = slices.Sorted(maps.Keys(n.set))
		return q
	case *numberNode:
		q := question(n.fact, nil, n.op, n.bound)
		q.Numbers = []float64{n.bound}
		return q
	case *bandNode:
		return question(n.fact, nil, n.below)
	case *withinNode:
		q := question(n.fact, nil, n.age)
		q.Age, q.Aged = n.age, true
		return q
	case *timeNode:
		return n.asked()
	case *versionNode:
		q := question(n.fact, nil, n.op, n.bound.text())
		q.Versions = []string{n.bound.text()}
		return q
	case *knownNode:
		q := question(n.fact, nil, "known", n.want)
		q.Knowledge, q.Wanted = true, n.want
		return q
	}
	panic(fmt.Sprintf("condition: no comparison: %T", n))
}

func question(f *fact.Fact, ids []int, parts ...any) Question {
	ids = slices.Clone(ids)
	slices.Sort(ids)
	return Question{Fact: f, Key: strings.TrimSuffix(fmt.Sprintln(append([]any{f.Slot, slices.Compact(ids)}, parts...)...), "\n")}
}

func (q Question) sets(ids []int) Question {
	q.Sets = ids
	return q
}

func (n *timeNode) asked() Question {
	c := Clock{Turns: n.bound, Attribute: n.attribute, Before: n.before}
	if n.attribute != nil {
		q := question(n.attribute, nil, "time", n.before)
		q.Clock = &c
		return q
	}
	if n.strict {
		c.Turns = n.bound.Add(1)
	}
	q := question(n.fact, nil, n.before, c.Turns.UnixNano())
	q.Clock = &c
	return q
}

// IsUnknown asks whether a fact is unknown.
func IsUnknown(f *fact.Fact) Node { return &knownNode{f, false} }

// IsYes asks whether a yes-no fact is yes.
func IsYes(f *fact.Fact) Node { return &yesNoNode{f} }

// IsIn asks whether the sign-on belongs to any of some declared sets, by their ids.
func IsIn(f *fact.Fact, ids []int) Node { return &memberNode{fact: f, ids: ids} }

// Not is the negation of a condition.
func Not(n Node) Node { return &notNode{n} }

package findings

// Which conditions are always true.

import (
	"slices"

	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/language/ast"
)

// alwaysTrue reports whether a condition is true whatever the facts. It looks at what single
// comparisons can be, so that it misses some; of those that it reports it is sure.
func alwaysTrue(c ast.Cond) bool {
	var names []string
	for compare := range ast.Comparisons(c) {
		if constant(compare) == nil && !slices.Contains(names, subject(compare)) {
			names = append(names, subject(compare))
		}
	}
	const most = 8
	if len(names) > most {
		return false
	}
	values := map[string]known.Truth{}
	var every func(rest []string) bool
	every = func(rest []string) bool {
		if len(rest) == 0 {
			return truthOf(c, values) == known.True
		}
		for _, v := range []known.Truth{known.False, known.Unknown, known.True} {
			if v == known.Unknown && sure(rest[0]) {
				continue
			}
			values[rest[0]] = v
			if !every(rest[1:]) {
				return false
			}
		}
		return true
	}
	return every(names)
}

// subject is what a comparison asks, without whether it asks for the contrary.
func subject(c *ast.Compare) string {
	positive := *c
	switch c.Op {
	case ast.NotIn:
		positive.Op = ast.In
	case ast.IsNot:
		positive.Op = ast.Is
	case ast.NotWithin:
		positive.Op = ast.Within
	}
	if c.Known != ast.NoKnown {
		positive.Known = ast.IsKnown
	}
	if c.Op == ast.Is && c.Known == ast.NoKnown && len(c.Values) == 1 && (c.Values[0].Text == "yes" || c.Values[0].Text == "no") {
		positive.Op, positive.Values = ast.Bare, nil
	}
	return positive.String()
}

// contrary reports whether a comparison asks for the contrary of its subject.
func contrary(c *ast.Compare) bool {
	switch {
	case c.Known != ast.NoKnown:
		return !c.Known.WantsKnown()
	case c.Op == ast.Is && len(c.Values) == 1:
		return c.Values[0].Text == "no"
	}
	return c.Op == ast.NotIn || c.Op == ast.IsNot || c.Op == ast.NotWithin
}

// alwaysKnown are the facts that no sign-on is decided without.
var alwaysKnown = []string{"group", "tag", "time", "user.id", "user.type", "user.risk", "user"}

// sure reports whether a subject is never unknown.
func sure(subject string) bool {
	for _, name := range alwaysKnown {
		if len(subject) > len(name) && subject[:len(name)+1] == name+" " {
			return true
		}
	}
	return len(subject) > 9 && subject[len(subject)-9:] == " is known"
}

// constant is the value of a comparison that has only one; nil for the others.
func constant(c *ast.Compare) *known.Truth {
	is := func(b bool) *known.Truth { t := known.Of(b); return &t }
	switch {
	case c.Known != ast.NoKnown:
		if slices.Contains(alwaysKnown, c.Fact.Text) {
			return is(c.Known.WantsKnown())
		}
	case c.Fact.Text == "user.type" && all(c, fact.UserTypes), c.Fact.Text == "user.risk" && all(c, fact.Levels):
		return is(c.Op == ast.In)
	case c.Fact.Text == "user.risk" && (c.Op == ast.AtLeast && c.Values[0].Text == fact.Levels[0] || c.Op == ast.AtMost && c.Values[0].Text == fact.Levels[len(fact.Levels)-1]),
		c.Fact.Text == "risk" && (c.Op == ast.GE && c.Values[0].Text == "0" || c.Op == ast.LE && c.Values[0].Text == "100"):
		return is(true)
	}
	return nil
}

// all reports whether the comparison lists all values that the fact can have.
func all(c *ast.Compare, values []string) bool {
	return (c.Op == ast.In || c.Op == ast.NotIn) && !slices.ContainsFunc(values, func(v string) bool {
		return !slices.ContainsFunc(c.Values, func(n ast.Name) bool { return n.Text == v })
	})
}

// truthOf is the value of a condition, given those of its subjects.
func truthOf(c ast.Cond, values map[string]known.Truth) known.Truth {
	switch c := c.(type) {
	case *ast.And:
		t := known.True
		for _, p := range c.Parts {
			t = t.And(truthOf(p, values))
		}
		return t
	case *ast.Or:
		t := known.False
		for _, p := range c.Parts {
			t = t.Or(truthOf(p, values))
		}
		return t
	case *ast.Not:
		return truthOf(c.X, values).Not()
	case *ast.Surely:
		return known.Of(truthOf(c.X, values) == known.True)
	case *ast.Paren:
		return truthOf(c.X, values)
	case *ast.Compare:
		if t := constant(c); t != nil {
			return *t
		}
		if contrary(c) {
			return values[subject(c)].Not()
		}
		return values[subject(c)]
	}
	return known.Unknown
}

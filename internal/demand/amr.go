package demand

// From what a token says was proved (amr, RFC 8176) to methods.
//
// Several methods may share a value, so that the values of a token can come from different methods. Each smallest set of
// methods that explains them all is one way in which it may have been. Of a demand it counts only what all of the ways
// meet.

import "slices"

// The bounds beyond which the values of a token tell nothing.
const (
	mostValues = 16
	mostGiven  = 64
)

// Given are the smallest sets of methods from which the values can come, in order. A value that no method has, or only
// ones that have others beside it, tells nothing.
func (t *Methods) Given(amr []string) []Set {
	var fitting []*Method
	var values []string
	if len(amr) > mostValues {
		return nil
	}
	for _, m := range t.list {
		if len(m.AMR) > 0 && !slices.ContainsFunc(m.AMR, func(v string) bool { return !slices.Contains(amr, v) }) {
			fitting = append(fitting, m)
			values = append(values, m.AMR...)
		}
	}
	slices.Sort(values)
	g := given{fitting: fitting, values: slices.Compact(values)}
	g.cover(0)
	if g.many || len(g.values) == 0 {
		return nil
	}
	slices.Sort(g.sets)
	g.sets = slices.Compact(g.sets)
	smallest := slices.DeleteFunc(slices.Clone(g.sets), func(s Set) bool {
		return slices.ContainsFunc(g.sets, func(other Set) bool { return other != s && other.Within(s) })
	})
	if len(smallest) > mostGiven {
		return nil
	}
	return smallest
}

// given finds sets of methods that have all values.
type given struct {
	fitting []*Method
	values  []string
	sets    []Set
	many    bool
}

// cover adds methods to a set until it has all values.
func (g *given) cover(s Set) {
	if g.many = g.many || len(g.sets) > mostGiven*mostValues; g.many {
		return
	}
	for _, v := range g.values {
		has := func(m *Method) bool { return s.Has(m.ID) && slices.Contains(m.AMR, v) }
		if slices.ContainsFunc(g.fitting, has) {
			continue
		}
		for _, m := range g.fitting {
			if slices.Contains(m.AMR, v) {
				more := s
				more.Add(m.ID)
				g.cover(more)
			}
		}
		return
	}
	g.sets = append(g.sets, s)
}

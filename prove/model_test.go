package prove

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/condition"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/signon"
)

// model is what all sign-ons of a small rulebook come to, one by one.
type model struct {
	engine  *engine.Engine
	watched bool                                  // the policies on watch count
	traits  map[string]func(condition.Facts) bool // by text
	names   []string
	seen    [][]seen // by promise: what was in its scope
}

// seen is a sign-on in the scope of a promise.
type seen struct {
	broke
	outcome signon.Outcome
	breaks  bool
	traits  []bool // which of the model's names hold
}

func newModel(rules *briskwarden.Rulebook) *model {
	m := &model{engine: bridge.Engine(rules), traits: map[string]func(condition.Facts) bool{}}
	rb := m.engine.Rulebook()
	add := func(text string, holds func(condition.Facts) bool) {
		if m.traits[text] == nil {
			m.traits[text] = holds
			m.names = append(m.names, text)
		}
	}
	for _, c := range rb.Comparisons {
		add(c.Tree.String(), func(f condition.Facts) bool { return c.Node.Eval(f) == known.True })
	}
	for _, c := range rb.Comparisons {
		add(negated(c.Tree), func(f condition.Facts) bool { return c.Node.Eval(f) == known.False })
	}
	for _, f := range unknowable(rb) {
		add(f.Name+" is unknown", func(facts condition.Facts) bool { return !facts.Known(f.Slot) })
	}
	m.seen = make([][]seen, len(rb.Promises))
	return m
}

// consider decides on a sign-on, and holds every promise against it.
func (m *model) consider(so *signon.SignOn) {
	rb := m.engine.Rulebook()
	var traits []bool
	for i, p := range rb.Promises {
		if !p.Who.Holds(rb.People[so.User]) || !p.To.Holds(rb.Apps[so.App]) {
			continue
		}
		v, err := m.engine.Judge(context.Background(), so, &engine.Question{Watched: m.watched, When: p.When, Without: p.Without})
		if err != nil {
			panic(err)
		}
		if !v.When {
			continue
		}
		if traits == nil {
			_ = m.engine.Probe(context.Background(), so, func(f condition.Facts) {
				for _, name := range m.names {
					traits = append(traits, m.traits[name](f))
				}
			})
		}
		m.seen[i] = append(m.seen[i], seen{broke{so.User, so.App}, v.Outcome, breaksPlainly(p, v), traits})
	}
}

// breaksPlainly says once more what breaks a promise.
func breaksPlainly(p *rulebook.Promise, v engine.Verdict) bool {
	switch p.Form {
	case ast.PromiseAlways:
		return v.Outcome != p.Outcome
	case ast.PromiseNever:
		return v.Outcome == p.Outcome
	case ast.PromiseNeverWithout:
		return v.Outcome == signon.Grant && !v.Met
	}
	return v.Outcome == signon.Block && v.ShowsAll
}

func (m *model) empty(promise int) bool { return len(m.seen[promise]) == 0 }

// brokenOf are those who break a promise, and where.
func (m *model) brokenOf(promise int) map[broke]bool {
	list := map[broke]bool{}
	for _, s := range m.seen[promise] {
		if s.breaks {
			list[s.broke] = true
		}
	}
	return list
}

// checkWay holds what is said of one way against all sign-ons: that its witness, with any of its people
// and apps, breaks the promise with its outcome; that "when" is what its breaking sign-ons share, all that
// follows from it and no more than is needed; and that the clauses give the outcome.
func (m *model) checkWay(t *testing.T, promise int, w *Way, message string) {
	p := m.engine.Rulebook().Promises[promise]
	of := map[broke]bool{}
	for _, u := range w.People {
		for _, a := range w.Apps {
			of[broke{u, a}] = true
			so := *w.Witness
			so.User, so.App = u, a
			so.Evidence = append([]signon.Evidence(nil), so.Evidence...)
			for i := range so.Evidence {
				if so.Evidence[i].App == w.Witness.App {
					so.Evidence[i].App = a
				}
			}
			v, err := m.engine.Judge(context.Background(), &so, &engine.Question{Watched: m.watched, When: p.When, Without: p.Without})
			require.NoError(t, err, message)
			require.True(t, v.When && v.Outcome == w.Outcome && breaksPlainly(p, v), message)
		}
	}
	require.NotNil(t, w.When, message)
	chosen := []int{}
	for text := range strings.SplitSeq(*w.When, " and ") {
		for i, name := range m.names {
			if name == text {
				chosen = append(chosen, i)
			}
		}
	}
	require.Equal(t, *w.When == "", len(chosen) == 0, message)
	var always, everywhere []bool
	for range m.names {
		always, everywhere = append(always, true), append(everywhere, true)
	}
	for _, s := range m.seen[promise] {
		for i, is := range s.traits {
			everywhere[i] = everywhere[i] && is
			always[i] = always[i] && (is || !s.breaks || s.outcome != w.Outcome || !of[s.broke])
		}
	}
	holds := func(s *seen, but int) bool {
		for _, i := range chosen {
			if i != but && !s.traits[i] {
				return false
			}
		}
		return true
	}
	for _, i := range chosen {
		require.True(t, always[i], "not shared: %s; %s", m.names[i], message)
		needed := false
		for k := range m.seen[promise] {
			s := &m.seen[promise][k]
			needed = needed || !s.traits[i] && holds(s, i)
		}
		require.True(t, needed, "%s follows from the rest of %s; %s", m.names[i], *w.When, message)
	}
	for i := range m.names {
		for k := range m.seen[promise] {
			s := &m.seen[promise][k]
			if always[i] && !s.traits[i] && holds(s, -1) {
				require.Fail(t, "a shared trait does not follow", "%s from %q; %s", m.names[i], *w.When, message)
			}
		}
	}
}

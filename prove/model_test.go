package prove

import (
	"context"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/signon"
)

// model is what all sign-ons of a small rulebook come to, one by one.
type model struct {
	engine *engine.Engine
	broken []map[broke]bool // by promise
}

func newModel(rules *briskwarden.Rulebook) *model {
	m := &model{engine: bridge.Engine(rules)}
	for range m.engine.Rulebook().Promises {
		m.broken = append(m.broken, map[broke]bool{})
	}
	return m
}

// consider decides on a sign-on, and holds every promise against it.
func (m *model) consider(so *signon.SignOn) {
	rb := m.engine.Rulebook()
	for i, p := range rb.Promises {
		if !p.Who.Holds(rb.People[so.User]) || !p.To.Holds(rb.Apps[so.App]) {
			continue
		}
		v, err := m.engine.Judge(context.Background(), so, &engine.Question{When: p.When, Without: p.Without})
		if err != nil {
			panic(err)
		}
		breaks := false
		switch p.Form {
		case ast.PromiseAlways:
			breaks = v.Outcome != p.Outcome
		case ast.PromiseNever:
			breaks = v.Outcome == p.Outcome
		case ast.PromiseNeverWithout:
			breaks = v.Outcome == signon.Grant && !v.Met
		case ast.PromiseNeverLockedOut:
			breaks = v.Outcome == signon.Block && v.ShowsAll
		}
		if breaks && v.When {
			m.broken[i][broke{so.User, so.App}] = true
		}
	}
}

// Package risk scores a sign-on: a whole number from 0 to 100 of which, where facts are
// missing, only the bounds are known.
package risk

import (
	"briskwarden.example/briskwarden/internal/condition"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/signon"
)

// Most is the highest score.
const Most = 100

// Factor adds to the score when its condition is true.
type Factor struct {
	Add  int
	Text string // the condition as it is written
	When condition.Node
}

// Model is a rulebook's risk model.
type Model struct {
	Factors []Factor
	Bands   []condition.Band
}

// Score adds up the factors: one that is true adds to both bounds, one that is unknown to
// the upper bound alone.
func (m *Model) Score(f condition.Facts) known.Interval {
	low, high := 0, 0
	for _, factor := range m.Factors {
		switch factor.When.Eval(f) {
		case known.True:
			low += factor.Add
			high += factor.Add
		case known.Unknown:
			high += factor.Add
		}
	}
	return known.Interval{Low: float64(min(low, Most)), High: float64(min(high, Most))}
}

// Explain gives the score with every factor that adds, or may add, to it.
func (m *Model) Explain(f condition.ExplainedFacts) *signon.Risk {
	score := m.Score(f)
	r := &signon.Risk{Low: int(score.Low), High: int(score.High), Factors: []signon.Factor{}}
	for _, factor := range m.Factors {
		if t := factor.When.Eval(f); t != known.False {
			r.Factors = append(r.Factors, signon.Factor{Add: factor.Add, When: factor.Text, Value: t.String(),
				Why: condition.Why(factor.When, f)})
		}
	}
	return r
}

// BandAt is the name of the band that holds the score, or "".
func (m *Model) BandAt(score int) string {
	for _, b := range m.Bands {
		if b.Low <= score && score <= b.High {
			return b.Name
		}
	}
	return ""
}

package possible

// Comparisons with sums: the risk score, and the weight of scopes.

import (
	"briskwarden.example/briskwarden/internal/condition"
	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/logic"
	"briskwarden.example/briskwarden/internal/risk"
)

// scored are facts of which only a number is known.
type scored struct {
	condition.Facts
	model *risk.Model
	at    known.Interval
}

// Number is the number.
func (s scored) Number(fact.Slot) (known.Interval, bool) { return s.at, true }

// Known tells whether both ends are the same, or in the same band.
func (s scored) Known(slot fact.Slot) bool {
	if slot == fact.RiskBand {
		return s.model.BandAt(int(s.at.Low)) == s.model.BandAt(int(s.at.High))
	}
	return s.at.Low == s.at.High
}

// score is a comparison with the risk score: an interval, to whose low end add the factors that are true
// and to whose high end those that may be.
func (sp *Space) score(s *side, n condition.Node) logic.Three {
	factors, built := sp.risks[s.number]
	if !built {
		for _, f := range s.rb.Risk.Factors {
			factors = append(factors, sp.condition(s, f.When))
		}
		sp.risks[s.number] = factors
	}
	var low, high []logic.Weighed
	for i, f := range s.rb.Risk.Factors {
		low = append(low, logic.Weighed{Lit: factors[i].Must, Weight: f.Add})
		high = append(high, logic.Weighed{Lit: factors[i].May, Weight: f.Add})
	}
	return sp.interval(low, high, sp.w.rowsOf(s, n))
}

// rowsOf are the rows of a comparison with the score.
func (w *World) rowsOf(s *side, n condition.Node) []row {
	l := s.leaf(n)
	w.once.Lock()
	defer w.once.Unlock()
	if l.rows == nil {
		l.rows = rows(func(low, high int) known.Truth {
			return n.Eval(scored{model: s.rb.Risk, at: known.Interval{Low: float64(low), High: float64(high)}})
		})
	}
	return l.rows
}

// interval is what holds of an interval of whole numbers up to [risk.Most], whose ends are sums.
func (sp *Space) interval(low, high []logic.Weighed, rows []row) logic.Three {
	var must, may []logic.Lit
	for _, row := range rows {
		in := sp.And(sp.AtLeast(low, row.from), sp.AtLeast(low, row.to+1).Not())
		if row.to == risk.Most {
			in = sp.AtLeast(low, row.from)
		}
		for _, span := range row.spans {
			if span.is == known.False {
				continue
			}
			there := sp.AtLeast(high, span.from)
			if span.to < risk.Most {
				there = sp.And(there, sp.AtLeast(high, span.to+1).Not())
			}
			if span.is == known.True {
				must = append(must, sp.And(in, there))
			}
			may = append(may, sp.And(in, there))
		}
	}
	return logic.Three{Must: sp.Or(must...), May: sp.Or(may...)}
}

// row are low ends for which the high end counts in the same way.
type row struct {
	from, to int
	spans    []span
}

// span are high ends with the same answer.
type span struct {
	from, to int
	is       known.Truth
}

func rows(eval func(low, high int) known.Truth) (list []row) {
	for low := 0; low <= risk.Most; low++ {
		r := row{from: low, to: low}
		for high := 0; high <= risk.Most; high++ {
			is := eval(low, max(low, high))
			if n := len(r.spans); n > 0 && r.spans[n-1].is == is {
				r.spans[n-1].to = high
			} else {
				r.spans = append(r.spans, span{high, high, is})
			}
		}
		if n := len(list); n > 0 && sameSpans(list[n-1].spans, r.spans) {
			list[n-1].to = low
		} else {
			list = append(list, r)
		}
	}
	return list
}

func sameSpans(a, b []span) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i] != b[i] {
			return false
		}
	}
	return true
}

// RiskMayReach is whether the risk score of a rulebook, by its number, is or may be at least that high.
func (sp *Space) RiskMayReach(number, score int) logic.Lit {
	s := sp.w.sides[number]
	var high []logic.Weighed
	for _, f := range s.rb.Risk.Factors {
		high = append(high, logic.Weighed{Lit: sp.condition(s, f.When).May, Weight: f.Add})
	}
	return sp.AtLeast(high, score)
}

package findings

// What makes a policy depend on when a sign-on is.

import (
	"briskwarden.example/briskwarden/language/ast"
)

// dated tells what in a policy depends on the time of the sign-on; "" when nothing does.
func dated(p *ast.Policy) string {
	for _, s := range p.Stages {
		if s.From.Given() {
			return "the date of a stage"
		}
	}
	for _, c := range ast.Conditions(p) {
		for compare := range ast.Comparisons(c) {
			age := (compare.Op == ast.Within || compare.Op == ast.NotWithin) && compare.Fact.Text != "scopes"
			if compare.Fact.Text == "time" || age {
				return "the time (" + compare.String() + ")"
			}
		}
	}
	for _, d := range ast.Demands(p) {
		if why := datedDemand(d); why != "" {
			return why
		}
	}
	return ""
}

func datedDemand(d ast.Demand) string {
	var parts []ast.Demand
	var fresh *ast.Fresh
	switch d := d.(type) {
	case *ast.DemandAnd:
		parts = d.Parts
	case *ast.DemandOr:
		parts = d.Parts
	case *ast.DemandParen:
		parts, fresh = []ast.Demand{d.X}, d.Fresh
	case *ast.DemandAtom:
		if fresh = d.Fresh; d.Grace.Given() {
			return "the grace of an enrolment"
		}
	}
	if fresh != nil && fresh.Kind == ast.EveryAge {
		return "an age (" + fresh.String() + ")"
	}
	for _, p := range parts {
		if why := datedDemand(p); why != "" {
			return why
		}
	}
	return ""
}

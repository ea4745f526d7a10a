package findings

import (
	"strings"

	"briskwarden.example/briskwarden/language/ast"
)

// dated tells what in a policy depends on the time of the sign-on; "" when nothing does.
func dated(p *ast.Policy) string {
	for _, s := range p.Stages {
		if s.From.Given() {
			return "the date of a stage"
		}
	}
	for _, c := range p.Cases {
		if why := datedCondition(c.Cond); why != "" {
			return why
		}
		if why := datedDemand(c.Outcome.Demand); why != "" {
			return why
		}
	}
	return ""
}

func datedCondition(c ast.Cond) string {
	var parts []ast.Cond
	switch c := c.(type) {
	case *ast.And:
		parts = c.Parts
	case *ast.Or:
		parts = c.Parts
	case *ast.Not:
		parts = []ast.Cond{c.X}
	case *ast.Surely:
		parts = []ast.Cond{c.X}
	case *ast.Paren:
		parts = []ast.Cond{c.X}
	case *ast.Compare:
		if c.Fact.Text == "time" || (c.Op == ast.Within || c.Op == ast.NotWithin) && !strings.HasPrefix(c.Fact.Text, "scopes") {
			return "the time (" + c.String() + ")"
		}
	}
	for _, p := range parts {
		if why := datedCondition(p); why != "" {
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

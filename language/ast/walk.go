package ast

// Going through a tree.

import "iter"

// Comparisons are all comparisons of a condition, as they stand. A nil condition has none.
func Comparisons(c Cond) iter.Seq[*Compare] {
	return func(yield func(*Compare) bool) { compareEach(c, yield) }
}

func compareEach(c Cond, yield func(*Compare) bool) bool {
	var parts []Cond
	switch c := c.(type) {
	case *And:
		parts = c.Parts
	case *Or:
		parts = c.Parts
	case *Not:
		parts = []Cond{c.X}
	case *Surely:
		parts = []Cond{c.X}
	case *Paren:
		parts = []Cond{c.X}
	case *Compare:
		return yield(c)
	}
	for _, p := range parts {
		if !compareEach(p, yield) {
			return false
		}
	}
	return true
}

// Atoms are all atoms of a demand, as they stand. A nil demand has none.
func Atoms(d Demand) iter.Seq[*DemandAtom] {
	return func(yield func(*DemandAtom) bool) { atomEach(d, yield) }
}

func atomEach(d Demand, yield func(*DemandAtom) bool) bool {
	var parts []Demand
	switch d := d.(type) {
	case *DemandAnd:
		parts = d.Parts
	case *DemandOr:
		parts = d.Parts
	case *DemandParen:
		parts = []Demand{d.X}
	case *DemandAtom:
		return yield(d)
	}
	for _, p := range parts {
		if !atomEach(p, yield) {
			return false
		}
	}
	return true
}

// Conditions are all conditions of a declaration.
func Conditions(d Decl) (list []Cond) {
	switch d := d.(type) {
	case *Baseline:
		for _, c := range d.Checks {
			list = append(list, c.Cond)
		}
	case *Risk:
		for _, f := range d.Factors {
			list = append(list, f.Cond)
		}
	case *Policy:
		for _, c := range d.Cases {
			list = append(list, c.Cond)
		}
	case *Waiver:
		list = append(list, d.When)
	case *Promise:
		list = append(list, d.When)
	case *Alert:
		list = append(list, d.When)
	}
	return list
}

// Demands are all demands of a declaration.
func Demands(d Decl) (list []Demand) {
	switch d := d.(type) {
	case *Rulebook:
		list = append(list, d.Floor)
		if d.BreakGlass != nil {
			list = append(list, d.BreakGlass.Demand)
		}
	case *NamedDemand:
		list = append(list, d.Demand)
	case *Policy:
		for _, c := range d.Cases {
			list = append(list, c.Outcome.Demand)
		}
	case *Promise:
		list = append(list, d.Without)
	}
	return list
}

// Selectors are all selectors of people in a declaration, the excepted ones included.
func Selectors(d Decl) (list []Selector) {
	add := func(selections ...Selection) {
		for _, s := range selections {
			list = append(append(list, s.Items...), s.Except...)
		}
	}
	switch d := d.(type) {
	case *Policy:
		add(d.Scope.Who)
		for _, s := range d.Stages {
			add(s.For)
		}
	case *Waiver:
		add(d.Scope.Who)
	case *Promise:
		add(d.Scope.Who)
	case *Issuer:
		add(d.Who)
	case *Alert:
		add(d.Who)
	}
	return list
}

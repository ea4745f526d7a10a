package ast

// Demands.

import (
	"fmt"
	"strings"

	"briskwarden.example/briskwarden/language/token"
)

// Outcome is what a case decides.
type Outcome struct {
	Pos     token.Pos
	Word    Name   // grant, review, step-up, block or abstain
	Group   Name   // of a review
	Demand  Demand // of a step-up
	Message Name   // of a block, where it has one
}

// Demand is what must be proved.
type Demand interface {
	Pos() token.Pos
	String() string // in the one layout, on one line
	demand()
}

type (
	// DemandAnd asks for all of its parts.
	DemandAnd struct{ Parts []Demand }
	// DemandOr asks for any of its parts, by preference.
	DemandOr struct{ Parts []Demand }
	// DemandParen is a demand in parentheses, with the freshness that holds inside.
	DemandParen struct {
		At    token.Pos
		X     Demand
		Fresh *Fresh
	}
	// DemandAtom is one thing that is asked for.
	DemandAtom struct {
		At    token.Pos
		Kind  AtomKind
		Name  Name // the method, aalN, named demand, change-password or baseline
		Fresh *Fresh
		Grace Duration // of an enrol
	}
)

// AtomKind tells the atoms of a demand apart.
type AtomKind uint8

// The kinds of atoms.
const (
	AtomName   AtomKind = iota // a method, aalN, named demand or change-password
	AtomDevice                 // device meets B
	AtomEnrol                  // enrol M grace D
)

// FreshKind says how fresh a proof must be.
type FreshKind uint8

// The kinds of freshness.
const (
	EveryTime FreshKind = iota
	EverySession
	EveryAge
)

// Fresh says how fresh a proof must be.
type Fresh struct {
	Pos       token.Pos
	Kind      FreshKind
	Age       Duration // of EveryAge
	AnyDevice bool
	PerApp    bool
}

func (*DemandAnd) demand()   {}
func (*DemandOr) demand()    {}
func (*DemandParen) demand() {}
func (*DemandAtom) demand()  {}

// Pos is where the demand begins.
func (d *DemandAnd) Pos() token.Pos { return d.Parts[0].Pos() }

// Pos is where the demand begins.
func (d *DemandOr) Pos() token.Pos { return d.Parts[0].Pos() }

// Pos is where the demand begins.
func (d *DemandParen) Pos() token.Pos { return d.At }

// Pos is where the demand begins.
func (d *DemandAtom) Pos() token.Pos { return d.At }

func (d *DemandAnd) String() string   { return join(d.Parts, " and ") }
func (d *DemandOr) String() string    { return join(d.Parts, " or ") }
func (d *DemandParen) String() string { return "(" + d.X.String() + ")" + d.Fresh.suffix() }

func (d *DemandAtom) String() string {
	switch d.Kind {
	case AtomDevice:
		return "device meets " + d.Name.String()
	case AtomEnrol:
		if d.Grace.Given() {
			return fmt.Sprintf("enrol %s grace %s", d.Name, d.Grace)
		}
		return "enrol " + d.Name.String()
	}
	return d.Name.String() + d.Fresh.suffix()
}

func (f *Fresh) suffix() string {
	if f == nil {
		return ""
	}
	return " " + f.String()
}

// String gives the freshness as it is written.
func (f *Fresh) String() string {
	var b strings.Builder
	switch f.Kind {
	case EveryTime:
		return "every time"
	case EverySession:
		b.WriteString("every session")
	case EveryAge:
		b.WriteString("every " + f.Age.String())
	}
	if f.AnyDevice {
		b.WriteString(" on any device")
	}
	if f.PerApp {
		b.WriteString(" per app")
	}
	return b.String()
}

// String gives the duration as it is written.
func (d Duration) String() string { return fmt.Sprintf("%d%c", d.Count, d.Unit) }

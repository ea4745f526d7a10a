package ast

// Conditions.

import (
	"strconv"
	"strings"

	"briskwarden.example/briskwarden/language/scanner"
	"briskwarden.example/briskwarden/language/token"
)

// Cond is a condition.
type Cond interface {
	Pos() token.Pos
	String() string // in the one layout, on one line
	cond()
}

type (
	// And holds when all of its parts do.
	And struct{ Parts []Cond }
	// Or holds when any of its parts does.
	Or struct{ Parts []Cond }
	// Not holds when its part does not.
	Not struct {
		At token.Pos
		X  Cond
	}
	// Surely holds when its part is known to.
	Surely struct {
		At token.Pos
		X  Cond
	}
	// Paren is a condition in parentheses.
	Paren struct {
		At token.Pos
		X  Cond
	}
	// Compare asks something of one fact.
	Compare struct {
		Fact   Name // "user" of "user has", "device" of "device meets"
		Op     Op
		OpPos  token.Pos
		Values []Name
		Known  KnownOp // "is known" and the like, after all
	}
)

// Op is the operator of a comparison.
type Op uint8

// The operators.
const (
	Bare Op = iota // the fact alone
	In
	NotIn
	Is
	IsNot
	AtLeast
	AtMost
	Before
	After
	Within
	NotWithin
	GE
	LE
	GT
	LT
	Has
	Meets
	Touch
)

var ops = [...]string{"", "in", "not in", "is", "is not", "at least", "at most", "before", "after", "within", "not within",
	">=", "<=", ">", "<", "has", "meets", "touch"}

// String gives the operator as it is written.
func (o Op) String() string { return ops[o] }

// KnownOp asks whether something is known.
type KnownOp uint8

// The questions after what is known; NoKnown asks nothing.
const (
	NoKnown KnownOp = iota
	IsKnown
	IsUnknown
	IsNotKnown
	IsNotUnknown
)

var knownOps = [...]string{"", "is known", "is unknown", "is not known", "is not unknown"}

// String gives the question as it is written.
func (k KnownOp) String() string { return knownOps[k] }

// WantsKnown reports whether the question is answered with true when the fact is known.
func (k KnownOp) WantsKnown() bool { return k == IsKnown || k == IsNotUnknown }

func (*And) cond()     {}
func (*Or) cond()      {}
func (*Not) cond()     {}
func (*Surely) cond()  {}
func (*Paren) cond()   {}
func (*Compare) cond() {}

// Pos is where the condition begins.
func (c *And) Pos() token.Pos { return c.Parts[0].Pos() }

// Pos is where the condition begins.
func (c *Or) Pos() token.Pos { return c.Parts[0].Pos() }

// Pos is where the condition begins.
func (c *Not) Pos() token.Pos { return c.At }

// Pos is where the condition begins.
func (c *Surely) Pos() token.Pos { return c.At }

// Pos is where the condition begins.
func (c *Paren) Pos() token.Pos { return c.At }

// Pos is where the condition begins.
func (c *Compare) Pos() token.Pos { return c.Fact.Pos }

func (c *And) String() string    { return join(c.Parts, " and ") }
func (c *Or) String() string     { return join(c.Parts, " or ") }
func (c *Not) String() string    { return "not " + c.X.String() }
func (c *Surely) String() string { return "surely " + c.X.String() }
func (c *Paren) String() string  { return "(" + c.X.String() + ")" }

func (c *Compare) String() string {
	words := []string{c.Fact.Text}
	if c.Op != Bare {
		words = append(words, c.Op.String(), Names(c.Values))
	}
	if c.Known != NoKnown {
		words = append(words, c.Known.String())
	}
	return strings.Join(words, " ")
}

// String gives the name as it was written: as a string where it stood as one or must be one.
func (n Name) String() string {
	if n.Quoted {
		return strconv.Quote(n.Text)
	}
	return scanner.Quote(n.Text)
}

// Names gives a comma list as it is written.
func Names(list []Name) string { return join(list, ", ") }

func join[T interface{ String() string }](parts []T, between string) string {
	texts := make([]string, len(parts))
	for i, p := range parts {
		texts[i] = p.String()
	}
	return strings.Join(texts, between)
}

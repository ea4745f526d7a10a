package condition

// How a condition is compiled, and what is said of one that cannot be.
//
// The tree of the language becomes a tree of nodes, one for one: "and", "or", "not" and "surely" over comparisons. A comparison
// looks its fact up in the table, which gives a type and a slot; the type says which operators it takes and how its values read.
// Names are bound at once, to numbers, sets of bits or codes, so that evaluating a node compares what the facts give for its slot
// with what stands in it, and looks nothing up. What is wrong is collected, with a node in its stead, and compiling goes on.

import (
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/schedule"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/token"
)

// Names binds the names that conditions use. What it cannot bind it reports itself.
type Names interface {
	// Set finds a declared set for a membership fact, "time", "user has", "device meets" or "scopes".
	Set(f *fact.Fact, name ast.Name) (id int, ok bool)
	// Countries are the codes that a country or a set of countries stands for.
	Countries(name ast.Name) ([]string, bool)
}

// Band is a band of the risk model: the whole scores from Low to High.
type Band struct {
	Name      string
	Low, High int
}

// Scope is where conditions are compiled.
type Scope struct {
	Facts  *fact.Table
	Names  Names
	Zone   *time.Location
	Risk   bool // there is a risk model
	Bands  []Band
	Errors *token.ErrorList

	// Compared, if it is not nil, is told of each comparison that is compiled.
	Compared func(c *ast.Compare, n Node)
}

// Kind says what a condition belongs to, and so which facts it may not ask about.
type Kind uint8

// The kinds of conditions.
const (
	General  Kind = iota
	OfCheck       // of a baseline
	OfFactor      // of the risk model
)

// operators are the operators that each type takes.
var operators = map[fact.Type][]ast.Op{
	fact.Membership:  {ast.In, ast.NotIn},
	fact.Addresses:   {ast.In, ast.NotIn},
	fact.YesNo:       {ast.Bare, ast.Is},
	fact.Word:        {ast.Is, ast.IsNot, ast.In, ast.NotIn},
	fact.CountryCode: {ast.In, ast.NotIn, ast.Is, ast.IsNot},
	fact.Level:       {ast.Is, ast.IsNot, ast.In, ast.NotIn, ast.AtLeast, ast.AtMost},
	fact.Band:        {ast.Is, ast.IsNot, ast.In, ast.NotIn, ast.AtLeast, ast.AtMost},
	fact.Clock:       {ast.In, ast.NotIn, ast.Before, ast.After},
	fact.Instant:     {ast.Within, ast.NotWithin},
	fact.Version:     {ast.GE, ast.LE, ast.GT, ast.LT, ast.Is, ast.IsNot},
	fact.Number:      {ast.GE, ast.LE, ast.GT, ast.LT},
	fact.Methods:     {ast.Has},
	fact.Baselines:   {ast.Meets},
	fact.ScopeSet:    {ast.Within, ast.Touch},
}

// Compile binds a condition. What is wrong with it is added to the scope's errors; the
// result is then of no use.
func (s *Scope) Compile(c ast.Cond, kind Kind) Node {
	k := &compiler{Scope: s, kind: kind}
	return k.node(c)
}

type compiler struct {
	*Scope
	kind Kind
}

func (k *compiler) node(c ast.Cond) Node {
	switch c := c.(type) {
	case *ast.And:
		return &andNode{k.parts(c.Parts)}
	case *ast.Or:
		return &orNode{k.parts(c.Parts)}
	case *ast.Not:
		return &notNode{k.node(c.X)}
	case *ast.Surely:
		return &surelyNode{k.node(c.X)}
	case *ast.Paren:
		return k.node(c.X)
	case *ast.Compare:
		return k.compare(c, nil)
	}
	panic(fmt.Sprintf("condition: no such node: %T", c))
}

func (k *compiler) parts(parts []ast.Cond) []Node {
	nodes := make([]Node, len(parts))
	var before *ast.Compare
	for i, p := range parts {
		c, ok := p.(*ast.Compare)
		if !ok {
			nodes[i], before = k.node(p), nil
			continue
		}
		nodes[i], before = k.compare(c, before), c
	}
	return nodes
}

// fail reports an error and returns a node that stands in for the broken one.
func (k *compiler) fail(n ast.Name, help, format string, args ...any) Node {
	k.Errors.Add(n.Pos, utf8.RuneCountInString(n.String()), help, format, args...)
	return &orNode{}
}

// compare compiles a comparison; before is the one just before it in the same "and" or "or".
func (k *compiler) compare(c, before *ast.Compare) Node {
	f, ok := k.Facts.Lookup(c.Fact.Text)
	if !ok {
		return k.noFact(c, before)
	}
	switch {
	case k.kind == OfCheck && (f.Slot == fact.Risk || f.Slot == fact.RiskBand || f.Slot == fact.DeviceMeets):
		return k.fail(c.Fact, "a check asks about the sign-on itself", "%q cannot stand in a check of a baseline", describe(c))
	case k.kind == OfFactor && (f.Slot == fact.Risk || f.Slot == fact.RiskBand):
		return k.fail(c.Fact, "a factor adds to the score and cannot ask for it", "%q cannot stand in a factor of the risk model", f.Name)
	case (f.Slot == fact.Risk || f.Slot == fact.RiskBand) && !k.Risk:
		return k.fail(c.Fact, "declare one with \"risk model { add … }\"; a score that the sign-on brings is reported.risk", "there is no risk model")
	case f.Slot == fact.RiskBand && len(k.Bands) == 0:
		return k.fail(c.Fact, "add \"band low to 24, …\" to it", "the risk model has no bands")
	case c.Op == ast.Bare && c.Known != ast.NoKnown:
		n := &knownNode{f, c.Known.WantsKnown()}
		if k.Compared != nil {
			k.Compared(c, n)
		}
		return n
	case !slices.Contains(operators[f.Type], c.Op):
		return k.wrongOperator(c, f)
	}
	n := k.value(c, f)
	if c.Known != ast.NoKnown {
		n = &knownOfNode{n, describe(c), c.Known.WantsKnown()}
	}
	if k.Compared != nil {
		k.Compared(c, n)
	}
	return n
}

func describe(c *ast.Compare) string {
	plain := *c
	plain.Known = ast.NoKnown
	return plain.String()
}

func (k *compiler) noFact(c, before *ast.Compare) Node {
	help := spell.Hint(c.Fact.Text, k.Facts.Names())
	if c.Op == ast.Bare && before != nil && len(before.Values) > 0 && before.Op != ast.Is && before.Op != ast.IsNot {
		help = fmt.Sprintf("inside a list, write a comma: %s, %s", before, c.Fact)
	} else if help == "" && (strings.HasPrefix(c.Fact.Text, "user.") || strings.HasPrefix(c.Fact.Text, "device.")) {
		help = fmt.Sprintf("declare it: attribute %s %s", c.Fact.Text, typeMeant(c).Keyword())
	}
	if word := strings.ToLower(c.Fact.Text); word != c.Fact.Text && slices.Contains([]string{"and", "or", "not", "surely"}, word) {
		help = "write it in small letters: " + word
	}
	return k.fail(c.Fact, help, "there is no fact %q", c.Fact.Text)
}

// typeMeant guesses the type of an attribute by what is asked about it.
func typeMeant(c *ast.Compare) fact.Type {
	switch {
	case c.Op == ast.Bare && c.Known == ast.NoKnown:
		return fact.YesNo
	case c.Op == ast.GE || c.Op == ast.LE || c.Op == ast.GT || c.Op == ast.LT:
		return fact.Number
	case c.Op == ast.Within || c.Op == ast.NotWithin || c.Op == ast.Before || c.Op == ast.After:
		return fact.Date
	case len(c.Values) == 1:
		return TypeOf(c.Values[0].Text)
	}
	return fact.Word
}

// TypeOf guesses the type of an attribute by one of its values.
func TypeOf(value string) fact.Type {
	_, isNumber := ParseNumber(value)
	_, notDate := schedule.ParseDate(value)
	switch {
	case value == "yes" || value == "no":
		return fact.YesNo
	case isNumber && value != "":
		return fact.Number
	case notDate == nil:
		return fact.Date
	}
	return fact.Word
}

func (k *compiler) wrongOperator(c *ast.Compare, f *fact.Fact) Node {
	known := operators[f.Type]
	texts := make([]string, 0, len(known))
	for _, op := range known {
		switch {
		case op == ast.Bare:
			texts = append(texts, "nothing at all")
		case f.Type == fact.YesNo:
			texts = append(texts, `"is yes"`, `"is no"`)
		default:
			texts = append(texts, fmt.Sprintf("%q", op))
		}
	}
	if len(texts) == 0 {
		return k.fail(c.Fact, fmt.Sprintf("ask for it as in: time after %s", f.Name), "%q is a date: no operator takes it", f.Name)
	}
	help := "after it stands " + joinOr(texts)
	at := c.Fact
	if c.Op == ast.Bare {
		return k.fail(at, help, "%q is a %s: alone it says nothing", f.Name, f.Type)
	}
	at = ast.Name{Pos: c.OpPos, Text: c.Op.String()}
	return k.fail(at, help, "%q is a %s: it does not take %q", f.Name, f.Type, c.Op)
}

func joinOr(texts []string) string {
	if n := len(texts); n > 1 {
		return strings.Join(texts[:n-1], ", ") + " or " + texts[n-1]
	}
	return texts[0]
}

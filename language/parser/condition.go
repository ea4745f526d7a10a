package parser

// Conditions and durations.

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/token"
)

func (p *parser) condition() ast.Cond {
	parts := []ast.Cond{p.conjunction()}
	for p.accept("or") {
		parts = append(parts, p.conjunction())
	}
	if len(parts) == 1 {
		return parts[0]
	}
	return &ast.Or{Parts: parts}
}

func (p *parser) conjunction() ast.Cond {
	parts := []ast.Cond{p.unary()}
	for p.accept("and") {
		parts = append(parts, p.unary())
	}
	if len(parts) == 1 {
		return parts[0]
	}
	return &ast.And{Parts: parts}
}

func (p *parser) unary() ast.Cond {
	t := p.peek()
	switch {
	case p.accept("not"):
		p.nest()
		defer func() { p.depth-- }()
		return &ast.Not{At: t.Pos, X: p.unary()}
	case p.accept("surely"):
		p.nest()
		defer func() { p.depth-- }()
		return &ast.Surely{At: t.Pos, X: p.unary()}
	case t.Kind == token.LParen:
		p.take()
		p.nest()
		defer func() { p.depth-- }()
		x := p.condition()
		p.mark(token.RParen)
		return &ast.Paren{At: t.Pos, X: x}
	}
	return p.comparison()
}

var marksAsOps = map[token.Kind]ast.Op{token.GE: ast.GE, token.LE: ast.LE, token.GT: ast.GT, token.LT: ast.LT}

func (p *parser) comparison() ast.Cond {
	if t := p.peek(); t.Kind == token.String {
		p.fail("facts are bare words, such as device.managed", "expected a fact, found %s", t.Describe())
	}
	c := &ast.Compare{Fact: p.name("a fact")}
	t := p.peek()
	c.OpPos = t.Pos
	if op, ok := marksAsOps[t.Kind]; ok {
		p.take()
		c.Op, c.Values = op, []ast.Name{p.name("a value")}
		return c
	}
	switch {
	case c.Fact.Text == "user":
		p.word("has")
		c.Op, c.Values = ast.Has, p.names("a method or demand")
	case c.Fact.Text == "device":
		p.word("meets")
		c.Op, c.Values = ast.Meets, []ast.Name{p.name("a baseline")}
	case p.accept("in"):
		c.Op, c.Values = ast.In, p.names("a value")
	case p.accept("touch"):
		c.Op, c.Values = ast.Touch, p.names("a set of scopes")
	case p.accept("within"):
		c.Op, c.Values = ast.Within, p.names("a duration")
	case p.accept("not"):
		if p.word("in", "within").Text == "in" {
			c.Op, c.Values = ast.NotIn, p.names("a value")
		} else {
			c.Op, c.Values = ast.NotWithin, p.names("a duration")
		}
	case p.accept("before"):
		c.Op, c.Values = ast.Before, []ast.Name{p.name("a date or instant")}
	case p.accept("after"):
		c.Op, c.Values = ast.After, []ast.Name{p.name("a date or instant")}
	case !p.atLimit() && p.accept("at"):
		c.Op = ast.AtLeast
		if p.word("least", "most").Text == "most" {
			c.Op = ast.AtMost
		}
		c.Values = []ast.Name{p.name("a value")}
	}
	if p.is("is") {
		p.isSomething(c)
	}
	return c
}

// isSomething parses what begins with "is": a question whether something is known, or for one value.
func (p *parser) isSomething(c *ast.Compare) {
	t := p.take()
	not := p.accept("not")
	if (p.is("known") || p.is("unknown")) && (c.Op == ast.Bare || c.Op == ast.Has || c.Op == ast.Meets) {
		known := p.take().Text == "known"
		c.Known = map[[2]bool]ast.KnownOp{{false, true}: ast.IsKnown, {false, false}: ast.IsUnknown,
			{true, true}: ast.IsNotKnown, {true, false}: ast.IsNotUnknown}[[2]bool{not, known}]
		return
	}
	if c.Op != ast.Bare {
		p.report(t, `"is known" and "is unknown" ask about a fact: write them after it alone`, "expected the end of the comparison, found %s", t.Describe())
		panic(bail{})
	}
	c.Op = ast.Is
	if not {
		c.Op = ast.IsNot
	}
	c.Values = []ast.Name{p.name("a value")}
}

func (p *parser) demand() ast.Demand {
	parts := []ast.Demand{p.demandAnd()}
	for p.accept("or") {
		parts = append(parts, p.demandAnd())
	}
	if p.peek().Kind == token.Comma {
		p.fail(`write "or" where either will do, "and" where both are asked`, `"," does not stand between methods and demands`)
	}
	if len(parts) == 1 {
		return parts[0]
	}
	return &ast.DemandOr{Parts: parts}
}

func (p *parser) demandAnd() ast.Demand {
	parts := []ast.Demand{p.demandAtom()}
	for p.accept("and") {
		parts = append(parts, p.demandAtom())
	}
	if len(parts) == 1 {
		return parts[0]
	}
	return &ast.DemandAnd{Parts: parts}
}

func (p *parser) demandAtom() ast.Demand {
	t := p.peek()
	if t.Kind == token.LParen {
		p.take()
		p.nest()
		defer func() { p.depth-- }()
		d := &ast.DemandParen{At: t.Pos, X: p.demand()}
		p.mark(token.RParen)
		d.Fresh = p.fresh()
		return d
	}
	a := &ast.DemandAtom{At: t.Pos}
	switch {
	case p.accept("device"):
		p.word("meets")
		a.Kind, a.Name = ast.AtomDevice, p.name("a baseline")
		p.noFresh("device meets")
	case p.accept("enrol"):
		a.Kind, a.Name = ast.AtomEnrol, p.name("a method")
		if p.accept("grace") {
			a.Grace = p.duration()
		}
		p.noFresh("enrol")
	case p.is("not") || p.is("surely"):
		p.fail("a demand knows only \"and\", \"or\" and parentheses", "expected a method or demand, found %s", t.Describe())
	default:
		a.Name = p.name("a method or demand")
		a.Fresh = p.fresh()
	}
	return a
}

func (p *parser) noFresh(what string) {
	if p.is("every") {
		p.fail("leave it out", "%q takes no freshness", what)
	}
}

// fresh parses a freshness if one is next, else returns nil.
func (p *parser) fresh() *ast.Fresh {
	t := p.peek()
	if !p.accept("every") {
		return nil
	}
	f := &ast.Fresh{Pos: t.Pos}
	switch {
	case p.accept("time"):
		return f
	case p.accept("session"):
		f.Kind = ast.EverySession
	default:
		if p.peek().Kind != token.Word {
			p.want(`"time", "session" or a duration`)
		}
		f.Kind, f.Age = ast.EveryAge, p.duration()
		if p.accept("on") {
			p.word("any")
			p.word("device")
			f.AnyDevice = true
		}
	}
	if p.accept("per") {
		p.word("app")
		f.PerApp = true
	}
	return f
}

// maxDuration is the longest duration, in the unit that it is written in: 100 years.
var maxDuration = map[byte]int64{'m': 100 * 366 * 1440, 'h': 100 * 366 * 24, 'd': 100 * 366, 'w': 100 * 53}

func (p *parser) duration() ast.Duration {
	t := p.peek()
	if t.Kind != token.Word {
		p.want("a duration such as 12h")
	}
	d, err := ParseDuration(t.Text)
	if err != nil {
		help := "write a whole number and m (minutes), h, d or w: 30m, 12h, 21d"
		if short := ShortDuration(t.Text, p.peekAfter().Text); short != "" {
			help = "write " + short
		}
		p.fail(help, "%v", err)
	}
	p.take()
	d.Pos = t.Pos
	return d
}

// ShortDuration is a duration that is written out, such as "7 days" or "2weeks", as it is
// written here; "" where it is none. The next word counts where the unit does not stand with the number.
func ShortDuration(text, next string) string {
	number := strings.TrimRight(text, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ")
	unit := strings.ToLower(text[len(number):])
	if unit == "" {
		unit = strings.ToLower(next)
	}
	if _, err := strconv.ParseUint(number, 10, 32); err != nil {
		return ""
	}
	for _, known := range []string{"minutes", "hours", "days", "weeks"} {
		if unit == known || unit == strings.TrimSuffix(known, "s") || unit == known[:1] || known == "minutes" && unit == "min" || known == "hours" && unit == "hrs" {
			return number + known[:1]
		}
	}
	return ""
}

// ParseDuration reads a duration such as 12h. The result carries no position.
func ParseDuration(text string) (ast.Duration, error) {
	if len(text) >= 2 {
		unit := text[len(text)-1]
		most, known := maxDuration[unit]
		n, err := strconv.ParseUint(text[:len(text)-1], 10, 64)
		if known && err == nil {
			if n > math.MaxInt64 || int64(n) > most {
				return ast.Duration{}, fmt.Errorf("the duration %q is longer than 100 years", text)
			}
			return ast.Duration{Count: int64(n), Unit: unit}, nil
		}
	}
	return ast.Duration{}, fmt.Errorf("expected a duration, found %q", text)
}

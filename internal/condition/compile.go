package condition

import (
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/schedule"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/parser"
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
}

// Place says where a condition stands, and so which facts it may not ask about.
type Place uint8

// The places of conditions.
const (
	Anywhere Place = iota
	InCheck        // of a baseline
	InFactor       // of the risk model
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
func (s *Scope) Compile(c ast.Cond, place Place) Node {
	k := &compiler{Scope: s, place: place}
	return k.node(c)
}

type compiler struct {
	*Scope
	place Place
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
	case k.place == InCheck && (f.Slot == fact.Risk || f.Slot == fact.RiskBand || f.Slot == fact.DeviceMeets):
		return k.fail(c.Fact, "a check asks about the sign-on itself", "%q cannot stand in a check of a baseline", describe(c))
	case k.place == InFactor && (f.Slot == fact.Risk || f.Slot == fact.RiskBand):
		return k.fail(c.Fact, "a factor adds to the score and cannot ask for it", "%q cannot stand in a factor of the risk model", f.Name)
	case (f.Slot == fact.Risk || f.Slot == fact.RiskBand) && !k.Risk:
		return k.fail(c.Fact, "declare one with \"risk model { add … }\"; a score that the sign-on brings is reported.risk", "there is no risk model")
	case f.Slot == fact.RiskBand && len(k.Bands) == 0:
		return k.fail(c.Fact, "add \"band low to 24, …\" to it", "the risk model has no bands")
	case c.Op == ast.Bare && c.Known != ast.NoKnown:
		return &knownNode{f, c.Known.WantsKnown()}
	case !slices.Contains(operators[f.Type], c.Op):
		return k.wrongOperator(c, f)
	}
	n := k.value(c, f)
	if c.Known != ast.NoKnown {
		return &knownOfNode{n, describe(c), c.Known.WantsKnown()}
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

// value compiles a comparison whose operator suits the fact.
func (k *compiler) value(c *ast.Compare, f *fact.Fact) Node {
	var n Node
	switch f.Type {
	case fact.Membership, fact.Addresses, fact.Methods, fact.Baselines:
		n = &memberNode{f, k.sets(c, f), written(c.Values)}
	case fact.ScopeSet:
		return &scopesNode{f, c.Op == ast.Within, k.sets(c, f), ast.Names(c.Values)}
	case fact.YesNo:
		return k.yesNo(c, f)
	case fact.Word, fact.Level:
		n = k.words(c, f)
	case fact.CountryCode:
		n = k.countries(c, f)
	case fact.Band:
		n = k.bands(c, f)
	case fact.Clock:
		if c.Op == ast.Before || c.Op == ast.After {
			return k.time(c, f)
		}
		n = &memberNode{f, k.sets(c, f), written(c.Values)}
	case fact.Instant:
		n = k.within(c, f)
	case fact.Version:
		bound, ok := parseVersion(c.Values[0].Text)
		if !ok {
			return k.fail(c.Values[0], "write whole numbers with dots between them: 17.2", "%q is no version", c.Values[0].Text)
		}
		return &versionNode{f, c.Op, bound}
	default:
		return k.number(c, f)
	}
	if c.Op == ast.NotIn || c.Op == ast.IsNot || c.Op == ast.NotWithin {
		return &notNode{n}
	}
	return n
}

func (k *compiler) sets(c *ast.Compare, f *fact.Fact) []int {
	ids := make([]int, 0, len(c.Values))
	for _, v := range c.Values {
		if id, ok := k.Names.Set(f, v); ok {
			ids = append(ids, id)
		}
	}
	return ids
}

func (k *compiler) yesNo(c *ast.Compare, f *fact.Fact) Node {
	n := &yesNoNode{f}
	if c.Op == ast.Bare {
		return n
	}
	switch v := c.Values[0]; v.Text {
	case "yes":
		return n
	case "no":
		return &notNode{n}
	default:
		return k.fail(v, "write \"is yes\" or \"is no\"", "%q is yes or no, not %q", f.Name, v.Text)
	}
}

func (k *compiler) words(c *ast.Compare, f *fact.Fact) Node {
	n := &wordNode{fact: f}
	for _, v := range c.Values {
		if f.Values == nil {
			n.values = append(n.values, v.Text)
			continue
		}
		i := slices.Index(f.Values, v.Text)
		if i < 0 {
			return k.fail(v, nearestOf(v.Text, f.Values), "%q is no value of %q", v.Text, f.Name)
		}
		switch c.Op {
		case ast.AtLeast:
			n.values = f.Values[i:]
		case ast.AtMost:
			n.values = f.Values[:i+1]
		default:
			n.values = append(n.values, v.Text)
		}
	}
	return n
}

func nearestOf(text string, known []string) string {
	if hint := spell.Hint(text, known); hint != "" {
		return hint
	}
	return "known here: " + strings.Join(known, ", ")
}

func (k *compiler) countries(c *ast.Compare, f *fact.Fact) Node {
	n := &countryNode{fact: f, set: map[string]bool{}, names: ast.Names(c.Values)}
	for _, v := range c.Values {
		codes, _ := k.Names.Countries(v)
		for _, code := range codes {
			n.set[code] = true
		}
	}
	return n
}

func (k *compiler) bands(c *ast.Compare, f *fact.Fact) Node {
	n := &bandNode{fact: f}
	var wanted [101]bool
	names := make([]string, len(k.Bands))
	for i, b := range k.Bands {
		names[i] = b.Name
	}
	for _, v := range c.Values {
		i := slices.Index(names, v.Text)
		if i < 0 {
			return k.fail(v, nearestOf(v.Text, names), "the risk model has no band %q", v.Text)
		}
		low, high := k.Bands[i].Low, k.Bands[i].High
		switch c.Op {
		case ast.AtLeast:
			high = 100
		case ast.AtMost:
			low = 0
		}
		for score := low; score <= high; score++ {
			wanted[score] = true
		}
	}
	for score, w := range wanted {
		n.below[score+1] = n.below[score]
		if w {
			n.below[score+1]++
		}
	}
	return n
}

func (k *compiler) within(c *ast.Compare, f *fact.Fact) Node {
	v := c.Values[0]
	d, err := parser.ParseDuration(v.Text)
	if err != nil || v.Quoted || len(c.Values) > 1 {
		help := "write one whole number and m, h, d or w: within 24h"
		if short := parser.ShortDuration(v.Text, ""); short != "" {
			help = "write " + short
		}
		return k.fail(c.Values[len(c.Values)-1], help, "%q asks for one age", "within")
	}
	return &withinNode{f, demand.Duration(d)}
}

func (k *compiler) time(c *ast.Compare, f *fact.Fact) Node {
	v := c.Values[0]
	n := &timeNode{fact: f, before: c.Op == ast.Before}
	if a, ok := k.Facts.Lookup(v.Text); ok {
		if a.Type != fact.Date {
			return k.fail(v, "name a date, an instant or an attribute that is a date", "%q is no date but a %s", v.Text, a.Type)
		}
		n.attribute = a
		return n
	}
	if d, err := schedule.ParseDate(v.Text); err == nil {
		if n.bound = d.Start(k.Zone); !n.before {
			n.bound = d.Next().Start(k.Zone)
		}
		return n
	}
	t, err := schedule.ParseInstant(v.Text, k.Zone)
	if err != nil {
		help := "write a date (2026-12-01), an instant (2026-12-01T08:00) or an attribute that is a date"
		if hint := spell.Hint(v.Text, k.Facts.Names()); hint != "" {
			help = hint
		} else if strings.HasPrefix(v.Text, "user.") || strings.HasPrefix(v.Text, "device.") {
			help = fmt.Sprintf("declare it: attribute %s date", v.Text)
		}
		return k.fail(v, help, "%q is neither a date nor an instant", v.Text)
	}
	n.bound, n.strict = t, true
	return n
}

func (k *compiler) number(c *ast.Compare, f *fact.Fact) Node {
	v := c.Values[0]
	x, ok := ParseNumber(v.Text)
	if !ok {
		return k.fail(v, "write a number such as 80 or 0.5", "%q is no number", v.Text)
	}
	return &numberNode{f, c.Op, x}
}

// ParseNumber reads a decimal number.
func ParseNumber(text string) (float64, bool) {
	for i := range len(text) {
		if !strings.ContainsRune("0123456789.-+", rune(text[i])) {
			return 0, false
		}
	}
	x, err := strconv.ParseFloat(text, 64)
	return x, err == nil && !math.IsInf(x, 0)
}

// written are the names as they are written.
func written(list []ast.Name) []string {
	names := make([]string, len(list))
	for i, n := range list {
		names[i] = n.String()
	}
	return names
}

package demand

// How a demand is compiled.

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode/utf8"

	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/token"
)

// Names are the names that a demand can use.
type Names struct {
	Methods  *Methods
	Named    map[string]ast.Demand
	Baseline func(ast.Name) (id int, ok bool) // reports an unknown one itself
	IsFact   func(name string) bool           // whether a condition could ask about it
}

// maxNodes is how large a demand may grow when its named demands are written out.
const maxNodes = 4096

// FixedNames are the names of atoms that are neither methods nor named demands, the levels first and in order.
var FixedNames = []string{"aal1", "aal2", "aal3", ChangePassword}

// ChangePassword is the atom, and the record, of a change of the password.
const ChangePassword = "change-password"

// Level reads the name of an assurance level, aal1 to aal3.
func Level(name string) (level int, ok bool) {
	if i := slices.Index(FixedNames[:3], name); i >= 0 {
		return i + 1, true
	}
	return 0, false
}

// Compile binds the names of a demand. What is wrong with it is added to errors; the
// result is then of no use.
func (names *Names) Compile(d ast.Demand, errors *token.ErrorList) *Demand {
	return names.compile(d, errors, nil, Fresh{Kind: ast.EverySession})
}

// CompileEver binds the names of a demand in which an atom that says nothing of freshness is met by proof
// of any age, session, device and app, as in a promise.
func (names *Names) CompileEver(d ast.Demand, errors *token.ErrorList) *Demand {
	return names.compile(d, errors, nil, Fresh{Kind: ast.EveryAge, Ever: true, AnyDevice: true})
}

// CompileNamed checks the declaration of a named demand. What is wrong inside a named
// demand is reported here alone, and not where the demand is used.
func (names *Names) CompileNamed(decl *ast.NamedDemand, errors *token.ErrorList) {
	names.compile(decl.Demand, errors, &decl.Name, Fresh{Kind: ast.EverySession})
}

func (names *Names) compile(d ast.Demand, errors *token.ErrorList, declared *ast.Name, unsaid Fresh) *Demand {
	c := &compiler{names: names, errors: errors}
	at := d.Pos()
	if declared != nil {
		c.stack = []string{declared.Text}
		at = declared.Pos
	}
	root := c.node(d, unsaid, false)
	if c.nodes > maxNodes {
		errors.Add(at, 1, "make it smaller", "the demand has more than %d parts when its named demands are written out", maxNodes)
	}
	if c.circle != "" && declared != nil {
		errors.Add(at, utf8.RuneCountInString(declared.Text), "take one of them out", "demands form a circle: %s", c.circle)
	}
	return &Demand{Text: d.String(), root: root, enrols: c.enrols, ages: c.ages}
}

// CompileWithin binds one name of "user has": a method, an assurance level or a named demand of those alone.
func (names *Names) CompileWithin(name ast.Name, errors *token.ErrorList) *Demand {
	before := len(*errors)
	d := names.Compile(&ast.DemandAtom{At: name.Pos, Name: name}, errors)
	if len(*errors) > before {
		return d
	}
	e := evaluation{terms: &Terms{}}
	e.atoms(d.root, func(n *node) {
		if n.op != method && n.op != level && len(*errors) == before {
			errors.Add(name.Pos, utf8.RuneCountInString(name.Text), "ask for methods, aalN, or demands of those alone",
				"%q asks for more than methods: nobody is enrolled in that", name.Text)
		}
	})
	return d
}

type compiler struct {
	names  *Names
	errors *token.ErrorList
	stack  []string // the named demands that are being written out
	circle string   // the first circle that was met
	nodes  int
	enrols bool
	ages   bool
}

func (c *compiler) fail(n ast.Name, help, format string, args ...any) *node {
	c.errors.Add(n.Pos, utf8.RuneCountInString(n.Text), help, format, args...)
	return &node{op: and}
}

func (c *compiler) node(d ast.Demand, inherited Fresh, underOr bool) *node {
	if c.nodes++; c.nodes > maxNodes {
		return &node{op: and}
	}
	switch d := d.(type) {
	case *ast.DemandAnd:
		return c.list(and, d.Parts, inherited, underOr)
	case *ast.DemandOr:
		return c.list(or, d.Parts, inherited, true)
	case *ast.DemandParen:
		return c.node(d.X, freshness(d.Fresh, inherited), underOr)
	case *ast.DemandAtom:
		return c.atom(d, inherited, underOr)
	}
	panic(fmt.Sprintf("demand: no such node: %T", d))
}

func (c *compiler) list(o op, parts []ast.Demand, inherited Fresh, underOr bool) *node {
	n := &node{op: o}
	for _, p := range parts {
		n.parts = append(n.parts, c.node(p, inherited, underOr))
	}
	return n
}

// freshness is that inside: its own if it has one, else what holds outside.
func freshness(own *ast.Fresh, inherited Fresh) Fresh {
	if own == nil {
		return inherited
	}
	return Fresh{Kind: own.Kind, Age: own.Age.Elapsed(), AnyDevice: own.AnyDevice, PerApp: own.PerApp}
}

func (c *compiler) atom(d *ast.DemandAtom, inherited Fresh, underOr bool) *node {
	switch d.Kind {
	case ast.AtomDevice:
		id, _ := c.names.Baseline(d.Name)
		return &node{op: deviceMeets, baseline: id}
	case ast.AtomEnrol:
		return c.enrol(d, underOr)
	}
	fresh := freshness(d.Fresh, inherited)
	c.ages = c.ages || fresh.Kind != ast.EverySession
	name := d.Name.Text
	if m, ok := c.names.Methods.Lookup(name); ok {
		return &node{op: method, method: m, fresh: fresh}
	}
	if inner, ok := c.names.Named[name]; ok {
		return c.named(d.Name, inner, fresh, underOr)
	}
	if n, ok := Level(name); ok {
		return &node{op: level, level: n, fresh: fresh}
	}
	if name == ChangePassword {
		return &node{op: changePassword, fresh: fresh}
	}
	if c.names.IsFact != nil && c.names.IsFact(name) {
		return c.fail(d.Name, fmt.Sprintf("ask about it before the outcome: when %s; what a device must be, a demand asks with \"device meets BASELINE\"", name),
			"%q is a fact, and no method or demand", name)
	}
	return c.fail(d.Name, c.nearest(name), "there is no method or demand %q", name)
}

func (c *compiler) nearest(name string) string {
	candidates := append(slices.Clone(c.names.Methods.Names()), FixedNames...)
	candidates = append(candidates, slices.Sorted(maps.Keys(c.names.Named))...)
	return NearestOrAll(name, candidates)
}

// NearestOrAll suggests the name that was likely meant, or else lists those there are.
func NearestOrAll(name string, known []string) string {
	if hint := spell.Hint(name, known); hint != "" {
		return hint
	}
	const most = 40
	text := strings.Join(known[:min(len(known), most)], ", ")
	if more := len(known) - most; more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return "known here: " + text
}

// named writes out a named demand. Errors inside it belong to its own declaration.
func (c *compiler) named(name ast.Name, inner ast.Demand, fresh Fresh, underOr bool) *node {
	if i := slices.Index(c.stack, name.Text); i >= 0 {
		if c.circle == "" {
			c.circle = strings.Join(append(slices.Clone(c.stack[i:]), name.Text), " → ")
		}
		return &node{op: and}
	}
	var elsewhere token.ErrorList
	errors, enrols := c.errors, c.enrols
	c.stack, c.errors, c.enrols = append(c.stack, name.Text), &elsewhere, false
	n := &node{op: named, name: name.Text, parts: []*node{c.node(inner, fresh, false)}}
	c.stack, c.errors = c.stack[:len(c.stack)-1], errors
	if c.enrols && underOr {
		return c.fail(name, underOrHelp, "%q holds an enrol, which never stands under \"or\"", name.Text)
	}
	c.enrols = c.enrols || enrols
	return n
}

const underOrHelp = "ask for it with \"and\", beside what is proved"

func (c *compiler) enrol(d *ast.DemandAtom, underOr bool) *node {
	c.enrols = true
	m, ok := c.names.Methods.Lookup(d.Name.Text)
	if !ok {
		return c.fail(d.Name, NearestOrAll(d.Name.Text, c.names.Methods.Names()), "there is no method %q to enrol in", d.Name.Text)
	}
	if underOr {
		return c.fail(d.Name, underOrHelp, "an enrol never stands under \"or\"")
	}
	return &node{op: enrol, method: m, grace: d.Grace.Elapsed(), hasGrace: d.Grace.Given()}
}

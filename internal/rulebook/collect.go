package rulebook

// The declarations of all files, by kind and name.

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/schedule"
	"briskwarden.example/briskwarden/internal/spell"
	"briskwarden.example/briskwarden/language/ast"
)

// table holds the declarations of one kind, by name and as they stand.
type table[D ast.Decl] struct {
	byName map[string]D
	list   []D
}

// declarations are all that was declared, by kind.
type declarations struct {
	rulebook   *ast.Rulebook
	attributes table[*ast.Attribute]
	users      table[*ast.User]
	groups     table[*ast.Group]
	apps       table[*ast.App]
	actions    table[*ast.Action]
	networks   table[*ast.Network]
	countries  table[*ast.Countries]
	schedules  table[*ast.Schedule]
	methods    table[*ast.Method]
	demands    table[*ast.NamedDemand]
	baselines  table[*ast.Baseline]
	risk       *ast.Risk
	policies   table[*ast.Policy]
	waivers    table[*ast.Waiver]
	scopes     table[*ast.Scopes]
	expects    table[*ast.Expect]
	promises   table[*ast.Promise]
	callers    table[*ast.Caller]
	issuers    table[*ast.Issuer]
	signals    table[*ast.Signals]
	alerts     table[*ast.Alert]
	digests    table[*ast.Digest]
}

func add[D ast.Decl](r *resolver, t *table[D], d D) {
	name := d.Head().Name
	if t.byName == nil {
		t.byName = map[string]D{}
	}
	if first, ok := t.byName[name.Text]; ok {
		r.twice(d.Head(), first.Head())
		return
	}
	t.byName[name.Text] = d
	t.list = append(t.list, d)
}

func (r *resolver) twice(again, first *ast.Block) {
	r.fail(again.Name, fmt.Sprintf("the first stands at %s; rename or remove one", first.Name.Pos),
		"%s %s is declared twice", again.Keyword.Text, again.Name)
}

// collect sorts the declarations of all files by kind.
func (r *resolver) collect() {
	for d := range r.rb.Declarations() {
		r.declaration(d)
	}
	for _, d := range r.decls.demands.list {
		if m, ok := r.decls.methods.byName[d.Name.Text]; ok {
			r.fail(d.Name, fmt.Sprintf("the method stands at %s; methods and demands share their names", m.Name.Pos),
				"%s is declared twice", d.Name)
		}
	}
}

func (r *resolver) declaration(d ast.Decl) {
	c := &r.decls
	switch d := d.(type) {
	case *ast.Rulebook:
		r.rulebookBlock(d)
	case *ast.Attribute:
		add(r, &c.attributes, d)
	case *ast.User:
		add(r, &c.users, d)
	case *ast.Group:
		add(r, &c.groups, d)
	case *ast.App:
		add(r, &c.apps, d)
	case *ast.Action:
		add(r, &c.actions, d)
	case *ast.Network:
		add(r, &c.networks, d)
	case *ast.Countries:
		add(r, &c.countries, d)
	case *ast.Schedule:
		add(r, &c.schedules, d)
	case *ast.Method:
		add(r, &c.methods, d)
	case *ast.NamedDemand:
		add(r, &c.demands, d)
	case *ast.Baseline:
		add(r, &c.baselines, d)
	case *ast.Risk:
		if c.risk != nil {
			r.twice(&d.Block, &c.risk.Block)
			return
		}
		c.risk = d
	case *ast.Policy:
		add(r, &c.policies, d)
	case *ast.Waiver:
		add(r, &c.waivers, d)
	case *ast.Scopes:
		add(r, &c.scopes, d)
	case *ast.Expect:
		add(r, &c.expects, d)
	case *ast.Promise:
		add(r, &c.promises, d)
	case *ast.Caller:
		add(r, &c.callers, d)
	case *ast.Issuer:
		add(r, &c.issuers, d)
	case *ast.Signals:
		add(r, &c.signals, d)
	case *ast.Alert:
		add(r, &c.alerts, d)
	case *ast.Digest:
		add(r, &c.digests, d)
	}
}

func (r *resolver) rulebookBlock(d *ast.Rulebook) {
	switch {
	case d.Keyword.Pos.File != TopFile:
		r.fail(d.Name, "move it there", "the rulebook block stands in %s alone", TopFile)
	case r.decls.rulebook != nil:
		r.twice(&d.Block, &r.decls.rulebook.Block)
		return
	}
	r.decls.rulebook = d
}

// fail reports an error at a name.
func (r *resolver) fail(n ast.Name, help, format string, args ...any) {
	r.errors.Add(n.Pos, utf8.RuneCountInString(n.String()), help, format, args...)
}

// warn reports a warning at a name.
func (r *resolver) warn(code diag.Code, n ast.Name, help, format string, args ...any) {
	r.found.Add(code, diag.Warning, n.Pos, utf8.RuneCountInString(n.String()), help, format, args...)
}

// unknown reports a name that nothing declares.
func (r *resolver) unknown(n ast.Name, what string, known []string) {
	help := fmt.Sprintf("declare it: %s %s", what, n)
	if what == "countries" {
		what = "set of countries"
	}
	hint := spell.Hint(n.Text, known)
	switch {
	case hint != "":
		help = hint
	case strings.ContainsRune(n.Text, ','):
		help = fmt.Sprintf("a text in quotes is one name; several stand with commas between: %s", strings.Join(splitNames(n.Text), ", "))
	case what == "method":
		help = demand.NearestOrAll(n.Text, known)
	case what == "schedule":
		if _, _, err := schedule.ParseHours(n.Text); err == nil {
			help = fmt.Sprintf("give the hours a name: schedule NAME { mon-sun %s }, and ask whether time is in NAME", n.Text)
		}
	}
	r.fail(n, help, "there is no %s %q", what, n.Text)
}

// splitNames are the names of a text with commas between.
func splitNames(text string) (names []string) {
	for name := range strings.SplitSeq(text, ",") {
		names = append(names, ast.Name{Text: strings.TrimSpace(name)}.String())
	}
	return names
}

func keysOf[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

// The codes of warnings about how things are written.
const (
	RepeatedItem diag.Code = "repeated-item" // the same item stands twice in a list
	UnusedTag    diag.Code = "tag-of-nothing"
)

// once warns of items that stand twice in a list.
func (r *resolver) once(list []ast.Name) {
	for i, n := range list {
		for _, m := range list[:i] {
			if n.Text == m.Text {
				r.warn(RepeatedItem, n, "leave one of them out", "%q stands twice in this list", n.Text)
				break
			}
		}
	}
}

// names binds the names of conditions; see condition.Names.
type names struct {
	r         *resolver
	demand    demand.Names
	networks  map[string]int
	literals  map[string]int // addresses, prefixes and ranges that stand in conditions
	schedules map[string]int
	baselines map[string]int
	within    map[string]int // names after "user has"
	scopes    map[string]int
}

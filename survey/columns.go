package survey

// What is asked about every app.

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"

	"briskwarden.example/briskwarden/internal/condition"
	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/logic"
	"briskwarden.example/briskwarden/internal/possible"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/search"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/token"
	"briskwarden.example/briskwarden/signon"
)

// The names of what is asked; those of several of a kind begin with what they are.
const (
	resistant = "phishing-resistant"
	managed   = "managed"
	elsewhere = "elsewhere"
	nowhere   = "no address"
	baseline  = "baseline "
	network   = "network "
	band      = "band "
)

func levelName(level int) string { return demand.FixedNames[level-1] }

// columns are the demands and conditions that are asked about.
type columns struct {
	levels    [4]*demand.Demand         // that something was ever proved
	strong    *demand.Demand            // that a phishing-resistant method was; nil where there is none
	asks      map[string]*demand.Demand // by name: what a policy could ask that makes it so
	managed   condition.Node
	networks  []condition.Node
	meets     []*demand.Demand // each baseline
	elsewhere condition.Node   // in none of the named networks
	nowhere   condition.Node
}

func (s *surveyor) newColumns() *columns {
	var errs token.ErrorList
	names := demand.Names{Methods: s.rb.Methods}
	atom := func(name string) ast.Demand { return &ast.DemandAtom{Name: ast.Name{Text: name}} }
	c := &columns{asks: map[string]*demand.Demand{}}
	for level := 1; level <= 3; level++ {
		c.levels[level] = names.CompileEver(atom(levelName(level)), &errs)
	}
	c.asks[levelName(2)] = names.Compile(atom(levelName(2)), &errs)
	if list := s.resistantMethods(); len(list) > 0 {
		any := &ast.DemandOr{}
		for _, name := range list {
			any.Parts = append(any.Parts, atom(name))
		}
		c.strong, c.asks[resistant] = names.CompileEver(any, &errs), names.Compile(any, &errs)
	}
	of := func(slot fact.Slot) *fact.Fact { return s.rb.Facts.Fact(slot) }
	flag := 0
	for i, f := range signon.DeviceFlags {
		if f.Name == "managed" {
			flag = i
		}
	}
	c.managed, c.nowhere = condition.IsYes(of(fact.DeviceFlag(flag))), condition.IsUnknown(of(fact.Network))
	var all []int
	for id := range s.rb.Networks.Names {
		c.networks = append(c.networks, condition.IsIn(of(fact.Network), []int{id}))
		all = append(all, id)
	}
	c.elsewhere = condition.Not(condition.IsIn(of(fact.Network), all))
	names.Baseline = func(n ast.Name) (int, bool) {
		i := slices.IndexFunc(s.rb.Baselines, func(b *rulebook.Baseline) bool { return b.Name == n.Text })
		return i, i >= 0
	}
	for _, b := range s.rb.Baselines {
		c.meets = append(c.meets, names.Compile(&ast.DemandAtom{Kind: ast.AtomDevice, Name: ast.Name{Text: b.Name}}, &errs))
	}
	return c
}

func (s *surveyor) resistantMethods() (list []string) {
	for _, m := range s.rb.Methods.All() {
		if m.PhishingResistant {
			list = append(list, m.Name)
		}
	}
	return list
}

// look goes through all apps, as many at once as there are processors.
func (s *surveyor) look() (err error) {
	s.columns = s.newColumns()
	var asked []possible.Asked
	for _, n := range append([]condition.Node{s.columns.managed, s.columns.elsewhere, s.columns.nowhere}, s.columns.networks...) {
		asked = append(asked, possible.Asked{Who: &rulebook.Who{}, When: n})
	}
	if s.world, err = possible.New(s.ctx, []*engine.Engine{s.engine}, s.span.From, s.span.Until, [][]possible.Asked{asked}); err != nil {
		return undecided(err)
	}
	names := s.rb.AppNames()
	s.apps = make([]*coverage, len(names))
	errs := make([]error, len(names))
	search.Parallel(len(names), func(i int) { s.apps[i], errs[i] = s.cover(names[i]) })
	return undecided(cmp.Or(s.world.Err(), cmp.Or(errs...)))
}

// undecided is [ErrUndecided] for the error that time or memory did not reach.
func undecided(err error) error {
	var why *possible.GivenUp
	if errors.As(err, &why) {
		return fmt.Errorf("%w: %w", ErrUndecided, err)
	}
	return err
}

// cover finds who gets into an app, and without what.
func (s *surveyor) cover(app string) (*coverage, error) {
	if s.ctx.Err() != nil {
		return nil, fmt.Errorf("%w: %s and others were not come to", ErrUndecided, app)
	}
	sp := s.world.NewSpace(app, rulebook.SignOn)
	grant := sp.Rule(0, possible.Policies{Watched: s.span.AsEnforced})[signon.Grant]
	asked := s.asked(sp)
	waived := map[string]logic.Lit{}
	for _, name := range slices.Sorted(maps.Keys(s.columns.asks)) {
		waived[name] = sp.And(sp.Ordinary(0), sp.MetLifted(0, s.columns.asks[name]), asked[name].is)
	}
	sp.Bind()
	find := func(what logic.Lit, known map[*possible.Kind]bool, tells bool, confirmed func(*signon.SignOn) (bool, error)) (map[*possible.Kind]bool, error) {
		found, ok, err := search.Kinds(s.ctx, sp, sp.And(grant, what), known, tells, confirmed)
		if err == nil && !ok {
			err = fmt.Errorf("%w: %s, a formula of %d variables, given up after %d conflicts", ErrUndecided, app, sp.Variables(), sp.Conflicts)
		}
		return found, err
	}
	c := &coverage{app: app, lacks: map[string]map[*possible.Kind]bool{}, waived: map[string]map[*possible.Kind]bool{}}
	var err error
	if c.in, err = find(logic.Yes, nil, true, s.granted(column{})); err != nil {
		return nil, err
	}
	for _, name := range slices.Sorted(maps.Keys(asked)) {
		x := asked[name]
		if c.lacks[name], err = find(x.is, c.lacks[x.implied], true, s.granted(x)); err != nil {
			return nil, err
		}
	}
	for _, name := range slices.Sorted(maps.Keys(waived)) {
		if c.waived[name], err = find(waived[name], nil, false, s.granted(asked[name])); err != nil {
			return nil, err
		}
	}
	return c, nil
}

// column is that something is lacking, or of a network, that the sign-on comes from there; and what tells so of
// one sign-on.
type column struct {
	is      logic.Lit
	implied string         // by this other column
	demand  *demand.Demand // that is not met
	when    condition.Node // that is true, or with not, that is not true
	not     bool
	risk    int // that the score is or may be, if it is more than 0
}

// granted has the engine tell whether a sign-on is granted, and one of a column.
func (s *surveyor) granted(x column) func(*signon.SignOn) (bool, error) {
	return func(so *signon.SignOn) (is bool, err error) {
		v, err := s.engine.Judge(s.ctx, so, &engine.Question{Watched: s.span.AsEnforced, When: x.when, Without: x.demand})
		if err != nil || v.Outcome != signon.Grant || x.demand != nil && v.Met || x.when != nil && v.When == x.not {
			return false, err
		}
		if x.risk == 0 {
			return true, nil
		}
		err = s.engine.Probe(s.ctx, so, func(f condition.Facts) {
			score, _ := f.Number(fact.Risk)
			is = int(score.High) >= x.risk
		})
		return is, err
	}
}

// asked are the columns, by name. Names are in an order in which what implies another comes before it.
func (s *surveyor) asked(sp *possible.Space) map[string]column {
	c, asked := s.columns, map[string]column{}
	for level := 1; level <= 3; level++ {
		x := column{is: sp.Met(0, c.levels[level]).Not(), demand: c.levels[level]}
		if level > 1 {
			x.implied = levelName(level - 1)
		}
		asked[levelName(level)] = x
	}
	asked[resistant] = column{is: logic.Yes}
	if c.strong != nil {
		asked[resistant] = column{is: sp.Met(0, c.strong).Not(), demand: c.strong}
	}
	asked[managed] = column{is: sp.Condition(0, c.managed).Must.Not(), when: c.managed, not: true}
	for i, b := range s.rb.Baselines {
		asked[baseline+b.Name] = column{is: sp.Meets(0, i).Must.Not(), demand: c.meets[i]}
	}
	for id, name := range s.rb.Networks.Names {
		asked[network+name] = column{is: sp.Condition(0, c.networks[id]).Must, when: c.networks[id]}
	}
	asked[elsewhere] = column{is: sp.Condition(0, c.elsewhere).Must, when: c.elsewhere}
	asked[nowhere] = column{is: sp.Condition(0, c.nowhere).Must, when: c.nowhere}
	if s.rb.Risk != nil {
		for _, b := range s.rb.Risk.Bands {
			asked[band+b.Name] = column{is: sp.RiskMayReach(0, b.Low), risk: b.Low}
		}
	}
	return asked
}

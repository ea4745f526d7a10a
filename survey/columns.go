package survey

// What is asked about every app.

import (
	"fmt"
	"runtime"
	"sync"

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
	levels   [4]*demand.Demand         // that something was ever proved
	strong   *demand.Demand            // that a phishing-resistant method was; nil where there is none
	asks     map[string]*demand.Demand // by name: what a policy could ask that makes it so
	managed  condition.Node
	networks []condition.Node
	any      condition.Node // in some named network
	nowhere  condition.Node
}

func (s *surveyor) newColumns() *columns {
	var errs token.ErrorList
	names := demand.Names{Methods: s.rb.Methods}
	atom := func(name string) ast.Demand { return &ast.DemandAtom{Name: ast.Name{Text: name}} }
	c := &columns{asks: map[string]*demand.Demand{}}
	for level := 1; level <= 3; level++ {
		c.levels[level] = names.CompileEver(atom(levelName(level)), &errs)
		c.asks[levelName(level)] = names.Compile(atom(levelName(level)), &errs)
	}
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
	c.any = condition.IsIn(of(fact.Network), all)
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
	for _, n := range append([]condition.Node{s.columns.managed, s.columns.any, s.columns.nowhere}, s.columns.networks...) {
		asked = append(asked, possible.Asked{Who: &rulebook.Who{}, When: n})
	}
	if s.world, err = possible.New(s.ctx, []*engine.Engine{s.engine}, s.span.From, s.span.Until, [][]possible.Asked{asked}); err != nil {
		return err
	}
	names := s.rb.AppNames()
	s.apps = make([]*coverage, len(names))
	errs := make([]error, len(names))
	var wait sync.WaitGroup
	next := make(chan int)
	for range runtime.GOMAXPROCS(0) {
		wait.Go(func() {
			for i := range next {
				s.apps[i], errs[i] = s.cover(names[i])
			}
		})
	}
	for i := range names {
		next <- i
	}
	close(next)
	wait.Wait()
	for _, err := range errs {
		if err != nil {
			return err
		}
	}
	return nil
}

// cover finds who gets into an app, and without what.
func (s *surveyor) cover(app string) (*coverage, error) {
	sp := s.world.NewSpace(app, rulebook.SignOn)
	grant := sp.Rule(0, possible.Policies{Watched: s.span.AsEnforced})[signon.Grant]
	asked := s.asked(sp)
	waived := map[string]logic.Lit{}
	for _, name := range sortedKeys(s.columns.asks) {
		waived[name] = sp.And(sp.Ordinary(0), sp.MetLifted(0, s.columns.asks[name]), asked[name])
	}
	sp.Settle()
	confirm := func(so *signon.SignOn) (bool, error) {
		v, err := s.engine.Judge(s.ctx, so, &engine.Question{Watched: s.span.AsEnforced})
		return v.Outcome == signon.Grant, err
	}
	find := func(what logic.Lit) (map[*possible.Kind]bool, error) {
		found, ok, err := search.Kinds(s.ctx, sp, sp.And(grant, what), confirm)
		if err == nil && !ok {
			err = fmt.Errorf("%w: %s, a formula of %d variables, given up after %d conflicts", ErrUndecided, app, sp.Variables(), sp.Conflicts)
		}
		return found, err
	}
	c := &coverage{app: app, lacks: map[string]map[*possible.Kind]bool{}, waived: map[string]map[*possible.Kind]bool{}}
	var err error
	if c.in, err = find(logic.Yes); err != nil {
		return nil, err
	}
	for _, name := range sortedKeys(asked) {
		if c.lacks[name], err = find(asked[name]); err != nil {
			return nil, err
		}
	}
	for _, name := range sortedKeys(waived) {
		if c.waived[name], err = find(waived[name]); err != nil {
			return nil, err
		}
	}
	return c, nil
}

// asked is, by name, that what is asked is lacking: of a network, that it is where the sign-on comes from.
func (s *surveyor) asked(sp *possible.Space) map[string]logic.Lit {
	c, asked := s.columns, map[string]logic.Lit{}
	for level := 1; level <= 3; level++ {
		asked[levelName(level)] = sp.Met(0, c.levels[level]).Not()
	}
	asked[resistant] = logic.Yes
	if c.strong != nil {
		asked[resistant] = sp.Met(0, c.strong).Not()
	}
	asked[managed] = sp.Condition(0, c.managed).Must.Not()
	for i, b := range s.rb.Baselines {
		asked[baseline+b.Name] = sp.Meets(0, i).Must.Not()
	}
	for id, name := range s.rb.Networks.Names {
		asked[network+name] = sp.Condition(0, c.networks[id]).Must
	}
	asked[elsewhere] = sp.Condition(0, c.any).May.Not()
	asked[nowhere] = sp.Condition(0, c.nowhere).Must
	if s.rb.Risk != nil {
		for _, b := range s.rb.Risk.Bands {
			asked[band+b.Name] = sp.RiskMayReach(0, b.Low)
		}
	}
	return asked
}

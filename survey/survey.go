// Package survey tells how well every app is covered, for every possible sign-on, as the command "brisk
// survey" does: the least that ever lets anybody in, from where and on what, and what to do next.
//
//	report, err := survey.Of(ctx, rules, prove.Span{})
package survey

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/possible"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/prove"
)

// Report is how well every app is covered. A way in is a person and an app that she can ever get into by
// signing on. Its JSON is that of "brisk survey --json".
type Report struct {
	Rulebook   string      `json:"rulebook"`
	Digest     string      `json:"digest"`
	From       time.Time   `json:"from"` // the span
	Until      time.Time   `json:"until"`
	AsEnforced bool        `json:"as_enforced"`
	Ways       int         `json:"ways_in"`
	OneFactor  int         `json:"on_one_factor"` // ways in that stand on less than aal2
	AnyDevice  int         `json:"on_any_device"` // on a device that need not be managed
	Anywhere   int         `json:"from_anywhere"` // from outside every named network, or without an address
	Exceptions []Exception `json:"exceptions"`
	Rows       []Row       `json:"rows"` // the weakest first
	Steps      []Step      `json:"steps"`
	Networks   []string    `json:"networks"`        // all named ones
	Logged     int         `json:"logged,omitzero"` // sign-ons of logs that were granted

	Past []prove.Dated `json:"dates_past"` // dates of the rulebook that lie past the span
}

// Exception is who is let in otherwise than others.
type Exception struct {
	What   string   `json:"what"` // a waiver, service accounts, emergency accounts
	People []string `json:"people"`
}

// Row are people who fare alike at an app that they can get into.
type Row struct {
	App       string   `json:"app"`
	People    []string `json:"people"`
	Least     string   `json:"least"`                // none, aal1, aal2 or aal3: what no grant ever goes without
	Resistant bool     `json:"phishing_resistant"`   // such a method is always among what was proved
	Managed   bool     `json:"managed"`              // the device always is
	Baselines []string `json:"baselines"`            // that the device always meets
	Networks  []string `json:"networks"`             // named ones from which a grant is possible
	Elsewhere bool     `json:"elsewhere"`            // from an address in none of them it is possible too
	Nowhere   bool     `json:"no_address"`           // and without an address
	Band      string   `json:"band"`                 // the highest risk band, by the upper end, with a grant; empty without a model
	Used      int      `json:"used,omitzero"`        // how many sign-ons of logs were granted
	Weakly    int      `json:"used_weakly,omitzero"` // and how many of them on less than aal2

	level int
	key   string
}

// From tells from where a grant is possible, of all named networks.
func (r *Row) From(networks []string) string {
	var without []string
	for _, name := range networks {
		if !slices.Contains(r.Networks, name) {
			without = append(without, name)
		}
	}
	switch {
	case !r.Elsewhere:
		parts := slices.Clone(r.Networks)
		if r.Nowhere {
			parts = append(parts, "no address")
		}
		return strings.Join(parts, ", ")
	case !r.Nowhere:
		without = append(without, "no address")
	}
	if len(without) == 0 {
		return "anywhere"
	}
	return "anywhere but " + strings.Join(without, ", ")
}

// Step is something to do next.
type Step struct {
	What     string   `json:"what"`
	Closes   int      `json:"closes"`    // how many ways in are then no longer open as they are
	NotReady []string `json:"not_ready"` // people who lack what is then asked
	Promise  string   `json:"promise"`   // that it makes true
	Policy   string   `json:"policy"`    // whose enforcement makes it so
}

// Of surveys a rulebook. It fails with [ErrUndecided] where the context is done before all is worked out.
func Of(ctx context.Context, rules *briskwarden.Rulebook, span prove.Span) (*Report, error) {
	e := bridge.Engine(rules)
	span, err := span.Of(e.Now())
	if err != nil {
		return nil, err
	}
	s := &surveyor{ctx: ctx, engine: e, rb: e.Rulebook(), span: span}
	if err := s.look(); err != nil {
		return nil, err
	}
	r := &Report{Rulebook: s.rb.Name, Digest: s.rb.Digest, From: span.From.In(s.rb.Zone), Until: span.Until.In(s.rb.Zone), AsEnforced: span.AsEnforced,
		Exceptions: s.exceptions(), Networks: append([]string{}, s.rb.Networks.Names...), Past: prove.DatesPast(rules, span.Until), Rows: s.rows(), Steps: s.steps()}
	for i := range r.Rows {
		row, n := &r.Rows[i], len(r.Rows[i].People)
		r.Ways += n
		if row.level < 2 {
			r.OneFactor += n
		}
		if !row.Managed {
			r.AnyDevice += n
		}
		if row.Elsewhere || row.Nowhere {
			r.Anywhere += n
		}
	}
	return r, nil
}

// ErrUndecided is that the time ran out.
var ErrUndecided = errors.New("not everything was worked out in time")

// surveyor looks at all apps.
type surveyor struct {
	ctx     context.Context
	engine  *engine.Engine
	rb      *rulebook.Rulebook
	span    prove.Span
	world   *possible.World
	columns *columns
	apps    []*coverage
	people  []string // active, in order; once they are asked for
}

// coverage is what was found of one app, by kind of people.
type coverage struct {
	app    string
	in     map[*possible.Kind]bool            // who gets in at all
	lacks  map[string]map[*possible.Kind]bool // by what is asked: who gets in without it
	waived map[string]map[*possible.Kind]bool // whom waivers let by a demand that a step would make
}

// rows are the people of each app who fare alike.
func (s *surveyor) rows() []Row {
	var rows []Row
	for _, c := range s.apps {
		alike := map[string]*Row{}
		for _, k := range s.world.Kinds {
			if !c.in[k] {
				continue
			}
			row := s.row(c, k)
			if alike[row.key] == nil {
				alike[row.key] = &row
			}
			alike[row.key].People = append(alike[row.key].People, k.People...)
		}
		for _, key := range slices.Sorted(maps.Keys(alike)) {
			row := alike[key]
			slices.Sort(row.People)
			rows = append(rows, *row)
		}
	}
	weight := func(b bool) int {
		if b {
			return 1
		}
		return 0
	}
	slices.SortStableFunc(rows, func(a, b Row) int {
		open := func(r *Row) int { return weight(r.Elsewhere || r.Nowhere) }
		return cmp.Or(cmp.Compare(a.level, b.level), cmp.Compare(weight(a.Resistant), weight(b.Resistant)), cmp.Compare(weight(a.Managed), weight(b.Managed)),
			cmp.Compare(open(&b), open(&a)), cmp.Compare(len(b.People), len(a.People)), cmp.Compare(a.App, b.App), cmp.Compare(a.People[0], b.People[0]))
	})
	return rows
}

// row is how one kind of people fares at an app.
func (s *surveyor) row(c *coverage, k *possible.Kind) Row {
	holds := func(asked string) bool { return !c.lacks[asked][k] }
	r := Row{App: c.app, Least: "none", Resistant: holds(resistant), Managed: holds(managed), Baselines: []string{}, Networks: []string{},
		Elsewhere: !holds(elsewhere), Nowhere: !holds(nowhere)}
	for level := 3; level > 0 && r.level == 0; level-- {
		if name := levelName(level); holds(name) {
			r.level, r.Least = level, name
		}
	}
	for _, b := range s.rb.Baselines {
		if holds(baseline + b.Name) {
			r.Baselines = append(r.Baselines, b.Name)
		}
	}
	for _, name := range s.rb.Networks.Names {
		if !holds(network + name) {
			r.Networks = append(r.Networks, name)
		}
	}
	if s.rb.Risk != nil {
		for _, b := range s.rb.Risk.Bands {
			if !holds(band + b.Name) {
				r.Band = b.Name
			}
		}
	}
	r.key = fmt.Sprint(r.Least, r.Resistant, r.Managed, strings.Join(r.Baselines, ","), ";", strings.Join(r.Networks, ","), r.Elsewhere, r.Nowhere, r.Band)
	return r
}

// exceptions are those who are let in otherwise than others.
func (s *surveyor) exceptions() []Exception {
	list := []Exception{}
	in := map[string]bool{}
	for _, c := range s.apps {
		for k := range c.in {
			for _, id := range k.People {
				in[id] = true
			}
		}
	}
	everybody := slices.Sorted(maps.Keys(in))
	add := func(what string, is func(*rulebook.Person) bool) {
		var people []string
		for _, id := range everybody {
			if is(s.rb.People[id]) {
				people = append(people, id)
			}
		}
		if len(people) > 0 {
			list = append(list, Exception{what, people})
		}
	}
	add("emergency accounts", func(p *rulebook.Person) bool { return p.BreakGlass })
	add("service accounts", func(p *rulebook.Person) bool { return p.Type == "service" && !p.BreakGlass })
	for _, w := range s.rb.Waivers {
		if s.span.From.Before(w.Until) {
			add(fmt.Sprintf("waiver %s, until %s", w.Name, w.Until.In(s.rb.Zone).Add(-time.Second).Format(time.DateOnly)), func(p *rulebook.Person) bool { return !p.BreakGlass && w.Who.Holds(p) })
		}
	}
	return list
}

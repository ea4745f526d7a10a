package survey

// Promises proposed from what was found.

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/language"
	"briskwarden.example/briskwarden/language/scanner"
	"briskwarden.example/briskwarden/prove"
)

// Propose writes, in the language, the strongest promises that hold of each app and kind of people: of each
// column of a survey the next level would not.
func Propose(ctx context.Context, rules *briskwarden.Rulebook, span prove.Span) (text string, err error) {
	e := bridge.Engine(rules)
	if span, err = span.Of(e.Now()); err != nil {
		return "", err
	}
	s := &surveyor{ctx: ctx, engine: e, rb: e.Rulebook(), span: span}
	if err := s.look(); err != nil {
		return "", err
	}
	var b strings.Builder
	names := map[string]int{}
	for _, p := range s.rb.Promises {
		names[p.Name]++
	}
	write := func(name, who, app, form string) {
		if names[name]++; names[name] > 1 {
			name = fmt.Sprintf("%s (%d)", name, names[name])
			names[name]++
		}
		fmt.Fprintf(&b, "promise %q { who %s to app %s %s }\n\n", name, who, scanner.Quote(app), form)
	}
	rows := s.rows()
	for _, c := range s.apps {
		never := map[string]bool{}
		in := map[string]bool{}
		for _, k := range s.world.Kinds {
			for _, id := range k.People {
				if c.in[k] {
					in[id] = true
				} else {
					never[id] = true
				}
			}
		}
		if len(never) > 0 {
			write(c.app+": these never get in", s.selectors(never, func(string) bool { return false }), c.app, "never grant")
		}
		for _, row := range rows {
			if row.App != c.app {
				continue
			}
			people := map[string]bool{}
			for _, id := range row.People {
				people[id] = true
			}
			who := s.selectors(people, func(id string) bool { return !in[id] })
			for _, x := range s.strongest(&row) {
				write(c.app+": "+x.about, who, c.app, x.form)
			}
		}
	}
	formatted, err := language.Format("promises", []byte(b.String()))
	return string(formatted), err
}

// statement is what can be promised.
type statement struct{ about, form string }

// strongest are the promises of a row.
func (s *surveyor) strongest(r *Row) (list []statement) {
	add := func(about, form string) { list = append(list, statement{about, form}) }
	if r.level > 0 {
		add("at least "+r.Least, "never grant without "+r.Least)
	}
	if r.Resistant {
		var methods []string
		for _, m := range s.resistantMethods() {
			methods = append(methods, scanner.Quote(m))
		}
		add("phishing-resistant", "never grant without "+strings.Join(methods, " or "))
	}
	if r.Managed {
		add("on managed devices", "when not surely device.managed never grant")
	}
	for _, name := range r.Baselines {
		add("on devices that meet "+name, "never grant without device meets "+scanner.Quote(name))
	}
	if s.rb.Risk != nil && r.Band != "" && r.Band != s.rb.Risk.Bands[len(s.rb.Risk.Bands)-1].Name {
		add("at most at "+r.Band+" risk", "when not surely risk.band at most "+scanner.Quote(r.Band)+" never grant")
	}
	var named []string
	for _, name := range s.rb.Networks.Names {
		if named = append(named, scanner.Quote(name)); !slices.Contains(r.Networks, name) {
			add("not from "+name, "when network in "+scanner.Quote(name)+" never grant")
		}
	}
	if !r.Elsewhere && len(named) > 0 {
		add("not from elsewhere", "when network not in "+strings.Join(named, ", ")+" never grant")
	}
	if !r.Nowhere {
		add("not without an address", "when network is unknown never grant")
	}
	return list
}

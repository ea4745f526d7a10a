package about

// Which declarations speak of a thing.

import (
	"net/netip"
	"slices"
	"strings"

	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/language/ast"
)

// speaking finds the declarations that speak of the thing, as they stand.
func (f *finder) speaking() {
	for d := range f.rb.Declarations() {
		if how := f.how(d); how != "" {
			head := d.Head()
			f.Speaks = append(f.Speaks, Mention{head.Keyword.Text, head.Name.Text, how, head.Name.Pos.InFile()})
		}
	}
}

// how tells how a declaration speaks of the thing; empty is not at all.
func (f *finder) how(d ast.Decl) string {
	switch f.Kind {
	case User:
		return f.howUser(d)
	case Group:
		return f.howGroup(d)
	case App:
		return f.howApp(d)
	case Network:
		return f.howNetwork(d)
	case Method:
		return f.howMethod(d)
	case Device:
		return f.howDevice(d)
	case Country:
		return f.howCountry(d)
	}
	return f.howClient(d)
}

// bound is a declaration as it was bound: whom and what it selects, where it says so.
type bound struct {
	who *rulebook.Who
	to  *rulebook.To
}

// bind notes the selections of all declarations, by kind and name.
func (f *finder) bind() {
	f.bound = map[[2]string]bound{}
	for _, p := range f.rb.Policies {
		f.bound[[2]string{"policy", p.Name}] = bound{&p.Who, &p.To}
	}
	for _, w := range f.rb.Waivers {
		f.bound[[2]string{"waiver", w.Name}] = bound{&w.Who, &w.To}
	}
	for _, p := range f.rb.Promises {
		f.bound[[2]string{"promise", p.Name}] = bound{&p.Who, &p.To}
	}
	for _, a := range f.rb.Alerts {
		b := bound{&a.Who, &a.To}
		if len(a.Who.Items) == 0 {
			b.who = nil
		}
		if len(a.To.Items) == 0 {
			b.to = nil
		}
		f.bound[[2]string{"alert", a.Name}] = b
	}
	for _, c := range f.rb.Callers {
		if len(c.For.Items) > 0 {
			f.bound[[2]string{"caller", c.Name}] = bound{nil, &c.For}
		}
	}
}

func (f *finder) boundTo(d ast.Decl) bound {
	head := d.Head()
	return f.bound[[2]string{head.Keyword.Text, head.Name.Text}]
}

// isFor reports whether a declaration says that it is for somebody.
func (f *finder) isFor(d ast.Decl, p *rulebook.Person) bool {
	who := f.boundTo(d).who
	return who != nil && who.Holds(p)
}

const (
	byName    = "by name"
	excepted  = "excepted"
	inGeneral = "among others"

	forEverything = "for everything"
)

func (f *finder) howUser(d ast.Decl) string {
	switch d := d.(type) {
	case *ast.User:
		if d.Name.Text == f.Name {
			return "declares it"
		}
		return ""
	case *ast.Group:
		return named(d.Members, "user", f.Name)
	case *ast.Expect:
		if d.SignOn.User.Text == f.Name {
			return byName
		}
		return ""
	case *ast.Rulebook:
		if d.BreakGlass != nil && slices.ContainsFunc(d.BreakGlass.Users, func(n ast.Name) bool { return n.Text == f.Name }) {
			return "as an emergency account"
		}
		return ""
	}
	if f.comparesWith(d, "user.id", f.Name) {
		return "in a condition"
	}
	if how := named(ast.Selectors(d), "user", f.Name); how != "" {
		if !f.isFor(d, f.person) {
			return excepted
		}
		return how
	}
	if f.isFor(d, f.person) {
		return inGeneral
	}
	return ""
}

// named reports a selector of a kind with a name.
func named(list []ast.Selector, kind, name string) string {
	if slices.ContainsFunc(list, func(s ast.Selector) bool { return s.Kind.Text == kind && s.Name.Text == name }) {
		return byName
	}
	return ""
}

// comparesWith reports a condition that compares a fact with a value.
func (f *finder) comparesWith(d ast.Decl, fact, value string) bool {
	for _, c := range ast.Conditions(d) {
		for compare := range ast.Comparisons(c) {
			if compare.Fact.Text == fact && slices.ContainsFunc(compare.Values, func(n ast.Name) bool { return n.Text == value }) {
				return true
			}
		}
	}
	return false
}

func (f *finder) howGroup(d ast.Decl) string {
	switch d := d.(type) {
	case *ast.User:
		if slices.ContainsFunc(d.Groups, func(n ast.Name) bool { return n.Text == f.Name }) {
			return "is a member"
		}
		return ""
	case *ast.Group:
		if d.Name.Text == f.Name {
			return "declares it"
		}
		return named(d.Members, "group", f.Name)
	case *ast.Policy:
		if slices.ContainsFunc(d.Cases, func(c ast.Case) bool { return c.Outcome.Group.Text == f.Name }) {
			return "its people review"
		}
	case *ast.Expect:
		if d.SignOn.Group.Text == f.Name {
			return byName
		}
		return ""
	}
	return named(ast.Selectors(d), "group", f.Name)
}

func (f *finder) howApp(d ast.Decl) string {
	switch d := d.(type) {
	case *ast.App:
		if d.Name.Text == f.Name {
			return "declares it"
		}
		return ""
	case *ast.Expect:
		if d.SignOn.App.Text == f.Name {
			return byName
		}
		return ""
	}
	switch to := f.boundTo(d).to; {
	case to == nil || !to.Holds(f.app):
		return ""
	case to.IsEverything():
		return forEverything
	}
	return "for it"
}

func (f *finder) howNetwork(d ast.Decl) string {
	switch d := d.(type) {
	case *ast.Network:
		if d.Name.Text == f.Name {
			return "declares it"
		}
		return ""
	case *ast.Caller:
		if slices.ContainsFunc(d.From, func(n ast.Name) bool { return n.Text == f.Name }) {
			return "may ask from it alone"
		}
		return ""
	case *ast.Expect:
		if a, err := netip.ParseAddr(d.SignOn.IP.Text); err == nil && f.rb.Networks.Table.Networks(a).Has(f.net) {
			return "comes from it"
		}
		return ""
	}
	if f.comparesWith(d, "network", f.Name) {
		return "in a condition"
	}
	for fact, of := range map[string]bool{"network.trusted": f.rb.Networks.Trusted.Has(f.net), "network.anonymous": f.rb.Networks.Anonymous.Has(f.net)} {
		if of && f.asks(d, fact) {
			return "asks for " + fact
		}
	}
	return ""
}

// asks reports a condition that asks for a fact.
func (f *finder) asks(d ast.Decl, fact string) bool {
	for _, c := range ast.Conditions(d) {
		for compare := range ast.Comparisons(c) {
			if compare.Fact.Text == fact || strings.HasPrefix(compare.Fact.Text, fact+".") {
				return true
			}
		}
	}
	return false
}

func (f *finder) howMethod(d ast.Decl) string {
	switch d := d.(type) {
	case *ast.Method:
		if d.Name.Text == f.Name {
			return "declares it"
		}
		return ""
	case *ast.User:
		return "" // who is enrolled is told above
	case *ast.Waiver:
		if slices.ContainsFunc(d.Lifts, func(l ast.Lift) bool { return l.Name.Text == f.Name }) {
			return "lifts it"
		}
	case *ast.Expect:
		if slices.ContainsFunc(d.SignOn.Presented, func(n ast.Name) bool { return n.Text == f.Name }) {
			return "presents it"
		}
		return ""
	}
	for _, demand := range ast.Demands(d) {
		for atom := range ast.Atoms(demand) {
			switch name := atom.Name.Text; {
			case name == f.Name:
				return "asks for it"
			case f.demandNames(name):
				return "asks for it, by the demand " + name
			}
		}
	}
	return ""
}

// demandNames reports whether a named demand asks for the method, by others too.
func (f *finder) demandNames(name string) bool {
	if f.demands == nil {
		f.demands = map[string]bool{}
		for grew := true; grew; {
			grew = false
			for d := range f.rb.Declarations() {
				demand, ok := d.(*ast.NamedDemand)
				if !ok || f.demands[demand.Name.Text] {
					continue
				}
				for atom := range ast.Atoms(demand.Demand) {
					if atom.Name.Text == f.Name || f.demands[atom.Name.Text] {
						f.demands[demand.Name.Text], grew = true, true
					}
				}
			}
		}
	}
	return f.demands[name]
}

func (f *finder) howDevice(d ast.Decl) string {
	if e, ok := d.(*ast.Expect); ok {
		if e.SignOn.Device != nil && e.SignOn.Device.ID.Text == f.Name {
			return byName
		}
		return ""
	}
	var owner *rulebook.Person
	if record := f.rb.Devices[f.Name]; record != nil {
		owner = f.rb.People[record.Owner]
	}
	concerned := owner == nil || f.isFor(d, owner)
	switch {
	case f.comparesWith(d, "device.id", f.Name):
		return "in a condition"
	case !concerned:
		return ""
	case f.asks(d, "device"):
		if owner == nil {
			return "asks of devices"
		}
		return "asks of devices, for its owner"
	}
	for _, demand := range ast.Demands(d) {
		for atom := range ast.Atoms(demand) {
			if atom.Kind == ast.AtomDevice {
				return "asks for a device that meets " + atom.Name.Text
			}
		}
	}
	return ""
}

func (f *finder) howCountry(d ast.Decl) string {
	switch d := d.(type) {
	case *ast.Countries:
		if d.Name.Text == f.Name {
			return "declares it"
		}
		if slices.ContainsFunc(d.Items, func(n ast.Name) bool { return n.Text == f.Name }) {
			return "names it"
		}
		return ""
	case *ast.Expect:
		if slices.Contains(f.codes, d.SignOn.Country.Text) {
			return "comes from it"
		}
		return ""
	}
	for _, c := range ast.Conditions(d) {
		for compare := range ast.Comparisons(c) {
			if compare.Fact.Text != "country" {
				continue
			}
			for _, v := range compare.Values {
				if v.Text == f.Name || slices.ContainsFunc(f.rb.CountryCodes(v.Text), func(code string) bool { return slices.Contains(f.codes, code) }) {
					return "in a condition: country in " + v.Text
				}
			}
		}
	}
	if f.asks(d, "country") {
		return "asks for the country"
	}
	return ""
}

func (f *finder) howClient(d ast.Decl) string {
	switch d := d.(type) {
	case *ast.Expect:
		if d.SignOn.ClientApp.Text == f.Name {
			return byName
		}
		return ""
	case *ast.Policy:
		if f.comparesWith(d, "client.id", f.Name) {
			return "in a condition"
		}
		if slices.ContainsFunc(d.Scope.Doing, func(n ast.Name) bool { return n.Text == rulebook.Consent }) {
			return "decides on consents"
		}
	}
	return ""
}

// affected tells for how many people policies are that ask for a network or a country.
func (f *finder) affected() {
	people := map[string]bool{}
	for d := range f.rb.Declarations() {
		p, ok := d.(*ast.Policy)
		if !ok || f.how(p) == "" {
			continue
		}
		for person := range f.rb.Selected(f.boundTo(p).who) {
			people[person.ID] = true
		}
	}
	f.feel("people", "%d, for whom policies are that ask for it", len(people))
}

package rulebook

// The order in which declarations are bound, and the settings of the rulebook's block.

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // time zones are part of the language, whatever the machine has

	"briskwarden.example/briskwarden/internal/condition"
	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/internal/diag"
	"briskwarden.example/briskwarden/internal/fact"
	"briskwarden.example/briskwarden/internal/place"
	"briskwarden.example/briskwarden/internal/risk"
	"briskwarden.example/briskwarden/internal/schedule"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/language/token"
	"briskwarden.example/briskwarden/signon"
)

// resolve binds the names, each kind of declaration after those that it uses.
func (r *resolver) resolve() {
	if r.decls.rulebook == nil && !r.broken(TopFile) {
		r.found.Add(diag.Invalid, diag.Error, token.Pos{File: TopFile, Line: 1, Column: 1}, 1,
			"begin it with: rulebook NAME { }", "%s holds no rulebook block", TopFile)
	}
	if r.decls.rulebook == nil {
		r.decls.rulebook = &ast.Rulebook{}
	}
	r.zone()
	r.methods()
	r.attributes()
	r.networks()
	r.countries()
	r.schedules()
	r.apps()
	r.people()
	r.scopeSets()
	scope := r.scope()
	r.baselines(scope)
	r.riskModel(scope)
	r.settings()
	r.policies(scope)
	r.waivers(scope)
	r.promises(scope)
	r.alerts(scope)
	r.digests()
	r.expects()
	r.callers()
	r.issuers()
	r.signals()
	r.texts()
	r.rb.Networks.Table = place.NewTable(r.prefixes)
}

// broken reports whether a file could not be read or parsed without error.
func (r *resolver) broken(file string) bool {
	return slices.ContainsFunc(r.found, func(d diag.Diagnostic) bool { return d.Pos.File == file && d.Severity == diag.Error })
}

func (r *resolver) zone() {
	d := r.decls.rulebook
	r.rb.Name, r.rb.Zone = d.Name.Text, time.UTC
	if d.Timezone.Given() {
		r.rb.Zone = r.location(d.Timezone)
	}
}

func (r *resolver) location(n ast.Name) *time.Location {
	zone, err := time.LoadLocation(n.Text)
	if err != nil || n.Text == "" || n.Text == "Local" {
		r.fail(n, `name it as in "Europe/Oslo"`, "there is no time zone %q", n.Text)
		return time.UTC
	}
	return zone
}

func (r *resolver) methods() {
	list := demand.BuiltIn()
	for _, d := range r.decls.methods.list {
		r.allowedName(d.Name)
		m := demand.Method{Name: d.Name.Text, Kind: demand.Kind(max(0, slices.Index(demand.Kinds[:], d.KindName.Text)))}
		for _, a := range d.AMR {
			m.AMR = append(m.AMR, a.Text)
		}
		for _, f := range d.Flags {
			m.Hardware = m.Hardware || f.Text == "hardware"
			m.PhishingResistant = m.PhishingResistant || f.Text == "phishing-resistant"
			m.VerifiesUser = m.VerifiesUser || f.Text == "verifies-user"
		}
		list = append(list, m)
	}
	methods, err := demand.NewMethods(list)
	if err != nil {
		r.fail(r.decls.rulebook.Name, "", "%v", err)
		methods, _ = demand.NewMethods(demand.BuiltIn())
	}
	r.rb.Methods = methods
	r.names.demand = demand.Names{Methods: methods, Named: map[string]ast.Demand{},
		Baseline: func(n ast.Name) (int, bool) { return r.names.declared(n, "baseline", r.names.baselines) },
		IsFact:   func(name string) bool { _, is := r.rb.Facts.Lookup(name); return is }}
	for _, d := range r.decls.demands.list {
		r.allowedName(d.Name)
		if m, ok := methods.Lookup(d.Name.Text); ok {
			if r.decls.methods.byName[d.Name.Text] == nil {
				r.fail(d.Name, "methods and demands share their names: choose another", "%q is a built-in method", m.Name)
			}
			continue
		}
		if d.Demand != nil {
			r.names.demand.Named[d.Name.Text] = d.Demand
		}
	}
	for i, d := range r.decls.baselines.list {
		r.names.baselines[d.Name.Text] = i
	}
	for _, d := range r.decls.demands.list {
		if d.Demand != nil {
			r.names.demand.CompileNamed(d, &r.errors)
		}
	}
}

// allowedName reports names that mean something else where a method or demand stands.
func (r *resolver) allowedName(n ast.Name) {
	if slices.Contains(demand.FixedNames, n.Text) || slices.Contains([]string{"enrol", "device", "none", "everything"}, n.Text) {
		r.fail(n, "choose another name", "%q cannot be the name of a method or demand", n.Text)
	}
}

func (r *resolver) demand(d ast.Demand) *demand.Demand {
	if d == nil {
		return nil
	}
	return r.names.demand.Compile(d, &r.errors)
}

// everDemand is the demand of a promise, where what is proved ever counts unless it says otherwise.
func (r *resolver) everDemand(d ast.Demand) *demand.Demand {
	if d == nil {
		return nil
	}
	return r.names.demand.CompileEver(d, &r.errors)
}

var attributeTypes = map[string]fact.Type{"word": fact.Word, "yes-no": fact.YesNo, "number": fact.Number, "date": fact.Date}

func (r *resolver) attributes() {
	for _, d := range r.decls.attributes.list {
		ofUser, ofDevice := strings.HasPrefix(d.Name.Text, "user."), strings.HasPrefix(d.Name.Text, "device.")
		if _, rest, _ := strings.Cut(d.Name.Text, "."); !ofUser && !ofDevice || rest == "" {
			r.fail(d.Name, "write user.NAME or device.NAME", "the attribute %q is neither a user's nor a device's", d.Name.Text)
			continue
		}
		if d.Default.Given() && d.FromRequest.IsValid() {
			r.fail(d.Default, "leave one of them out", `an attribute has either "default" or "from request"`)
		}
		a := r.rb.Facts.Declare(d.Name.Text, attributeTypes[d.Type.Text], ofDevice, d.FromRequest.IsValid())
		if a == nil {
			r.fail(d.Name, "choose another name", "%q is a built-in fact", d.Name.Text)
			continue
		}
		if d.Default.Given() {
			a.Default = r.value(a, d.Default)
		}
	}
}

// value reads the value of an attribute.
func (r *resolver) value(a *fact.Attribute, n ast.Name) fact.Value {
	v, err := ReadValue(a.Type, n.Text, r.rb.Zone)
	if err != nil {
		r.fail(n, "", "%s: %v", a.Name, err)
	}
	return v
}

// ReadValue reads the value of an attribute from a word.
func ReadValue(t fact.Type, text string, zone *time.Location) (v fact.Value, err error) {
	v.Known = true
	switch t {
	case fact.YesNo:
		switch text {
		case "yes":
			v.YesNo = 1
		case "no":
			v.YesNo = -1
		default:
			err = fmt.Errorf("%q is neither yes nor no", text)
		}
	case fact.Number:
		x, ok := condition.ParseNumber(text)
		if !ok {
			err = fmt.Errorf("%q is no number", text)
		}
		v.Number = x
	case fact.Date:
		var d schedule.Date
		if d, err = schedule.ParseDate(text); err == nil {
			v.Day = &fact.Day{Start: d.Start(zone), Next: d.Next().Start(zone)}
		}
	}
	v.Word = text
	return v, err
}

func (r *resolver) scope() *condition.Scope {
	s := &condition.Scope{Facts: r.rb.Facts, Names: r.names, Zone: r.rb.Zone, Errors: &r.errors}
	known := map[string]bool{}
	s.Compared = func(c *ast.Compare, n condition.Node) {
		if text := c.String(); !known[text] {
			known[text] = true
			r.rb.Comparisons = append(r.rb.Comparisons, Comparison{c, n})
		}
	}
	if d := r.decls.risk; d != nil {
		s.Risk = true
		s.Bands = r.bands(d.Bands)
	}
	return s
}

// condition compiles a condition, which is nil where its clause did not parse.
func (r *resolver) condition(scope *condition.Scope, c ast.Cond, kind condition.Kind) condition.Node {
	if c == nil {
		return nil
	}
	return scope.Compile(c, kind)
}

func (r *resolver) bands(list []ast.Band) (bands []condition.Band) {
	low := 0
	for i, b := range list {
		high, ok := wholeNumber(b.To.Text, low, risk.Most)
		switch {
		case !ok:
			r.fail(b.To, "bands go upward, each to a whole number of at most 100", "the band %q cannot end at %q", b.Name.Text, b.To.Text)
			high = min(low, risk.Most)
		case i == len(list)-1 && high != risk.Most:
			r.fail(b.To, "the last band ends at 100", "the scores above %d are in no band", high)
		case slices.ContainsFunc(bands, func(o condition.Band) bool { return o.Name == b.Name.Text }):
			r.fail(b.Name, "rename one", "the band %q is declared twice", b.Name.Text)
		}
		bands = append(bands, condition.Band{Name: b.Name.Text, Low: low, High: high})
		low = high + 1
	}
	return bands
}

func wholeNumber(text string, least, most int) (int, bool) {
	n, err := strconv.Atoi(text)
	if err != nil || n < least || n > most || strings.HasPrefix(text, "+") {
		return 0, false
	}
	return n, true
}

func (r *resolver) baselines(scope *condition.Scope) {
	for _, d := range r.decls.baselines.list {
		b := &Baseline{Name: d.Name.Text}
		var labels []ast.Name
		for _, c := range d.Checks {
			b.Checks = append(b.Checks, Check{c.Label.Text, r.condition(scope, c.Cond, condition.OfCheck)})
			labels = append(labels, c.Label)
		}
		r.once(labels)
		r.rb.Baselines = append(r.rb.Baselines, b)
	}
}

func (r *resolver) riskModel(scope *condition.Scope) {
	d := r.decls.risk
	if d == nil {
		return
	}
	if d.Name.Text != "model" {
		r.fail(d.Name, "write: risk model { … }", "the risk model is named \"model\", not %q", d.Name.Text)
	}
	m := &risk.Model{Bands: scope.Bands}
	for _, f := range d.Factors {
		add, ok := wholeNumber(f.Add.Text, 1, risk.Most)
		if !ok {
			r.fail(f.Add, "write a whole number from 1 to 100", "a factor cannot add %q", f.Add.Text)
		}
		if f.Cond != nil {
			m.Factors = append(m.Factors, risk.Factor{Add: add, Text: f.Cond.String(), When: scope.Compile(f.Cond, condition.OfFactor)})
		}
	}
	r.rb.Risk = m
}

func (r *resolver) scopeSets() {
	r.rb.ScopeSets = []*ScopeSet{{Name: "unclassified", Weight: 100}}
	r.names.scopes["unclassified"] = Unclassified
	for _, d := range r.decls.scopes.list {
		s := &ScopeSet{Name: d.Name.Text, Weight: 20, exact: map[string]bool{}}
		if d.Weight.Given() {
			weight, ok := wholeNumber(d.Weight.Text, 0, 100)
			if !ok {
				r.fail(d.Weight, "write a whole number from 0 to 100", "a set of scopes cannot weigh %q", d.Weight.Text)
			}
			s.Weight = weight
		}
		if s.Name == "unclassified" {
			if len(d.Items) > 0 {
				r.fail(d.Items[0], "declare its weight alone: scopes unclassified weight 60 { }", "the set unclassified holds what no other set names")
			}
			if d.Weight.Given() {
				r.rb.ScopeSets[Unclassified].Weight = s.Weight
			}
			continue
		}
		for _, item := range d.Items {
			if prefix, any := strings.CutSuffix(item.Text, "*"); any {
				s.prefixes = append(s.prefixes, prefix)
			} else {
				s.exact[item.Text] = true
			}
		}
		r.once(d.Items)
		r.names.scopes[s.Name] = len(r.rb.ScopeSets)
		r.rb.ScopeSets = append(r.rb.ScopeSets, s)
	}
}

// settings are what the rulebook block says beside its time zone.
func (r *resolver) settings() {
	d := r.decls.rulebook
	if d.Unmatched.Text == "grant" {
		r.rb.Unmatched = signon.Grant
	}
	switch {
	case d.Floor != nil:
		r.rb.Floor = r.demand(d.Floor)
	case !d.FloorNone.IsValid():
		r.rb.Floor = r.demand(&ast.DemandAtom{Name: ast.Name{Text: "aal1"}, Fresh: &ast.Fresh{Kind: ast.EverySession}})
	}
	r.geo(d.Geo)
	r.devices(d.Devices)
	r.history(d.History)
	if d.BreakGlass != nil {
		r.breakGlass(d.BreakGlass)
	}
}

func (r *resolver) breakGlass(b *ast.BreakGlass) {
	r.once(b.Users)
	for _, u := range b.Users {
		decl, ok := r.decls.users.byName[u.Text]
		switch {
		case !ok:
			r.fail(u, "declare it: user "+u.String()+" { … }", "the emergency account %q has no user block", u.Text)
		case decl.Active.Text == "no":
			r.fail(u, "take \"active no\" out of its block", "the emergency account %q is disabled", u.Text)
		default:
			r.rb.People[u.Text].BreakGlass = true
		}
	}
	r.rb.BreakGlass = r.demand(b.Demand)
}

// date reads a date and gives its first instant, and that of the day after.
func (r *resolver) date(n ast.Name) (start, next time.Time) {
	d, err := schedule.ParseDate(n.Text)
	if err != nil {
		r.fail(n, "", "%v", err)
		return time.Time{}, time.Time{}
	}
	return d.Start(r.rb.Zone), d.Next().Start(r.rb.Zone)
}

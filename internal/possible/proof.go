package possible

// What is proved: which methods are presented, and which were before.

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"time"

	"briskwarden.example/briskwarden/internal/demand"
	"briskwarden.example/briskwarden/internal/logic"
	"briskwarden.example/briskwarden/language/ast"
	"briskwarden.example/briskwarden/signon"
)

// proofSpace is what is proved in a space.
type proofSpace struct {
	presented map[string]logic.Lit // by method, or change of the password
	records   map[record]logic.Lit
	session   logic.Lit                   // the sign-on is in a session
	begun     map[time.Duration]logic.Lit // known to have begun that lately
	asked     bool                        // whether a session matters
}

// record is a kind of record of a method: it reaches a freshness, and no more than follows from that.
type record struct {
	method    string
	kind      ast.FreshKind
	age       time.Duration // of [ast.EveryAge]
	ever      bool          // of whatever age
	anyDevice bool
	perApp    bool
}

func (p *proofSpace) begin() {
	p.presented, p.records, p.begun = map[string]logic.Lit{}, map[record]logic.Lit{}, map[time.Duration]logic.Lit{}
}

// presents is whether a method is presented with the sign-on.
func (sp *Space) presents(method string) logic.Lit {
	l, built := sp.proof.presented[method]
	if !built {
		l = sp.Variable()
		sp.proof.presented[method] = l
	}
	return l
}

// methodName is the name of a method of a rulebook, by its id there.
func methodName(s *side, id int) string {
	if id == demand.ChangedPassword {
		return demand.ChangePassword
	}
	return s.rb.Methods.All()[id].Name
}

// shown is whether a method is proved as freshly as asked, where a session counts for so long.
func (sp *Space) shown(method string, f *demand.Fresh, terms *demand.Terms) logic.Lit {
	now := sp.presents(method)
	switch f.Kind {
	case ast.EveryTime:
		return now
	case ast.EverySession:
		l := sp.record(record{method: method, kind: f.Kind, perApp: f.PerApp})
		if terms.Limited {
			l = sp.And(l, sp.begunWithin(terms.Lasts))
		}
		return sp.Or(now, l)
	}
	r := record{method: method, kind: f.Kind, age: f.Age, ever: f.Ever, anyDevice: f.AnyDevice, perApp: f.PerApp}
	return sp.Or(now, sp.record(r))
}

func (sp *Space) record(r record) logic.Lit {
	l, built := sp.proof.records[r]
	if !built {
		l = sp.Variable()
		sp.proof.records[r] = l
		switch {
		case r.kind == ast.EverySession:
			sp.Imply(sp.inSession(), l)
		case !r.anyDevice:
			sp.Imply(sp.identified(), l)
		}
	}
	return l
}

// identified is whether the device has an id.
func (sp *Space) identified() logic.Lit {
	return sp.prop(sp.w.byName[deviceAxis], "has an id", func(_, cell int) timeline { return alwaysOf(sp.w.identified(cell) == told) }).Must
}

func (sp *Space) inSession() logic.Lit {
	p := &sp.proof
	if !p.asked {
		p.session, p.asked = sp.Variable(), true
	}
	return p.session
}

// begunWithin is whether the session is known to have begun that lately.
func (sp *Space) begunWithin(d time.Duration) logic.Lit {
	l, built := sp.proof.begun[d]
	if !built {
		l = sp.Variable()
		sp.proof.begun[d] = l
		sp.Imply(sp.inSession(), l)
	}
	return l
}

// follows reports whether a record that reaches r always reaches s too.
func (r record) follows(s record) bool {
	switch {
	case r.method != s.method || s.perApp && !r.perApp:
		return false
	case s.ever && s.anyDevice:
		return true
	case r.kind != s.kind || !s.anyDevice && r.anyDevice:
		return false
	case r.kind == ast.EverySession:
		return true
	}
	return !r.ever && (s.ever || r.age <= s.age)
}

// bindProof has with each freshness be reached what follows from it.
func (sp *Space) bindProof() {
	p := &sp.proof
	records := slices.SortedFunc(maps.Keys(p.records), compareRecords)
	for _, r := range records {
		for _, s := range records {
			if r != s && r.follows(s) {
				sp.Imply(p.records[s], p.records[r])
			}
		}
	}
	ages := slices.Sorted(maps.Keys(p.begun))
	for i := 1; i < len(ages); i++ {
		sp.Imply(p.begun[ages[i]], p.begun[ages[i-1]])
	}
}

// Enrolled is whether the person is enrolled in a method of a rulebook.
func (sp *Space) Enrolled(number, id int) logic.Lit {
	return sp.OfKind(fmt.Sprint(number, " enrolled ", id), func(k *Kind) bool {
		return k.persons[number] != nil && k.persons[number].Methods.Has(id)
	})
}

// MethodsOf are the methods that people of a kind are enrolled in, by any rulebook.
func (w *World) MethodsOf(k *Kind) (names []string) {
	for i, s := range w.sides {
		if p := k.persons[i]; p != nil {
			p.Methods.Each(func(id int) { names = append(names, s.rb.Methods.All()[id].Name) })
		}
	}
	return names
}

// PresentsAll is whether every method that the person is enrolled in, and a change of the password, is presented.
func (sp *Space) PresentsAll(number int) logic.Lit {
	s := sp.w.sides[number]
	list := []logic.Lit{sp.presents(demand.ChangePassword)}
	for _, m := range s.rb.Methods.All() {
		list = append(list, sp.Or(sp.Enrolled(number, m.ID).Not(), sp.presents(m.Name)))
	}
	return sp.And(list...)
}

// ProvesOwn is whether nothing is proved by a method that the person is not enrolled in. It is asked when
// all else was.
func (sp *Space) ProvesOwn(number int) logic.Lit {
	var list []logic.Lit
	own := func(method string, proved logic.Lit) {
		if m, known := sp.w.sides[number].rb.Methods.Lookup(method); known {
			list = append(list, sp.Or(proved.Not(), sp.Enrolled(number, m.ID)))
		}
	}
	for _, method := range slices.Sorted(maps.Keys(sp.proof.presented)) {
		own(method, sp.proof.presented[method])
	}
	for _, r := range slices.SortedFunc(maps.Keys(sp.proof.records), compareRecords) {
		own(r.method, sp.proof.records[r])
	}
	return sp.And(list...)
}

func compareRecords(a, b record) int {
	flag := func(x, y bool) int { return cmp.Compare(fmt.Sprint(x), fmt.Sprint(y)) }
	return cmp.Or(cmp.Compare(a.method, b.method), cmp.Compare(a.kind, b.kind), cmp.Compare(a.age, b.age), flag(a.ever, b.ever),
		flag(a.anyDevice, b.anyDevice), flag(a.perApp, b.perApp))
}

// thisSession is the id that a witness gives to its session.
const thisSession = "s-1"

// prove states what was found to be proved.
func (sp *Space) prove(so *signon.SignOn) {
	p := &sp.proof
	if p.asked && sp.Holds(p.session) {
		so.Session.ID = thisSession
		for _, age := range slices.Backward(slices.Sorted(maps.Keys(p.begun))) {
			if sp.Holds(p.begun[age]) {
				so.Session.Started = so.Time.Add(-age)
			}
		}
	}
	for _, method := range slices.Sorted(maps.Keys(p.presented)) {
		if sp.Holds(p.presented[method]) {
			so.Presented = append(so.Presented, method)
		}
	}
	var found []record
	oldest := time.Duration(0)
	for _, r := range slices.SortedFunc(maps.Keys(p.records), compareRecords) {
		oldest = max(oldest, r.age)
		if sp.Holds(p.records[r]) && !slices.Contains(so.Presented, r.method) {
			found = append(found, r)
		}
	}
	for _, r := range found {
		if !slices.ContainsFunc(found, func(other record) bool { return other != r && other.follows(r) && !r.follows(other) }) {
			so.Evidence = append(so.Evidence, r.evidence(so, oldest))
		}
	}
}

// evidence is a record that reaches the freshness, and no more than follows from it.
func (r record) evidence(so *signon.SignOn, oldest time.Duration) signon.Evidence {
	e := signon.Evidence{Method: r.method, Time: so.Time.Add(-r.age)}
	if r.kind == ast.EverySession {
		e.Session = so.Session.ID
	}
	if r.kind == ast.EverySession || r.ever {
		e.Time = so.Time.Add(-oldest - time.Minute)
	}
	if r.kind == ast.EveryAge && !r.anyDevice {
		e.Device = so.Device.ID
	}
	if r.perApp {
		e.App = so.App
	}
	return e
}

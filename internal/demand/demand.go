package demand

// Whether a demand is met, or can be: freshness, grace, lifting.

import (
	"time"

	"briskwarden.example/briskwarden/language/ast"
)

// Demand is a demand with its names bound and each atom's freshness settled.
type Demand struct {
	Text   string // as it is written, on one line
	root   *node
	enrols bool // it holds an enrol
	ages   bool // it holds an atom that a session's proof may not meet
}

type op uint8

const (
	and op = iota
	or
	named // a named demand, with its expansion as the one part
	method
	level
	changePassword
	deviceMeets
	enrol
)

type node struct {
	op       op
	parts    []*node
	name     string // of a named demand
	method   *Method
	level    int
	baseline int
	fresh    Fresh
	grace    time.Duration
	hasGrace bool
}

// Fresh says how fresh a proof must be.
type Fresh struct {
	Kind      ast.FreshKind
	Age       time.Duration
	Ever      bool // of whatever age, in place of Age
	AnyDevice bool
	PerApp    bool
}

// Record is evidence from an earlier sign-on. Method is -1 for a change of the password.
type Record struct {
	Method  int
	Time    time.Time
	Session string
	Device  string
	App     string
}

// ChangedPassword is the Method of a record that the password was changed.
const ChangedPassword = -1

// Posture tells whether the device at hand meets a baseline.
type Posture interface {
	Meets(baseline int) bool
}

// Enrolment tells whether the user may enrol at the prompt.
type Enrolment interface {
	MayEnrol() bool
}

// Proof is what one sign-on has to show, whatever the policy.
type Proof struct {
	Methods   *Methods
	Enrolled  Set
	Presented Set
	Changed   bool // a change of the password is among what is presented
	Records   []Record
	Now       time.Time
	Session   string
	Started   time.Time // of the session; zero is unknown
	Device    string
	App       string
	Used      bool      // it is known when the session was used:
	LastGrant time.Time // from when on it is idle
	Joined    time.Time // 00:00 of the user's joined date; zero is unknown
	Posture   Posture
	Enrolment Enrolment
}

// Terms are the terms on which one policy makes its demands.
type Terms struct {
	Lasts       time.Duration // of "session lasts"
	Limited     bool          // whether it says so
	Idle        time.Duration // of "idle"
	IdleLimited bool          // whether it says so
	Enforced    time.Time     // 00:00 of the date from which it is enforced for the user; zero is not stated
	Lifts       []*Lift
}

// Lift is what one waiver takes out of demands.
type Lift struct {
	Everything bool
	Methods    Set
	Levels     [4]bool
	Named      map[string]bool
	Change     bool
	Devices    map[int]bool
}

func (l *Lift) covers(n *node) bool {
	if l.Everything {
		return true
	}
	switch n.op {
	case method, enrol:
		return l.Methods.Has(n.method.ID)
	case level:
		return l.Levels[n.level]
	case named:
		return l.Named[n.name]
	case changePassword:
		return l.Change
	case deviceMeets:
		return l.Devices[n.baseline]
	}
	return false
}

// fresh reports whether a record meets a freshness.
func (p *Proof) fresh(f *Fresh, r *Record, terms *Terms) bool {
	if r.Time.After(p.Now) || f.PerApp && (r.App == "" || r.App != p.App) {
		return false
	}
	switch f.Kind {
	case ast.EverySession:
		if r.Session == "" || r.Session != p.Session {
			return false
		}
		return (!terms.Limited || !p.Started.IsZero() && within(p.Now, p.Started, terms.Lasts)) &&
			(!terms.IdleLimited || !p.Used || within(p.Now, p.LastGrant, terms.Idle))
	case ast.EveryAge:
		return (f.Ever || within(p.Now, r.Time, f.Age)) && (f.AnyDevice || r.Device != "" && r.Device == p.Device)
	}
	return false
}

// within reports whether then is not after now and at most age before it.
func within(now, then time.Time, age time.Duration) bool {
	return !then.After(now) && !then.Before(now.Add(-age))
}

// shown are the methods whose proof meets the freshness.
func (p *Proof) shown(f *Fresh, terms *Terms) Set {
	s := p.Presented
	if f.Kind == ast.EveryTime {
		return s
	}
	for i := range p.Records {
		if r := &p.Records[i]; r.Method != ChangedPassword && !s.Has(r.Method) && p.fresh(f, r, terms) {
			s.Add(r.Method)
		}
	}
	return s
}

// has reports whether the method, or a change of the password, is proved freshly enough.
func (p *Proof) has(id int, f *Fresh, terms *Terms) bool {
	if id == ChangedPassword && p.Changed || id != ChangedPassword && p.Presented.Has(id) {
		return true
	}
	if f.Kind == ast.EveryTime {
		return false
	}
	for i := range p.Records {
		if r := &p.Records[i]; r.Method == id && p.fresh(f, r, terms) {
			return true
		}
	}
	return false
}

// Met reports whether the demand is met: as it is written, or with what is lifted taken out.
func (d *Demand) Met(p *Proof, terms *Terms) bool {
	e := evaluation{proof: p, terms: terms}
	return e.holds(d)
}

// CanBeMet reports whether the demand is met or can be met by the person at the prompt.
// Whether the user may enrol is asked only when it matters.
func (d *Demand) CanBeMet(p *Proof, terms *Terms) bool {
	e := evaluation{proof: p, terms: terms, possibly: true}
	if e.holds(d) {
		return true
	}
	e.enrolling = true
	return e.holds(d) && p.Enrolment.MayEnrol()
}

// Within reports whether the enrolled methods could meet the demand, however fresh.
// It is for demands of methods and assurance levels alone.
func (d *Demand) Within(methods *Methods, enrolled Set) bool {
	return d.root.within(methods, enrolled)
}

func (n *node) within(methods *Methods, enrolled Set) bool {
	switch n.op {
	case method:
		return enrolled.Has(n.method.ID)
	case level:
		return methods.Reach(n.level, enrolled)
	}
	for _, part := range n.parts {
		if part.within(methods, enrolled) == (n.op == or) {
			return n.op == or
		}
	}
	return n.op != or
}

// evaluation asks whether a demand is met or, possibly, can be.
type evaluation struct {
	proof *Proof
	terms *Terms

	possibly  bool // with what the user is enrolled in
	enrolling bool // and with what the user could enrol in
	lifting   bool // with what is lifted taken out
}

func (e *evaluation) holds(d *Demand) bool {
	e.lifting = false
	if held, _ := e.node(d.root); held {
		return true
	}
	if len(e.terms.Lifts) == 0 {
		return false
	}
	e.lifting = true
	held, gone := e.node(d.root)
	return held || gone
}

func (e *evaluation) lifted(n *node) bool {
	return e.lifting && len(e.terms.Lifts) > 0 && e.covered(n)
}

func (e *evaluation) covered(n *node) bool {
	for _, l := range e.terms.Lifts {
		if l.covers(n) {
			return true
		}
	}
	return false
}

// node reports whether the part holds, and whether it is gone, with all of its parts lifted.
func (e *evaluation) node(n *node) (held, gone bool) {
	if e.lifted(n) {
		return true, true
	}
	switch n.op {
	case named:
		return e.node(n.parts[0])
	case and, or:
		held, gone = n.op == and, true
		for _, part := range n.parts {
			h, g := e.node(part)
			if g {
				continue
			}
			gone = false
			if h != (n.op == and) {
				return h, false
			}
		}
		return held, gone
	}
	return e.atom(n), false
}

func (e *evaluation) atom(n *node) bool {
	p := e.proof
	switch n.op {
	case method:
		return e.enrolling || e.possibly && p.Enrolled.Has(n.method.ID) || p.has(n.method.ID, &n.fresh, e.terms)
	case level:
		shown := p.Presented
		if e.possibly {
			shown |= p.Enrolled
		}
		return e.enrolling || p.Methods.Reach(n.level, shown) || p.Methods.Reach(n.level, shown|p.shown(&n.fresh, e.terms))
	case changePassword:
		return e.possibly || p.has(ChangedPassword, &n.fresh, e.terms)
	case deviceMeets:
		return p.Posture.Meets(n.baseline)
	default:
		return e.enrolling || p.Enrolled.Has(n.method.ID) || p.inGrace(n, e.terms)
	}
}

func (p *Proof) inGrace(n *node, terms *Terms) bool {
	end, ok := p.deadline(n, terms)
	return ok && p.Now.Before(end)
}

// deadline is when the grace of an enrol ends.
func (p *Proof) deadline(n *node, terms *Terms) (time.Time, bool) {
	end, ok := Deadline(p.Joined, terms.Enforced, n.grace)
	return end, ok && n.hasGrace
}

// Deadline is when a grace ends that counts from the later of the day on which the user joined and
// the day from which the policy is enforced, of whichever is stated; not ok where neither is.
func Deadline(joined, enforced time.Time, grace time.Duration) (end time.Time, ok bool) {
	start := joined
	if enforced.After(start) {
		start = enforced
	}
	return start.Add(grace), !start.IsZero()
}

// Grace is an enrolment that a demand still waits for.
type Grace struct {
	Method   *Method
	Deadline time.Time
}

// Graces lists the enrolments that the demand would ask for, were it not for their grace.
func (d *Demand) Graces(p *Proof, terms *Terms) (list []Grace) {
	if !d.enrols {
		return nil
	}
	e := evaluation{proof: p, terms: terms, lifting: true}
	e.atoms(d.root, func(n *node) {
		if n.op == enrol && !p.Enrolled.Has(n.method.ID) && p.inGrace(n, terms) {
			end, _ := p.deadline(n, terms)
			list = append(list, Grace{n.method, end})
		}
	})
	return list
}

// Baselines are those that the demand asks the device to meet.
func (d *Demand) Baselines() (list []int) {
	e := evaluation{terms: &Terms{}}
	e.atoms(d.root, func(n *node) {
		if n.op == deviceMeets {
			list = append(list, n.baseline)
		}
	})
	return list
}

// atoms calls f with each atom that is not lifted.
func (e *evaluation) atoms(n *node, f func(*node)) {
	if e.lifted(n) {
		return
	}
	for _, part := range n.parts {
		e.atoms(part, f)
	}
	if n.op != and && n.op != or && n.op != named {
		f(n)
	}
}

// MaxAge is the shortest age in seconds that the unmet atoms of the demand allow; 0 for
// "every time". ok is false where none limits it.
func (d *Demand) MaxAge(p *Proof, terms *Terms) (seconds int64, ok bool) {
	if !d.ages {
		return 0, false
	}
	e := evaluation{proof: p, terms: terms, lifting: true}
	e.atoms(d.root, func(n *node) {
		if n.op == deviceMeets || n.op == enrol || n.fresh.Kind == ast.EverySession || e.atom(n) {
			return
		}
		if age := int64(n.fresh.Age / time.Second); !ok || age < seconds {
			seconds, ok = age, true
		}
	})
	return seconds, ok
}

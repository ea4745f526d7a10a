package replay

// What a replay counts.

import (
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// MostBad is how many bad lines are listed.
const MostBad = 20

// Summary is what a replay counted.
type Summary struct {
	Spread
	Refused  int // that could not be decided: a stated attribute of the wrong type
	BadLines int
	Bad      []BadLine // the first of them
	Unread   []string  // logs that have lines, none of which can be read

	Countries map[string]*Outcomes
	Forms     map[string]*Outcomes // of devices
	Networks  []Outcomes           // by the id of the named network
	Elsewhere Outcomes             // in no named network
	Reasoning
	People   map[string]*PersonTally
	Watched  []Watching // the policies on watch that applied, by name
	Consents Consents   // requests of client applications, which count for nothing else but Watched

	rb      *rulebook.Rulebook
	watched map[*rulebook.Policy]*WatchTally
	person  latest[PersonTally]
	country latest[Outcomes]
	form    latest[Outcomes]
}

// Reasoning is what decided, and what became of what the log recorded.
type Reasoning struct {
	Cases    []CaseTally          // by the number of the case
	Grounds  map[string]*Outcomes // what decided beside policies
	Recorded Table                // by the outcome that the log recorded, and that of now
}

// Consents counts requests for consent.
type Consents struct {
	Outcomes Outcomes
	Reasoning
	Clients map[string]*Outcomes // by client application
}

// Case is a case of a policy.
type Case struct {
	Policy string
	Label  string // "otherwise" for the last
	When   string // its condition, as it is written; empty for the last
	Asks   string // its demand, as it is written; empty for none
	At     string // file:line
	line   int32
}

func caseOf(p *rulebook.Policy, k *rulebook.Case) Case {
	c := Case{Policy: p.Name, Label: k.Label, When: k.Text, At: k.Pos.InFile(), line: k.Pos.Line}
	if k.Demand != nil {
		c.Asks = k.Demand.Text
	}
	return c
}

// CaseTally counts what became of a case.
type CaseTally struct {
	Case
	Taken   Outcomes // of the decisions where it was taken
	Open    int      // where it was unknown
	Decided Outcomes // of the decisions that it gave, alone or among others
	first   Outcomes // of those that no earlier case of the policy gave
}

// Occurred reports whether the case was taken or unknown at all.
func (t *CaseTally) Occurred() bool { return t.Open+t.Taken.All() > 0 }

// PersonTally counts what became of a person's sign-ons.
type PersonTally struct {
	Outcomes Outcomes
	Stricter int // than the log recorded
	Looser   int
}

// WatchTally counts what a policy on watch would have done, were it enforced.
type WatchTally struct {
	Applied int
	Block   map[string]int // by user: what it would have blocked
	StepUp  map[string]int // by user: what it would have stepped up
	Already int            // what it would have stopped, had not another policy done so
	Unsure  int            // how many of Block rest on unknown facts alone
}

func newSummary(rb *rulebook.Rulebook) *Summary {
	return &Summary{rb: rb, Spread: newSpread(rb.Zone), Countries: map[string]*Outcomes{}, Forms: map[string]*Outcomes{},
		Networks: make([]Outcomes, len(rb.Networks.Names)), Reasoning: newReasoning(rb), People: map[string]*PersonTally{},
		watched: map[*rulebook.Policy]*WatchTally{}, Consents: Consents{Reasoning: newReasoning(rb), Clients: map[string]*Outcomes{}}}
}

func newReasoning(rb *rulebook.Rulebook) Reasoning {
	r := Reasoning{Grounds: map[string]*Outcomes{}}
	for _, p := range rb.Policies {
		for i := range p.Cases {
			r.Cases = append(r.Cases, CaseTally{Case: caseOf(p, &p.Cases[i])})
		}
	}
	return r
}

// count counts one decision.
func (s *Summary) count(l *Line, c *engine.Trace) {
	so, outcome := &l.SignOn, c.Outcome
	if so.Action == rulebook.Consent {
		s.consent(l, c)
		return
	}
	s.Spread.count(so, outcome)
	s.form.at(s.Forms, c.Form)[outcome]++
	person := s.person.at(s.People, so.User)
	person.Outcomes[outcome]++
	if l.Recorded {
		s.Recorded[l.Outcome][outcome]++
		switch {
		case outcome.StricterThan(l.Outcome):
			person.Stricter++
		case l.Outcome.StricterThan(outcome):
			person.Looser++
		}
	}
	s.ground(c)
	if c.Person == nil {
		return
	}
	s.country.at(s.Countries, c.Country)[outcome]++
	inSome := false
	for id := range c.Networks.All() {
		s.Networks[id][outcome]++
		inSome = true
	}
	if !inSome {
		s.Elsewhere[outcome]++
	}
	s.cases(so.User, c, &s.Reasoning)
}

// consent counts a request for consent.
func (s *Summary) consent(l *Line, c *engine.Trace) {
	t, outcome := &s.Consents, c.Outcome
	t.Outcomes[outcome]++
	if l.Recorded {
		t.Recorded[l.Outcome][outcome]++
	}
	client := ""
	if l.Consent != nil {
		client = l.Consent.Client
	}
	at(t.Clients, client)[outcome]++
	t.ground(c)
	s.cases(l.User, c, &t.Reasoning)
}

// ground counts what decided beside policies.
func (s *Reasoning) ground(c *engine.Trace) {
	if c.Ground != signon.GroundPolicies {
		at(s.Grounds, c.Ground.String())[c.Outcome]++
	}
}

// cases counts the cases that counted, and what those on watch would have done.
func (s *Summary) cases(user string, c *engine.Trace, to *Reasoning) {
	outcome := c.Outcome
	var watched, decided *rulebook.Policy
	var would wouldBe
	for i := range c.Cases {
		step := &c.Cases[i]
		if step.Policy != watched && watched != nil {
			s.watch(watched, user, would, outcome)
			watched = nil
		}
		if step.Stage == rulebook.Watch {
			if watched == nil {
				watched, would = step.Policy, wouldBe{outcome: signon.Grant}
			}
			if step.Case.Kind != rulebook.Abstain {
				would.add(step.Outcome, step.Sure)
			}
			continue
		}
		t := &to.Cases[step.Case.Number]
		if step.Sure {
			t.Taken[outcome]++
		} else {
			t.Open++
		}
		if step.Decides {
			t.Decided[outcome]++
			if step.Policy != decided {
				decided = step.Policy
				t.first[outcome]++
			}
		}
	}
	if watched != nil {
		s.watch(watched, user, would, outcome)
	}
}

// wouldBe is the strictest outcome of a policy's cases, and whether one that is surely so gives it.
type wouldBe struct {
	outcome signon.Outcome
	sure    bool
}

func (w *wouldBe) add(o signon.Outcome, sure bool) {
	switch {
	case o.StricterThan(w.outcome):
		*w = wouldBe{o, sure}
	case o == w.outcome:
		w.sure = w.sure || sure
	}
}

func (s *Summary) watch(p *rulebook.Policy, user string, would wouldBe, outcome signon.Outcome) {
	w := s.watchTally(p)
	w.Applied++
	switch {
	case would.outcome == signon.Grant || would.outcome == signon.Review:
	case !would.outcome.StricterThan(outcome):
		w.Already++
	case would.outcome == signon.Block:
		w.Block[user]++
		if !would.sure {
			w.Unsure++
		}
	default:
		w.StepUp[user]++
	}
}

// watched finds the counts of a policy on watch, and begins them where there are none.
func (s *Summary) watchTally(p *rulebook.Policy) *WatchTally {
	w := at(s.watched, p)
	if w.Block == nil {
		w.Block, w.StepUp = map[string]int{}, map[string]int{}
	}
	return w
}

// addPeople adds what another worker counted of people.
func addPeople(to, from map[string]*PersonTally) {
	for user, p := range from {
		t := at(to, user)
		t.Outcomes.add(&p.Outcomes)
		t.Stricter += p.Stricter
		t.Looser += p.Looser
	}
}

// add adds what another worker counted.
func (s *Summary) add(o *Summary) {
	s.Spread.add(&o.Spread)
	s.Elsewhere.add(&o.Elsewhere)
	s.Refused += o.Refused
	addAll(s.Countries, o.Countries)
	addAll(s.Forms, o.Forms)
	s.Reasoning.add(&o.Reasoning)
	s.Consents.Outcomes.add(&o.Consents.Outcomes)
	s.Consents.Reasoning.add(&o.Consents.Reasoning)
	addAll(s.Consents.Clients, o.Consents.Clients)
	for i := range s.Networks {
		s.Networks[i].add(&o.Networks[i])
	}
	addPeople(s.People, o.People)
	for k, v := range o.watched {
		w := s.watchTally(k)
		w.Applied += v.Applied
		w.Already += v.Already
		w.Unsure += v.Unsure
		for u, n := range v.Block {
			w.Block[u] += n
		}
		for u, n := range v.StepUp {
			w.StepUp[u] += n
		}
	}
}

func (s *Reasoning) add(o *Reasoning) {
	addAll(s.Grounds, o.Grounds)
	for i := range o.Cases {
		t, v := &s.Cases[i], &o.Cases[i]
		t.Taken.add(&v.Taken)
		t.Decided.add(&v.Decided)
		t.first.add(&v.first)
		t.Open += v.Open
	}
	s.Recorded.add(&o.Recorded)
}

package replay

import (
	"cmp"
	"slices"
	"time"

	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/internal/schedule"
	"briskwarden.example/briskwarden/signon"
)

// Outcomes counts sign-ons by outcome.
type Outcomes [4]int

// All is how many there are.
func (o *Outcomes) All() int { return o[0] + o[1] + o[2] + o[3] }

// MostBad is how many bad lines are listed.
const MostBad = 20

// Summary is what a replay counted.
type Summary struct {
	Outcomes Outcomes
	Refused  int // that could not be decided: a stated attribute of the wrong type
	BadLines int
	Bad      []BadLine // the first of them
	First    time.Time // and the last
	Last     time.Time

	Apps      map[string]*Outcomes
	Countries map[string]*Outcomes
	Forms     map[string]*Outcomes        // of devices
	Days      map[schedule.Date]*Outcomes // on the rulebook's clock
	Networks  []Outcomes                  // by the id of the named network
	Hours     [7][24]Outcomes             // of the week
	Elsewhere Outcomes                    // in no named network
	Cases     map[*rulebook.Case]*CaseTally
	Grounds   map[string]*Outcomes // what decided beside policies

	Recorded [4][4]int // by the outcome that the log recorded, and that of now
	People   map[string]*PersonTally
	Watched  map[*rulebook.Policy]*WatchTally

	rb    *rulebook.Rulebook
	quart int64 // the quarter of an hour that day, hour and weekday are of
	day   *Outcomes
	hour  *Outcomes
}

// CaseTally counts what became of a case.
type CaseTally struct {
	Policy  *rulebook.Policy
	Taken   Outcomes // of the decisions where it was taken
	Open    int      // where it was unknown
	Decided Outcomes // of the decisions that it gave, alone or among others
}

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
}

func newSummary(rb *rulebook.Rulebook) *Summary {
	return &Summary{rb: rb, Apps: map[string]*Outcomes{}, Countries: map[string]*Outcomes{}, Forms: map[string]*Outcomes{}, Days: map[schedule.Date]*Outcomes{},
		Networks: make([]Outcomes, len(rb.Networks.Names)), Cases: map[*rulebook.Case]*CaseTally{}, Grounds: map[string]*Outcomes{},
		People: map[string]*PersonTally{}, Watched: map[*rulebook.Policy]*WatchTally{}, quart: -1 << 62}
}

func at[K comparable, V any](m map[K]*V, key K) *V {
	v, ok := m[key]
	if !ok {
		v = new(V)
		m[key] = v
	}
	return v
}

// count counts one decision.
func (s *Summary) count(l *Line, c *engine.Course, outcome signon.Outcome) {
	so := &l.SignOn
	s.Outcomes[outcome]++
	at(s.Apps, so.App)[outcome]++
	at(s.Forms, c.Form())[outcome]++
	s.when(so.Time)
	s.day[outcome]++
	s.hour[outcome]++
	if s.First.IsZero() || so.Time.Before(s.First) {
		s.First = so.Time
	}
	if so.Time.After(s.Last) {
		s.Last = so.Time
	}
	person := at(s.People, so.User)
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
	if c.Person() == nil {
		at(s.Grounds, "the user is not known")[outcome]++
		return
	}
	at(s.Countries, c.Country())[outcome]++
	inSome := false
	c.Networks(func(id int) {
		s.Networks[id][outcome]++
		inSome = true
	})
	if !inSome {
		s.Elsewhere[outcome]++
	}
	s.ground(c, outcome)
	s.steps(so.User, c, outcome)
}

// when finds the day and the hour of the week; those of the same quarter of an hour are the same.
func (s *Summary) when(t time.Time) {
	quart := t.Unix() / 900
	if quart == s.quart {
		return
	}
	s.quart = quart
	local := t.In(s.rb.Zone)
	y, m, d := local.Date()
	s.day = at(s.Days, schedule.Date{Year: y, Month: m, Day: d})
	s.hour = &s.Hours[(local.Weekday()+6)%7][local.Hour()]
}

// ground counts what decided beside policies.
func (s *Summary) ground(c *engine.Course, outcome signon.Outcome) {
	switch {
	case c.Disabled():
		at(s.Grounds, "the user is disabled")[outcome]++
	case !c.Asked() && c.Person().BreakGlass:
		at(s.Grounds, "an emergency account")[outcome]++
	case !c.Asked():
		at(s.Grounds, "the app or action is not known")[outcome]++
	case c.Unmatched():
		at(s.Grounds, "no policy spoke: unmatched")[outcome]++
	case c.Floor():
		at(s.Grounds, "the floor")[outcome]++
	}
}

// steps counts the cases that were heard, and what those on watch would have done.
func (s *Summary) steps(user string, c *engine.Course, outcome signon.Outcome) {
	var watched *rulebook.Policy
	strictest := signon.Grant
	for step := range c.Steps() {
		if step.Policy != watched && watched != nil {
			s.watch(watched, user, strictest, outcome)
			watched = nil
		}
		if step.Stage == rulebook.Watch {
			if watched == nil {
				watched, strictest = step.Policy, signon.Grant
			}
			if step.Case.Kind != rulebook.Abstain && step.Outcome.StricterThan(strictest) {
				strictest = step.Outcome
			}
			continue
		}
		t := at(s.Cases, step.Case)
		t.Policy = step.Policy
		if step.Sure {
			t.Taken[outcome]++
		} else {
			t.Open++
		}
		if step.Decides {
			t.Decided[outcome]++
		}
	}
	if watched != nil {
		s.watch(watched, user, strictest, outcome)
	}
}

func (s *Summary) watch(p *rulebook.Policy, user string, would, outcome signon.Outcome) {
	w := at(s.Watched, p)
	if w.Block == nil {
		w.Block, w.StepUp = map[string]int{}, map[string]int{}
	}
	w.Applied++
	switch {
	case would == signon.Grant || would == signon.Review:
	case !would.StricterThan(outcome):
		w.Already++
	case would == signon.Block:
		w.Block[user]++
	default:
		w.StepUp[user]++
	}
}

// add adds what another worker counted.
func (s *Summary) add(o *Summary) {
	s.Outcomes.add(&o.Outcomes)
	s.Elsewhere.add(&o.Elsewhere)
	s.Refused += o.Refused
	if !o.First.IsZero() && (s.First.IsZero() || o.First.Before(s.First)) {
		s.First = o.First
	}
	if o.Last.After(s.Last) {
		s.Last = o.Last
	}
	for _, pair := range [][2]map[string]*Outcomes{{s.Apps, o.Apps}, {s.Countries, o.Countries}, {s.Forms, o.Forms}, {s.Grounds, o.Grounds}} {
		for k, v := range pair[1] {
			at(pair[0], k).add(v)
		}
	}
	for k, v := range o.Days {
		at(s.Days, k).add(v)
	}
	for i := range s.Networks {
		s.Networks[i].add(&o.Networks[i])
	}
	for d := range s.Hours {
		for h := range s.Hours[d] {
			s.Hours[d][h].add(&o.Hours[d][h])
		}
	}
	for k, v := range o.Cases {
		t := at(s.Cases, k)
		t.Policy = v.Policy
		t.Taken.add(&v.Taken)
		t.Decided.add(&v.Decided)
		t.Open += v.Open
	}
	for i := range s.Recorded {
		for j := range s.Recorded[i] {
			s.Recorded[i][j] += o.Recorded[i][j]
		}
	}
	for k, v := range o.People { // each is counted by one worker alone
		s.People[k] = v
	}
	for k, v := range o.Watched {
		w := at(s.Watched, k)
		if w.Block == nil {
			w.Block, w.StepUp = map[string]int{}, map[string]int{}
		}
		w.Applied += v.Applied
		w.Already += v.Already
		for u, n := range v.Block {
			w.Block[u] += n
		}
		for u, n := range v.StepUp {
			w.StepUp[u] += n
		}
	}
}

func (o *Outcomes) add(p *Outcomes) {
	for i := range o {
		o[i] += p[i]
	}
}

// Row is a line of a table of counts.
type Row struct {
	Name string
	Outcomes
}

// Rows are the counts of a table, the most frequent first.
func Rows(m map[string]*Outcomes) (rows []Row) {
	for name, o := range m {
		rows = append(rows, Row{name, *o})
	}
	slices.SortFunc(rows, func(a, b Row) int { return cmp.Or(b.All()-a.All(), cmp.Compare(a.Name, b.Name)) })
	return rows
}

// NetworkRows are the counts of the named networks, the most frequent first, and of none.
func (s *Summary) NetworkRows() []Row {
	m := map[string]*Outcomes{}
	for id, o := range s.Networks {
		if o.All() > 0 {
			m[s.rb.Networks.Names[id]] = &o
		}
	}
	rows := Rows(m)
	if s.Elsewhere.All() > 0 {
		rows = append(rows, Row{"", s.Elsewhere})
	}
	return rows
}

// DayRows are the counts of the days, in their order.
func (s *Summary) DayRows() (rows []Row) {
	for d, o := range s.Days {
		rows = append(rows, Row{d.String(), *o})
	}
	slices.SortFunc(rows, func(a, b Row) int { return cmp.Compare(a.Name, b.Name) })
	return rows
}

// CaseRows are the cases that gave an outcome, the most frequent first.
func (s *Summary) CaseRows(outcome signon.Outcome) (list []*CaseTally, labels []string) {
	byCase := map[*CaseTally]*rulebook.Case{}
	for k, t := range s.Cases {
		if t.Decided[outcome] > 0 {
			list = append(list, t)
			byCase[t] = k
		}
	}
	slices.SortFunc(list, func(a, b *CaseTally) int {
		return cmp.Or(b.Decided[outcome]-a.Decided[outcome], cmp.Compare(a.Policy.Name, b.Policy.Name), cmp.Compare(byCase[a].Pos.Line, byCase[b].Pos.Line))
	})
	for _, t := range list {
		labels = append(labels, byCase[t].Label)
	}
	return list, labels
}

// Affected are the people whose sign-ons were stopped most often.
func (s *Summary) Affected() (users []string) {
	for u, p := range s.People {
		if p.Outcomes[signon.Block]+p.Outcomes[signon.StepUp]+p.Stricter > 0 {
			users = append(users, u)
		}
	}
	slices.SortFunc(users, func(a, b string) int {
		p, q := s.People[a], s.People[b]
		return cmp.Or(q.Stricter-p.Stricter, q.Outcomes[signon.Block]-p.Outcomes[signon.Block], q.Outcomes[signon.StepUp]-p.Outcomes[signon.StepUp], cmp.Compare(a, b))
	})
	return users
}

package replay

// What was counted, in the order in which it is told.

import (
	"cmp"
	"maps"
	"slices"

	"briskwarden.example/briskwarden/signon"
)

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

// Reason is a case, or what decides beside policies, with how many outcomes it gave.
type Reason struct {
	*CaseTally        // nil for what is no case
	Ground     string // what it is then
	Count      int
}

// Reasons tell what gave an outcome: the cases, the most frequent first, then what is no case.
func (s *Reasoning) Reasons(outcome signon.Outcome) (cases, others []Reason) {
	for i := range s.Cases {
		t := &s.Cases[i]
		if n := t.Decided[outcome]; n > 0 {
			cases = append(cases, Reason{CaseTally: t, Count: n})
		}
	}
	for ground, o := range s.Grounds {
		if n := o[outcome]; n > 0 {
			others = append(others, Reason{Ground: ground, Count: n})
		}
	}
	slices.SortFunc(cases, func(a, b Reason) int {
		return cmp.Or(b.Count-a.Count, cmp.Compare(a.Policy, b.Policy), cmp.Compare(a.line, b.line))
	})
	slices.SortFunc(others, func(a, b Reason) int { return cmp.Or(b.Count-a.Count, cmp.Compare(a.Ground, b.Ground)) })
	return cases, others
}

// PolicyRow is what became of the sign-ons for which a policy decided, alone or among others.
type PolicyRow struct {
	Policy string
	Outcomes
	Cases []*CaseTally // that decided, as they stand in the policy
}

// PolicyRows are the policies that decided, the most frequent first.
func (s *Summary) PolicyRows() (rows []PolicyRow) {
	for _, p := range s.rb.Policies {
		row := PolicyRow{Policy: p.Name}
		for i := range p.Cases {
			if t := &s.Cases[p.Cases[i].Number]; t.Decided.All() > 0 {
				row.Cases = append(row.Cases, t)
				row.Outcomes.add(&t.first)
			}
		}
		if row.All() > 0 {
			rows = append(rows, row)
		}
	}
	slices.SortStableFunc(rows, func(a, b PolicyRow) int { return b.All() - a.All() })
	return rows
}

// Watching is what a policy on watch would have done.
type Watching struct {
	Policy string
	At     string // file:line
	*WatchTally
}

func (s *Summary) watching() (list []Watching) {
	for p, w := range s.watched {
		list = append(list, Watching{p.Name, p.Decl.Name.Pos.InFile(), w})
	}
	slices.SortFunc(list, func(a, b Watching) int { return cmp.Compare(a.Policy, b.Policy) })
	return list
}

// Change is how many sign-ons go from one outcome to another.
type Change struct {
	From, To signon.Outcome
	Count    int
}

// Changes are those of the table, with how many sign-ons it counts and how many of them change.
func (table *Table) Changes() (list []Change, compared, changed int) {
	for from := range table {
		for to, n := range table[from] {
			compared += n
			if n > 0 && from != to {
				changed += n
				list = append(list, Change{signon.Outcome(from), signon.Outcome(to), n})
			}
		}
	}
	return list, compared, changed
}

// Ranked are the users of a count, the most frequent first, and the sum.
func Ranked(users map[string]int) (names []string, sum int) {
	names = slices.Sorted(maps.Keys(users))
	for _, u := range names {
		sum += users[u]
	}
	slices.SortStableFunc(names, func(a, b string) int { return users[b] - users[a] })
	return names, sum
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

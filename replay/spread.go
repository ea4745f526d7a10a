package replay

// Counts of outcomes, by app and time.

import (
	"cmp"
	"slices"
	"time"

	"briskwarden.example/briskwarden/internal/schedule"
	"briskwarden.example/briskwarden/signon"
)

// Outcomes counts sign-ons by outcome.
type Outcomes [4]int

// All is how many there are.
func (o *Outcomes) All() int { return o[0] + o[1] + o[2] + o[3] }

func (o *Outcomes) add(p *Outcomes) {
	for i := range o {
		o[i] += p[i]
	}
}

// Table counts sign-ons by an outcome that they had, and one that they have.
type Table [4][4]int

func (t *Table) add(o *Table) {
	for i := range t {
		for j := range t[i] {
			t[i][j] += o[i][j]
		}
	}
}

// Span is the time from a first sign-on to a last; both are zero where there is none.
type Span struct{ First, Last time.Time }

// cover widens the span by another.
func (s *Span) cover(o Span) {
	if !o.First.IsZero() && (s.First.IsZero() || o.First.Before(s.First)) {
		s.First = o.First
	}
	if o.Last.After(s.Last) {
		s.Last = o.Last
	}
}

// Spread is how outcomes are spread over apps and time.
type Spread struct {
	Span
	Outcomes Outcomes
	Apps     map[string]*Outcomes
	Hours    [7][24]Outcomes // of the week, from Monday

	days  map[schedule.Date]*Outcomes // on the rulebook's clock
	wall  *schedule.Wall
	today int64     // the day that was counted last,
	day   *Outcomes // and its counts
}

func newSpread(zone *time.Location) Spread {
	return Spread{Apps: map[string]*Outcomes{}, days: map[schedule.Date]*Outcomes{}, wall: schedule.NewWall(zone)}
}

func (s *Spread) count(so *signon.SignOn, outcome signon.Outcome) {
	s.Outcomes[outcome]++
	at(s.Apps, so.App)[outcome]++
	day, hour := s.when(so.Time)
	day[outcome]++
	hour[outcome]++
	s.cover(Span{so.Time, so.Time})
}

// when finds the counts of a day, and of an hour of the week.
func (s *Spread) when(t time.Time) (day, hour *Outcomes) {
	today, second := s.wall.Clock(t)
	if s.day == nil || today != s.today {
		s.today, s.day = today, at(s.days, schedule.DateOf(time.Unix(today*24*3600, 0), time.UTC))
	}
	const monday = 4 // of January 1970, counted from 0
	return s.day, &s.Hours[((today-monday)%7+7)%7][second/3600]
}

func (s *Spread) add(o *Spread) {
	s.Outcomes.add(&o.Outcomes)
	s.cover(o.Span)
	addAll(s.Apps, o.Apps)
	addAll(s.days, o.days)
	for d := range s.Hours {
		for h := range s.Hours[d] {
			s.Hours[d][h].add(&o.Hours[d][h])
		}
	}
}

// DayRows are the counts of the days, in their order.
func (s *Spread) DayRows() (rows []Row) {
	for d, o := range s.days {
		rows = append(rows, Row{d.String(), *o})
	}
	slices.SortFunc(rows, func(a, b Row) int { return cmp.Compare(a.Name, b.Name) })
	return rows
}

// at finds the counts of a key, and begins them where there are none.
func at[K comparable, V any](m map[K]*V, key K) *V {
	v, ok := m[key]
	if !ok {
		v = new(V)
		m[key] = v
	}
	return v
}

// latest is what was counted last, which often is counted again.
type latest[V any] struct {
	key    string
	counts *V
}

// at finds the counts of a key, as the function does.
func (l *latest[V]) at(m map[string]*V, key string) *V {
	if l.counts == nil || l.key != key {
		l.key, l.counts = key, at(m, key)
	}
	return l.counts
}

func addAll[K comparable](to, from map[K]*Outcomes) {
	for k, v := range from {
		at(to, k).add(v)
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

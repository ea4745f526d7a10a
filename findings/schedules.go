package findings

// Schedules that are never open.

import (
	"time"

	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/schedule"
	"briskwarden.example/briskwarden/language/ast"
)

// schedules finds those that are never open: on no date of their "during", or, where they
// have none, on no day of the year ahead.
func (c *checker) schedules() {
	declared := map[string]ast.Name{}
	for d := range c.rb.Declarations() {
		if s, ok := d.(*ast.Schedule); ok {
			declared[s.Name.Text] = s.Name
		}
	}
	for _, s := range c.rb.Schedules {
		if !c.everOpen(s) {
			c.warn(NeverOpen, declared[s.Name], "widen its windows or \"during\", or take an exception out", "the schedule %s is never open", s.Name)
		}
	}
}

// mostDays is how many dates of a schedule are looked at.
const mostDays = 4000

func (c *checker) everOpen(s *schedule.Schedule) bool {
	spans := s.During
	if len(spans) == 0 {
		today := schedule.DateOf(c.now, s.Wall.Zone())
		ahead := schedule.DateOf(c.now.AddDate(1, 0, 0), s.Wall.Zone())
		spans = []schedule.Span{{From: today, To: ahead}}
	}
	days := 0
	for _, span := range spans {
		for d := span.From; d.Compare(span.To) <= 0; d = d.Next() {
			if days++; days > mostDays || opensOn(s, d) {
				return true
			}
		}
	}
	return false
}

// opensOn reports whether the schedule is open at any of the moments of a date at which it can open.
func opensOn(s *schedule.Schedule, d schedule.Date) bool {
	start, end := d.Start(s.Wall.Zone()), d.Next().Start(s.Wall.Zone())
	moments := []time.Time{start}
	for _, w := range s.Windows {
		y, m, day := start.Date()
		moments = append(moments, time.Date(y, m, day, 0, w.Start, 0, 0, s.Wall.Zone()))
	}
	for _, c := range s.Calendars {
		moments = append(moments, c.EndsWithin(start, end)...)
	}
	for _, t := range moments {
		if s.In(t) == known.True {
			return true
		}
	}
	return false
}

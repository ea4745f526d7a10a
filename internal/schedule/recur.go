package schedule

// The occurrences of a recurrence rule, period by period.
//
// A rule goes from one day, week, month or year that counts to the next. Of each, the days are listed that its parts name
// (those it leaves out are taken from the start), each with its times of day; BYSETPOS picks among them. All of it is on the
// wall clock: only the caller places what comes of it in a zone, where clocks skip or repeat times.

import (
	"fmt"
	"iter"
	"slices"
	"time"
)

// mostSearched is how many days may be looked at for the rules of one file: one that never
// occurs is searched for up to the horizon.
const mostSearched = 5_000_000

// search counts the days that were looked at.
type search struct{ days int }

var errSearched = fmt.Errorf("the rules of this file take more than %d days to look at: leave out those that never occur", mostSearched)

// from gives the occurrences of a rule from a start on and before the horizon, in order and on
// the wall clock. The start itself is among them only if the rule is about it.
func (r *rule) from(start moment, s *search) iter.Seq2[moment, error] {
	return func(yield func(moment, error) bool) {
		r, given := r.filled(start.wall), 0
		clocks := r.clocks(start.wall)
		for days := range r.periods(start.wall) {
			if s.days += max(1, len(days)); s.days > mostSearched {
				yield(moment{}, errSearched)
				return
			}
			for _, wall := range r.within(days, clocks) {
				m := start
				if m.wall = wall; wall.Before(start.wall) {
					continue
				}
				if !wall.Before(Horizon) || r.until.over(m) || r.count > 0 && given == r.count {
					return
				}
				given++
				if !yield(m, nil) {
					return
				}
			}
		}
	}
}

// filled is the rule with the days that it leaves out: they are those of the start.
func (r *rule) filled(start time.Time) *rule {
	if r.weeks != nil || r.yearDays != nil || r.monthDays != nil || r.days != nil || r.freq == daily {
		return r
	}
	f := *r
	switch {
	case r.freq == weekly:
		f.days = []weekday{{0, start.Weekday()}}
	case r.freq == yearly && r.months == nil:
		f.months, f.monthDays = []int{int(start.Month())}, []int{start.Day()}
	default:
		f.monthDays = []int{start.Day()}
	}
	return &f
}

const day = 24 * time.Hour

// daysSince is how long ago a day of the week was, on a day; that very day is no time ago.
func daysSince(w time.Weekday, d time.Time) time.Duration {
	return day * time.Duration((int(d.Weekday())-int(w)+7)%7)
}

// periods gives, of every period that counts, from that of the start on, the days that the rule could be about.
func (r *rule) periods(start time.Time) iter.Seq[[]time.Time] {
	return func(yield func([]time.Time) bool) {
		first := start.Truncate(day)
		switch r.freq {
		case weekly:
			first = first.Add(-daysSince(r.weekStart, first))
		case monthly:
			first = first.AddDate(0, 0, 1-first.Day())
		case yearly:
			first = time.Date(first.Year(), 1, 1, 0, 0, 0, 0, time.UTC)
		}
		var days []time.Time
		for ; first.Before(Horizon); first = r.periodAfter(first, r.interval) {
			days = days[:0]
			if next := r.periodAfter(first, 1); r.freq < monthly {
				days = r.between(days, first, next)
			} else {
				for m := first; m.Before(next); m = m.AddDate(0, 1, 0) {
					days = r.ofMonth(days, m)
				}
			}
			if !yield(days) {
				return
			}
		}
	}
}

// between adds the days from one to another that lie in months that count.
func (r *rule) between(days []time.Time, from, to time.Time) []time.Time {
	for ; from.Before(to); from = from.Add(day) {
		if r.months == nil || slices.Contains(r.months, int(from.Month())) {
			days = append(days, from)
		}
	}
	return days
}

// ofMonth adds the days of a month, if that counts: those that the rule numbers, else all.
func (r *rule) ofMonth(days []time.Time, first time.Time) []time.Time {
	next := first.AddDate(0, 1, 0)
	if r.months != nil && !slices.Contains(r.months, int(first.Month())) {
		return days
	}
	if r.monthDays == nil {
		return r.between(days, first, next)
	}
	length := int(next.Sub(first) / day)
	begin := len(days)
	for _, n := range r.monthDays {
		if n < 0 {
			n += length + 1
		}
		if d := first.Add(day * time.Duration(n-1)); n >= 1 && n <= length && !slices.Contains(days[begin:], d) {
			days = append(days, d)
		}
	}
	slices.SortFunc(days[begin:], time.Time.Compare)
	return days
}

// periodAfter is the beginning of the nth period after one.
func (r *rule) periodAfter(first time.Time, n int) time.Time {
	switch r.freq {
	case daily:
		return first.AddDate(0, 0, n)
	case weekly:
		return first.AddDate(0, 0, 7*n)
	case monthly:
		return first.AddDate(0, n, 0)
	}
	return first.AddDate(n, 0, 0)
}

// within are the times of the days of a period that the rule is about.
func (r *rule) within(days []time.Time, clocks []time.Duration) (times []time.Time) {
	for _, d := range days {
		if r.about(d) {
			for _, clock := range clocks {
				times = append(times, d.Add(clock))
			}
		}
	}
	if r.positions == nil {
		return times
	}
	var picked []time.Time
	for i, t := range times {
		if slices.Contains(r.positions, i+1) || slices.Contains(r.positions, i-len(times)) {
			picked = append(picked, t)
		}
	}
	return picked
}

// clocks are the times of a day; those that the rule does not name are the start's.
func (r *rule) clocks(start time.Time) (list []time.Duration) {
	or := func(stated []int, own int) []int {
		if stated == nil {
			return []int{own}
		}
		return stated
	}
	for _, h := range or(r.hours, start.Hour()) {
		for _, m := range or(r.minutes, start.Minute()) {
			for _, s := range or(r.seconds, start.Second()) {
				list = append(list, time.Duration((h*60+m)*60+s)*time.Second)
			}
		}
	}
	return list
}

// about reports whether the rule is about a day in a month that counts.
func (r *rule) about(d time.Time) bool {
	monthLength := time.Date(d.Year(), d.Month()+1, 0, 0, 0, 0, 0, time.UTC).Day()
	yearLength := time.Date(d.Year(), 12, 31, 0, 0, 0, 0, time.UTC).YearDay()
	switch {
	case r.weeks != nil && !r.inWeek(d):
		return false
	case r.yearDays != nil && !named(r.yearDays, d.YearDay(), yearLength):
		return false
	case r.monthDays != nil && !named(r.monthDays, d.Day(), monthLength):
		return false
	}
	nth, length := d.Day(), monthLength
	if r.freq == yearly && r.months == nil {
		nth, length = d.YearDay(), yearLength
	}
	return r.days == nil || slices.ContainsFunc(r.days, func(w weekday) bool {
		return w.day == d.Weekday() && (w.n == 0 || w.n == (nth+6)/7 || w.n == -(length-nth+7)/7)
	})
}

// named reports whether a list names the nth of so many, from either end.
func named(list []int, n, of int) bool {
	return slices.Contains(list, n) || slices.Contains(list, n-of-1)
}

// inWeek reports whether a day lies in a week that the rule numbers. The first week of a year is
// the first with four of its days in it.
func (r *rule) inWeek(d time.Time) bool {
	middle := d.Add(-daysSince(r.weekStart, d) + 3*day) // of its week, in the year that the week is of
	end := time.Date(middle.Year(), 12, 31, 0, 0, 0, 0, time.UTC)
	last := end.Add(-daysSince(middle.Weekday(), end))
	return named(r.weeks, (middle.YearDay()+6)/7, (last.YearDay()+6)/7)
}

package schedule

// Recurrence rules (RFC 5545, section 3.3.10) that recur daily at most.

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/spell"
)

// frequency is the period in which the days of a rule are looked for.
type frequency uint8

const (
	daily frequency = iota + 1
	weekly
	monthly
	yearly
)

var frequencies = map[string]frequency{"DAILY": daily, "WEEKLY": weekly, "MONTHLY": monthly, "YEARLY": yearly}

// rule is a recurrence rule. Lists that are empty limit nothing.
type rule struct {
	text      string
	freq      frequency
	interval  int
	count     int // 0 is no end
	until     *until
	weekStart time.Weekday

	months, weeks, yearDays, monthDays []int
	days                               []weekday
	hours, minutes, seconds            []int
	positions                          []int
}

// weekday is a day of the week, or the nth one of a month or year; from its end, if n is negative.
type weekday struct {
	n   int
	day time.Weekday
}

// until is the end of a rule, which is included: an instant, or a time on the wall clock.
type until struct {
	instant bool
	time    time.Time
}

// over reports whether an occurrence lies behind the end.
func (u *until) over(m moment) bool {
	switch {
	case u == nil:
		return false
	case u.instant:
		return m.at().After(u.time)
	}
	return m.wall.After(u.time)
}

var weekdayNames = map[string]time.Weekday{"SU": time.Sunday, "MO": time.Monday, "TU": time.Tuesday, "WE": time.Wednesday,
	"TH": time.Thursday, "FR": time.Friday, "SA": time.Saturday}

// parseRule reads a rule in capitals, of an event that lasts whole days or not.
func parseRule(text string, whole bool) (*rule, error) {
	r := &rule{text: text, interval: 1, weekStart: time.Monday}
	parts := map[string]bool{}
	for part := range strings.SplitSeq(text, ";") {
		name, value, _ := strings.Cut(part, "=")
		if parts[name] {
			return nil, fmt.Errorf("RRULE:%s: %s stands twice", spell.Clip(text), name)
		}
		parts[name] = true
		if err := r.part(name, value); err != nil {
			return nil, fmt.Errorf("RRULE:%s: %w", spell.Clip(text), err)
		}
	}
	if err := r.check(parts, whole); err != nil {
		return nil, fmt.Errorf("RRULE:%s: %w", spell.Clip(text), err)
	}
	return r, nil
}

// part reads one part of a rule.
func (r *rule) part(name, value string) (err error) {
	switch name {
	case "FREQ":
		if r.freq = frequencies[value]; r.freq == 0 {
			if slices.Contains([]string{"HOURLY", "MINUTELY", "SECONDLY"}, value) {
				return errors.New("an event of a schedule recurs daily at most")
			}
			return fmt.Errorf("there is no FREQ=%s", value)
		}
	case "INTERVAL":
		r.interval, err = positive(value)
	case "COUNT":
		r.count, err = positive(value)
	case "UNTIL":
		r.until, err = parseUntil(value)
	case "WKST":
		day, known := weekdayNames[value]
		if r.weekStart = day; !known {
			return fmt.Errorf("WKST=%s is no day of the week", value)
		}
	case "BYMONTH":
		r.months, err = numbers(value, 1, 12, false)
	case "BYWEEKNO":
		r.weeks, err = numbers(value, 1, 53, true)
	case "BYYEARDAY":
		r.yearDays, err = numbers(value, 1, 366, true)
	case "BYMONTHDAY":
		r.monthDays, err = numbers(value, 1, 31, true)
	case "BYDAY":
		r.days, err = weekdays5545(value)
	case "BYHOUR":
		r.hours, err = numbers(value, 0, 23, false)
	case "BYMINUTE":
		r.minutes, err = numbers(value, 0, 59, false)
	case "BYSECOND":
		r.seconds, err = numbers(value, 0, 59, false)
	case "BYSETPOS":
		r.positions, err = numbers(value, 1, 366, true)
	default:
		return fmt.Errorf("%q is no part of a rule that is read", spell.Clip(name))
	}
	if err != nil {
		err = fmt.Errorf("%s=%s: %w", name, spell.Clip(value), err)
	}
	return err
}

// check holds the parts against each other, as RFC 5545 limits them.
func (r *rule) check(parts map[string]bool, whole bool) error {
	by := 0
	for part := range parts {
		if strings.HasPrefix(part, "BY") && part != "BYSETPOS" {
			by++
		}
	}
	numbered := slices.ContainsFunc(r.days, func(d weekday) bool { return d.n != 0 })
	switch {
	case r.freq == 0:
		return errors.New("it has no FREQ")
	case r.count > 0 && r.until != nil:
		return errors.New("it has both COUNT and UNTIL")
	case numbered && r.freq < monthly:
		return errors.New("a numbered day, such as 3SU, is of a month or a year: write FREQ=MONTHLY or YEARLY")
	case numbered && r.weeks != nil:
		return errors.New("a numbered day does not go with BYWEEKNO")
	case r.weeks != nil && r.freq != yearly:
		return errors.New("BYWEEKNO goes with FREQ=YEARLY alone")
	case r.yearDays != nil && r.freq != yearly:
		return errors.New("BYYEARDAY goes with FREQ=YEARLY alone")
	case r.monthDays != nil && r.freq == weekly:
		return errors.New("BYMONTHDAY does not go with FREQ=WEEKLY")
	case r.positions != nil && by == 0:
		return errors.New("BYSETPOS needs another BY part")
	case whole && (r.hours != nil || r.minutes != nil || r.seconds != nil):
		return errors.New("BYHOUR, BYMINUTE and BYSECOND do not go with whole days")
	}
	return nil
}

func positive(text string) (int, error) {
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 || n > 1_000_000 || text[0] == '+' {
		return 0, errors.New("is no number from 1 to 1000000")
	}
	return n, nil
}

// numbers reads a list of numbers within bounds, which may count from the end where they may be negative.
func numbers(text string, first, last int, negative bool) (list []int, err error) {
	for item := range strings.SplitSeq(text, ",") {
		n, err := strconv.Atoi(item)
		size := n
		if negative {
			size = max(n, -n)
		}
		if err != nil || size < first || size > last {
			return nil, fmt.Errorf("%q is not from %d to %d", spell.Clip(item), first, last)
		}
		list = append(list, n)
	}
	slices.Sort(list)
	return slices.Compact(list), nil
}

// weekdays5545 reads days of the week as rules name them: MO, 3SU, -1FR.
func weekdays5545(text string) (list []weekday, err error) {
	for item := range strings.SplitSeq(text, ",") {
		number := item[:max(0, len(item)-2)]
		day, known := weekdayNames[item[len(number):]]
		n := 0
		if number != "" {
			n, err = strconv.Atoi(number)
		}
		if !known || err != nil || number != "" && n == 0 || n < -53 || n > 53 {
			return nil, fmt.Errorf("%q is no day such as MO, 3SU or -1FR", spell.Clip(item))
		}
		list = append(list, weekday{n, day})
	}
	return list, nil
}

// parseUntil reads the end of a rule: a date, an instant in UTC, or a time on the wall clock.
func parseUntil(value string) (*until, error) {
	if d, err := time.Parse("20060102", value); err == nil {
		return &until{false, d.AddDate(0, 0, 1).Add(-time.Second)}, nil
	}
	if t, err := time.Parse("20060102T150405Z", value); err == nil {
		return &until{true, t}, nil
	}
	if t, err := time.Parse("20060102T150405", value); err == nil {
		return &until{false, t}, nil
	}
	return nil, errors.New("is neither a date nor a time")
}

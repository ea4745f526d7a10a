package schedule

// Events of a calendar, and when they are.

import (
	"cmp"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// event is a VEVENT. Its times are wall times, held in UTC, on the clock of its zone.
type event struct {
	title     Title
	uid       string
	whole     bool // it lasts whole days
	zone      *time.Location
	start     time.Time
	days      int           // of its length: whole days on the wall clock
	rest      time.Duration // of its length: elapsed time
	rule      *rule
	extra     []period
	except    []moment
	replaces  *moment // the occurrence of the event with the same uid that this one stands for
	cancelled bool
}

// moment is a date, or a time on the clock of a zone.
type moment struct {
	wall  time.Time
	whole bool
	zone  *time.Location
}

// at is the instant of the moment.
func (m moment) at() time.Time {
	w := m.wall
	return wall(Date{w.Year(), w.Month(), w.Day()}, w.Hour(), w.Minute(), w.Second(), 0, m.zone)
}

// period is an occurrence that RDATE adds; its end is zero where it is as long as the event.
type period struct {
	start moment
	end   time.Time
}

func newEvent(e *component, zones *zoneTable) (*event, error) {
	ev := &event{uid: e.text("UID"), title: Title{Summary: cmp.Or(e.text("SUMMARY"), e.text("UID")), Line: e.line}}
	status, err := e.only("STATUS")
	if err != nil {
		return nil, err
	}
	ev.cancelled = status != nil && status.value == "CANCELLED"
	if len(e.all("EXRULE")) > 0 {
		return nil, errors.New("EXRULE is no longer part of iCalendar: write EXDATE")
	}
	start, err := e.only("DTSTART")
	switch {
	case err != nil:
		return nil, err
	case start == nil:
		return nil, errors.New("it has no DTSTART")
	}
	m, err := zones.moment(start, start.value)
	if err != nil {
		return nil, err
	}
	ev.start, ev.whole, ev.zone = m.wall, m.whole, m.zone
	for _, read := range []func(*component, *zoneTable) error{ev.length, ev.recurrence, ev.dates, ev.instance} {
		if err := read(e, zones); err != nil {
			return nil, err
		}
	}
	return ev, nil
}

// length reads DTEND or DURATION; without either, a date lasts a day and a time no time.
func (ev *event) length(e *component, zones *zoneTable) error {
	end, err := e.only("DTEND")
	if err != nil {
		return err
	}
	duration, err := e.only("DURATION")
	switch {
	case err != nil:
		return err
	case end != nil && duration != nil:
		return errors.New("it has both DTEND and DURATION")
	case end != nil:
		err = ev.endsAt(end, zones)
	case duration != nil:
		ev.days, ev.rest, err = parseDuration(duration.value)
		if err == nil && ev.whole && ev.rest != 0 {
			err = fmt.Errorf("DURATION:%s of a whole-day event is not in days", duration.value)
		}
	case ev.whole:
		ev.days = 1
	}
	if err == nil && (ev.days < 0 || ev.rest < 0) {
		err = errors.New("it ends before it starts")
	}
	return err
}

func (ev *event) endsAt(end *property, zones *zoneTable) error {
	m, err := zones.moment(end, end.value)
	switch {
	case err != nil:
		return err
	case m.whole != ev.whole:
		return errors.New("DTSTART and DTEND are not both dates or both times")
	case ev.whole:
		ev.days = int(m.wall.Sub(ev.start) / (24 * time.Hour))
	default:
		ev.rest = m.at().Sub(ev.moment(ev.start).at())
	}
	return nil
}

func (ev *event) idle() bool { return ev.days == 0 && ev.rest == 0 && len(ev.extra) == 0 }

func (ev *event) moment(wall time.Time) moment { return moment{wall, ev.whole, ev.zone} }

// recurrence reads RRULE.
func (ev *event) recurrence(e *component, _ *zoneTable) error {
	p, err := e.only("RRULE")
	if err == nil && p != nil {
		ev.rule, err = parseRule(p.value, ev.whole)
	}
	return err
}

// dates reads RDATE and EXDATE.
func (ev *event) dates(e *component, zones *zoneTable) error {
	for _, p := range e.all("RDATE") {
		for value := range strings.SplitSeq(p.value, ",") {
			extra, err := zones.period(p, value)
			if err != nil {
				return err
			}
			if extra.start.whole != ev.whole {
				return fmt.Errorf("RDATE:%s and DTSTART are not both dates or both times", value)
			}
			ev.extra = append(ev.extra, extra)
		}
	}
	for _, p := range e.all("EXDATE") {
		for value := range strings.SplitSeq(p.value, ",") {
			m, err := zones.moment(p, value)
			if err != nil {
				return err
			}
			ev.except = append(ev.except, m)
		}
	}
	return nil
}

// instance reads RECURRENCE-ID.
func (ev *event) instance(e *component, zones *zoneTable) error {
	p, err := e.only("RECURRENCE-ID")
	if err != nil || p == nil {
		return err
	}
	if len(p.params["RANGE"]) > 0 {
		return errors.New("RECURRENCE-ID with RANGE is not read: write the later occurrences as an event of their own")
	}
	m, err := zones.moment(p, p.value)
	ev.replaces = &m
	return err
}

// replace takes out of recurring events the occurrences that others stand for.
func replace(events []*event) {
	byUID := map[string][]*event{}
	for _, ev := range events {
		if ev.replaces == nil {
			byUID[ev.uid] = append(byUID[ev.uid], ev)
		}
	}
	for _, r := range events {
		if r.replaces == nil {
			continue
		}
		for _, ev := range byUID[r.uid] {
			ev.except = append(ev.except, *r.replaces)
		}
	}
}

// endless reports whether the event recurs without end.
func (ev *event) endless() bool { return ev.rule != nil && ev.rule.count == 0 && ev.rule.until == nil }

// exceptions are the occurrences that are taken out: by their instants, or by their dates.
type exceptions struct {
	instants map[int64]bool
	dates    map[Date]bool
}

func (ev *event) exceptions() (x exceptions) {
	x = exceptions{map[int64]bool{}, map[Date]bool{}}
	for _, m := range ev.except {
		if m.whole {
			x.dates[dateOf(m.wall)] = true
		} else {
			x.instants[m.at().Unix()] = true
		}
	}
	return x
}

func dateOf(wall time.Time) Date { return Date{wall.Year(), wall.Month(), wall.Day()} }

// each calls f with every occurrence before the horizon: the start itself, those of the rule
// and those added, without those excepted.
func (ev *event) each(s *search, f func(start, end time.Time) error) error {
	except, seen := ev.exceptions(), map[int64]bool{}
	give := func(p period) error {
		at := p.start.at()
		if seen[at.Unix()] || except.instants[at.Unix()] || except.dates[dateOf(p.start.wall)] {
			return nil
		}
		seen[at.Unix()] = true
		end := p.end
		if end.IsZero() {
			m := p.start
			m.wall = m.wall.AddDate(0, 0, ev.days)
			end = m.at().Add(ev.rest)
		}
		return f(at, end)
	}
	if err := give(period{start: ev.moment(ev.start)}); err != nil {
		return err
	}
	for _, p := range ev.extra {
		if err := give(p); err != nil {
			return err
		}
	}
	if ev.rule == nil {
		return nil
	}
	for m, err := range ev.rule.from(ev.moment(ev.start), s) {
		if err == nil {
			err = give(period{start: m})
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// parseDuration reads a duration of RFC 5545: days on the wall clock, and elapsed time.
func parseDuration(text string) (days int, rest time.Duration, err error) {
	bad := fmt.Errorf("DURATION:%s is no duration: write PT8H, P1D or P2W", text)
	body, ok := strings.CutPrefix(strings.TrimPrefix(text, "+"), "P")
	if !ok || body == "" {
		return 0, 0, bad
	}
	units, inTime := "WDTHMS", false // of which each may come once, in this order
	for body != "" {
		if body[0] == 'T' && !inTime {
			if inTime, body = true, body[1:]; body == "" {
				return 0, 0, bad
			}
		}
		i := strings.IndexFunc(body, func(r rune) bool { return r < '0' || r > '9' })
		if i <= 0 || i > 6 {
			return 0, 0, bad
		}
		n, _ := strconv.Atoi(body[:i])
		unit := strings.IndexByte(units, body[i])
		if unit < 0 || inTime != strings.Contains("HMS", body[i:i+1]) {
			return 0, 0, bad
		}
		switch body[i] {
		case 'W':
			days += 7 * n
		case 'D':
			days += n
		case 'H':
			rest += time.Duration(n) * time.Hour
		case 'M':
			rest += time.Duration(n) * time.Minute
		case 'S':
			rest += time.Duration(n) * time.Second
		default:
			return 0, 0, bad
		}
		units, body = units[unit+1:], body[i+1:]
	}
	return days, rest, nil
}

package schedule

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	ics "github.com/arran4/golang-ical"
	"github.com/teambition/rrule-go"
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
	rule      *rrule.ROption
	until     time.Time // on the wall; zero is no end
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

func newEvent(e *ics.VEvent, zones *zoneTable) (*event, error) {
	ev := &event{uid: e.Id(), title: Title{Summary: e.Id()}}
	if p := e.GetProperty(ics.ComponentPropertySummary); p != nil {
		ev.title.Summary = p.Value
	}
	if p := e.GetProperty(ics.ComponentPropertyStatus); p != nil {
		ev.cancelled = strings.EqualFold(p.Value, string(ics.ObjectStatusCancelled))
	}
	if len(e.GetProperties(ics.ComponentPropertyExrule)) > 0 {
		return nil, errors.New("EXRULE is no longer part of iCalendar: write EXDATE")
	}
	start := e.GetProperty(ics.ComponentPropertyDtStart)
	if start == nil {
		return nil, errors.New("it has no DTSTART")
	}
	m, err := zones.moment(start, start.Value)
	if err != nil {
		return nil, err
	}
	ev.start, ev.whole, ev.zone = m.wall, m.whole, m.zone
	for _, read := range []func(*ics.VEvent, *zoneTable) error{ev.length, ev.recurrence, ev.dates, ev.instance} {
		if err := read(e, zones); err != nil {
			return nil, err
		}
	}
	return ev, nil
}

// length reads DTEND or DURATION; without either, a date lasts a day and a time no time.
func (ev *event) length(e *ics.VEvent, zones *zoneTable) error {
	end, duration := e.GetProperty(ics.ComponentPropertyDtEnd), e.GetProperty(ics.ComponentPropertyDuration)
	switch {
	case end != nil && duration != nil:
		return errors.New("it has both DTEND and DURATION")
	case end != nil:
		m, err := zones.moment(end, end.Value)
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
	case duration != nil:
		var err error
		if ev.days, ev.rest, err = parseDuration(duration.Value); err != nil {
			return err
		}
		if ev.whole && ev.rest != 0 {
			return fmt.Errorf("DURATION:%s of a whole-day event is not in days", duration.Value)
		}
	case ev.whole:
		ev.days = 1
	}
	if ev.days < 0 || ev.rest < 0 {
		return errors.New("it ends before it starts")
	}
	return nil
}

func (ev *event) idle() bool { return ev.days == 0 && ev.rest == 0 && len(ev.extra) == 0 }

func (ev *event) moment(wall time.Time) moment { return moment{wall, ev.whole, ev.zone} }

// recurrence reads RRULE.
func (ev *event) recurrence(e *ics.VEvent, zones *zoneTable) error {
	rules := e.GetProperties(ics.ComponentPropertyRrule)
	switch len(rules) {
	case 0:
		return nil
	case 1:
	default:
		return errors.New("it has more than one RRULE")
	}
	var err error
	ev.rule, ev.until, err = parseRule(rules[0].Value, ev.moment(ev.start))
	return err
}

// parseRule reads a recurrence rule; its end, if it has one, comes out on the wall clock of the start.
func parseRule(text string, start moment) (rule *rrule.ROption, until time.Time, err error) {
	var kept []string
	for part := range strings.SplitSeq(text, ";") {
		name, value, _ := strings.Cut(part, "=")
		if !strings.EqualFold(name, "UNTIL") {
			kept = append(kept, strings.ToUpper(part))
			continue
		}
		if until, err = parseUntil(value, start); err != nil {
			return nil, until, fmt.Errorf("RRULE:%s: %w", text, err)
		}
	}
	rule, err = rrule.StrToROption(strings.Join(kept, ";"))
	if err != nil {
		return nil, until, fmt.Errorf("RRULE:%s: %w", text, err)
	}
	if rule.Freq > rrule.DAILY {
		return nil, until, fmt.Errorf("RRULE:%s: an event of a schedule recurs daily at most", text)
	}
	rule.Dtstart = start.wall
	if _, err := rrule.NewRRule(*rule); err != nil {
		return nil, until, fmt.Errorf("RRULE:%s: %w", text, err)
	}
	return rule, until, nil
}

// parseUntil reads the end of a rule, which is included: a date, a time in UTC or one on the wall.
func parseUntil(value string, start moment) (time.Time, error) {
	if d, err := time.Parse("20060102", value); err == nil {
		return d.AddDate(0, 0, 1).Add(-time.Second), nil
	}
	if t, err := time.Parse("20060102T150405Z", value); err == nil {
		local := t.In(start.zone)
		return time.Date(local.Year(), local.Month(), local.Day(), local.Hour(), local.Minute(), local.Second(), 0, time.UTC), nil
	}
	t, err := time.Parse("20060102T150405", value)
	if err != nil {
		err = fmt.Errorf("UNTIL=%s is neither a date nor a time", value)
	}
	return t, err
}

// dates reads RDATE and EXDATE.
func (ev *event) dates(e *ics.VEvent, zones *zoneTable) error {
	for _, p := range e.GetProperties(ics.ComponentPropertyRdate) {
		for value := range strings.SplitSeq(p.Value, ",") {
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
	for _, p := range e.GetProperties(ics.ComponentPropertyExdate) {
		for value := range strings.SplitSeq(p.Value, ",") {
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
func (ev *event) instance(e *ics.VEvent, zones *zoneTable) error {
	p := e.GetProperty(ics.ComponentPropertyRecurrenceId)
	if p == nil {
		return nil
	}
	if len(p.ICalParameters["RANGE"]) > 0 {
		return errors.New("RECURRENCE-ID with RANGE is not read: write the later occurrences as an event of their own")
	}
	m, err := zones.moment(p, p.Value)
	ev.replaces = &m
	return err
}

// replace takes out of recurring events the occurrences that others stand for.
func replace(events []*event) {
	for _, r := range events {
		if r.replaces == nil {
			continue
		}
		for _, ev := range events {
			if ev.uid == r.uid && ev.replaces == nil {
				ev.except = append(ev.except, *r.replaces)
			}
		}
	}
}

// endless reports whether the event recurs without end.
func (ev *event) endless() bool { return ev.rule != nil && ev.rule.Count == 0 && ev.until.IsZero() }

// each calls f with every occurrence before the horizon: the start itself, those of the rule
// and those added, without those excepted.
func (ev *event) each(f func(start, end time.Time) error) error {
	give := func(p period) error {
		at := p.start.at()
		if ev.excepted(p.start, at) {
			return nil
		}
		end := p.end
		if end.IsZero() {
			m := p.start
			m.wall = m.wall.AddDate(0, 0, ev.days)
			end = m.at().Add(ev.rest)
		}
		return f(at, end)
	}
	seen := map[int64]bool{}
	once := func(p period) error {
		if key := p.start.at().Unix(); !seen[key] {
			seen[key] = true
			return give(p)
		}
		return nil
	}
	if err := once(period{start: ev.moment(ev.start)}); err != nil {
		return err
	}
	for _, p := range ev.extra {
		if err := once(p); err != nil {
			return err
		}
	}
	if ev.rule == nil {
		return nil
	}
	rule, err := rrule.NewRRule(*ev.rule)
	if err != nil {
		return err
	}
	next := rule.Iterator()
	for t, ok := next(); ok && t.Before(Horizon) && (ev.until.IsZero() || !t.After(ev.until)); t, ok = next() {
		if err := once(period{start: ev.moment(t)}); err != nil {
			return err
		}
	}
	return nil
}

// excepted reports whether an occurrence is taken out: by its instant, or by its date.
func (ev *event) excepted(m moment, at time.Time) bool {
	return slices.ContainsFunc(ev.except, func(x moment) bool {
		if x.whole {
			return x.wall.Format("20060102") == m.wall.Format("20060102")
		}
		return x.at().Equal(at)
	})
}

// parseDuration reads a duration of RFC 5545: days on the wall clock, and elapsed time.
func parseDuration(text string) (days int, rest time.Duration, err error) {
	bad := fmt.Errorf("DURATION:%s is no duration: write PT8H, P1D or P2W", text)
	body, ok := strings.CutPrefix(strings.TrimPrefix(text, "+"), "P")
	if !ok || body == "" {
		return 0, 0, bad
	}
	inTime := false
	for body != "" {
		if body[0] == 'T' && !inTime {
			inTime, body = true, body[1:]
			if body == "" {
				return 0, 0, bad
			}
			continue
		}
		i := strings.IndexFunc(body, func(r rune) bool { return r < '0' || r > '9' })
		if i <= 0 || i > 6 {
			return 0, 0, bad
		}
		n, _ := strconv.Atoi(body[:i])
		switch unit := body[i]; {
		case unit == 'W' && !inTime:
			days += 7 * n
		case unit == 'D' && !inTime:
			days += n
		case unit == 'H' && inTime:
			rest += time.Duration(n) * time.Hour
		case unit == 'M' && inTime:
			rest += time.Duration(n) * time.Minute
		case unit == 'S' && inTime:
			rest += time.Duration(n) * time.Second
		default:
			return 0, 0, bad
		}
		body = body[i+1:]
	}
	return days, rest, nil
}

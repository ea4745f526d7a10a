package schedule

// Calendars as exceptions of a schedule (RFC 5545).
//
// A calendar is worked out when it is read: every event is followed through its recurrences to the horizon, on its own wall
// clock, less the dates that it excepts and those that other events replace. What comes of all is one list of stretches of
// time, in order and without overlap, in which a question finds its place by halving. A file whose rules search or occur
// too much is given up, so that no file can take the memory or the time of those who read it.

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/lines"
	"briskwarden.example/briskwarden/internal/spell"
)

// Horizon is how far recurrences are worked out: whether one without end goes on at a later
// time is unknown.
var Horizon = time.Date(2200, 1, 1, 0, 0, 0, 0, time.UTC)

// Calendar is when the events of an iCalendar object (RFC 5545) are.
type Calendar struct {
	Events  int       // how many there are, those cancelled or without length not counted
	Idle    int       // how many events were left aside: cancelled, or without length
	Others  int       // how many components are neither events nor zones
	busy    []stretch // once it is settled, one after the other
	titles  []Title
	endless bool
	search  search
}

// stretch is one occurrence of an event, in seconds since 1970.
type stretch struct {
	start, end int64
	event      int32
}

// Title tells an event to a person.
type Title struct {
	Summary string // or its UID
	Line    int    // on which it begins
}

// ReadCalendar reads the events of a calendar file. Dates and times without a zone are in the
// given one. An error is a [*lines.Error].
func ReadCalendar(in io.Reader, zone *time.Location) (*Calendar, error) {
	c := &Calendar{}
	objects := 0
	err := readComponents(in, func(object *component) error {
		objects++
		return lines.At(object.line, c.object(object, zone))
	})
	switch {
	case err != nil:
		return nil, err
	case objects == 0:
		return nil, lines.At(1, errors.New("expected BEGIN:VCALENDAR"))
	}
	c.partEvents()
	return c, nil
}

// object adds the events of one iCalendar object.
func (c *Calendar) object(object *component, zone *time.Location) error {
	zones := zoneTable{local: zone, own: map[string]*time.Location{}}
	for _, part := range object.parts {
		if part.name == "VTIMEZONE" {
			if err := zones.add(part, &c.search); err != nil {
				return lines.At(part.line, err)
			}
		}
	}
	var events []*event
	for _, part := range object.parts {
		switch part.name {
		case "VTIMEZONE":
		case "VEVENT":
			ev, err := newEvent(part, &zones)
			if err != nil {
				return lines.At(part.line, fmt.Errorf("the event %q: %w", spell.Clip(cmp.Or(part.text("SUMMARY"), part.text("UID"))), err))
			}
			events = append(events, ev)
		default:
			c.Others++
		}
	}
	replace(events)
	for _, ev := range events {
		if err := c.add(ev); err != nil {
			return lines.At(ev.title.Line, err)
		}
	}
	return nil
}

// mostOccurrences is how often the events of one file may occur before the horizon.
const mostOccurrences = 1_000_000

// add adds the occurrences of an event.
func (c *Calendar) add(ev *event) error {
	if ev.cancelled || ev.idle() {
		c.Idle++
		return nil
	}
	number := int32(len(c.titles))
	err := ev.each(&c.search, func(start, end time.Time) error {
		if len(c.busy) == mostOccurrences {
			return fmt.Errorf("the events of this file occur more than %d times before %d", mostOccurrences, Horizon.Year())
		}
		c.busy = append(c.busy, stretch{start.Unix(), end.Unix(), number})
		return nil
	})
	if err != nil {
		return err
	}
	c.Events++
	c.titles = append(c.titles, ev.title)
	c.endless = c.endless || ev.endless()
	return nil
}

// partEvents readies the calendar for questions: where events overlap, the one that began first is
// told for as long as it lasts.
func (c *Calendar) partEvents() {
	slices.SortStableFunc(c.busy, func(a, b stretch) int { return cmp.Compare(a.start, b.start) })
	var apart []stretch
	for _, s := range c.busy {
		if n := len(apart); n > 0 {
			s.start = max(s.start, apart[n-1].end)
		}
		if s.start < s.end {
			apart = append(apart, s)
		}
	}
	c.busy = apart
}

// During reports whether an event is on at the instant t, and which.
func (c *Calendar) During(t time.Time) (is known.Truth, event Title) {
	at := t.Unix()
	i, _ := slices.BinarySearchFunc(c.busy, at, func(s stretch, at int64) int {
		if s.end <= at {
			return -1
		}
		return 1
	})
	if i < len(c.busy) && c.busy[i].start <= at {
		return known.True, c.titles[c.busy[i].event]
	}
	if c.endless && !t.Before(Horizon) {
		return known.Unknown, Title{}
	}
	return known.False, Title{}
}

// EndsWithin lists when events end, from the first instant on and before the second.
func (c *Calendar) EndsWithin(from, to time.Time) (list []time.Time) {
	for _, s := range c.busy {
		if s.end >= from.Unix() && s.end < to.Unix() {
			list = append(list, time.Unix(s.end, 0))
		}
	}
	return list
}

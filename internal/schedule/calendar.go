package schedule

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	ics "github.com/arran4/golang-ical"

	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/lines"
)

// Horizon is how far recurrences are worked out: whether one without end goes on at a later
// time is unknown.
var Horizon = time.Date(2200, 1, 1, 0, 0, 0, 0, time.UTC)

// Calendar is when the events of an iCalendar object (RFC 5545) are.
type Calendar struct {
	Events  int // how many there are, those cancelled or without length not counted
	Idle    int // how many events were left aside: cancelled, or without length
	busy    []stretch
	latest  []int64 // the latest end up to and with each stretch
	titles  []Title
	endless bool
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

// mostCalendar is the size in bytes of the largest calendar.
const mostCalendar = 64 << 20

// ReadCalendar reads the events of a calendar file. Dates and times without a zone are in the
// given one. An error is a [*lines.Error].
func ReadCalendar(in io.Reader, zone *time.Location) (*Calendar, error) {
	c := &Calendar{}
	var text bytes.Buffer
	first, last := 0, 0 // the lines of the object at hand, and of the file
	var starts []int    // the lines on which its events begin
	err := lines.Each(in, func(n int, line []byte) error {
		last = n
		switch word := strings.ToUpper(string(lines.Trimmed(line))); {
		case first == 0 && word == "":
			return nil
		case first == 0 && word != "BEGIN:VCALENDAR":
			return errors.New("expected BEGIN:VCALENDAR")
		case first == 0:
			first = n
		case word == "BEGIN:VEVENT":
			starts = append(starts, n)
		case text.Len()+len(line) > mostCalendar:
			return fmt.Errorf("the calendar is larger than %d MiB", mostCalendar>>20)
		case word == "END:VCALENDAR":
			text.WriteString("END:VCALENDAR\r\n")
			if err := c.object(&text, starts, zone); err != nil {
				return lines.At(first, err)
			}
			text.Reset()
			first, starts = 0, nil
			return nil
		}
		text.Write(line)
		text.WriteString("\r\n")
		return nil
	})
	switch {
	case err != nil:
		return nil, err
	case first != 0:
		return nil, lines.At(last, errors.New("the file ends before END:VCALENDAR"))
	case last == 0:
		return nil, lines.At(1, errors.New("expected BEGIN:VCALENDAR"))
	}
	c.settle()
	return c, nil
}

// object adds the events of one iCalendar object; starts are the lines of its events.
func (c *Calendar) object(text io.Reader, starts []int, zone *time.Location) error {
	parsed, err := ics.ParseCalendar(text)
	if err != nil {
		return err
	}
	zones := zoneTable{local: zone, own: map[string]*time.Location{}}
	for _, z := range parsed.Timezones() {
		if err := zones.add(z); err != nil {
			return err
		}
	}
	var events []*event
	for i, e := range parsed.Events() {
		line := 0
		if i < len(starts) {
			line = starts[i]
		}
		ev, err := newEvent(e, &zones)
		if err != nil {
			return lines.At(line, fmt.Errorf("%s: %w", named(e), err))
		}
		ev.title.Line = line
		events = append(events, ev)
	}
	replace(events)
	for _, ev := range events {
		if err := c.add(ev); err != nil {
			return lines.At(ev.title.Line, err)
		}
	}
	return nil
}

func named(e *ics.VEvent) string {
	if p := e.GetProperty(ics.ComponentPropertySummary); p != nil && p.Value != "" {
		return fmt.Sprintf("the event %q", p.Value)
	}
	return fmt.Sprintf("the event %q", e.Id())
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
	err := ev.each(func(start, end time.Time) error {
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

// settle readies the calendar for questions.
func (c *Calendar) settle() {
	slices.SortFunc(c.busy, func(a, b stretch) int { return int(min(1, max(-1, a.start-b.start))) })
	for i, s := range c.busy {
		if i > 0 {
			s.end = max(s.end, c.latest[i-1])
		}
		c.latest = append(c.latest, s.end)
	}
}

// During reports whether an event is on at the instant t, and which.
func (c *Calendar) During(t time.Time) (is known.Truth, event Title) {
	at := t.Unix()
	i, _ := slices.BinarySearchFunc(c.busy, at, func(s stretch, at int64) int {
		if s.start <= at {
			return -1
		}
		return 1
	})
	for i--; i >= 0 && c.latest[i] > at; i-- {
		if s := c.busy[i]; s.end > at {
			return known.True, c.titles[s.event]
		}
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

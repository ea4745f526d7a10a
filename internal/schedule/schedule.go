package schedule

// When a schedule is open.

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"briskwarden.example/briskwarden/internal/known"
)

// Window is a span of the wall clock on some days of the week. A window whose end is
// not after its start runs past midnight into the next day.
type Window struct {
	Days  [7]bool // by time.Weekday
	Start int     // minutes from 00:00, included
	End   int     // not included; 24:00 is 1440
}

var weekdays = map[string]time.Weekday{"mon": time.Monday, "tue": time.Tuesday, "wed": time.Wednesday, "thu": time.Thursday,
	"fri": time.Friday, "sat": time.Saturday, "sun": time.Sunday}

// ParseDays reads mon, or a range such as mon-fri; sat-mon wraps.
func ParseDays(text string) (days [7]bool, err error) {
	first, last, isRange := strings.Cut(text, "-")
	if !isRange {
		last = first
	}
	a, okA := weekdays[first]
	b, okB := weekdays[last]
	if !okA || !okB {
		return days, fmt.Errorf("%q is no day or range of days: mon, tue, wed, thu, fri, sat, sun, mon-fri", text)
	}
	for d := a; ; d = (d + 1) % 7 {
		days[d] = true
		if d == b {
			return days, nil
		}
	}
}

// ParseHours reads hours such as 06:00-20:00 into minutes from 00:00.
func ParseHours(text string) (start, end int, err error) {
	from, to, ok := strings.Cut(text, "-")
	if !ok {
		return 0, 0, fmt.Errorf("%q are no hours: write 06:00-20:00", text)
	}
	if start, err = parseClock(from); err != nil {
		return 0, 0, err
	}
	if end, err = parseClock(to); err != nil {
		return 0, 0, err
	}
	if start == 24*60 {
		return 0, 0, fmt.Errorf("24:00 is an end only: begin at 00:00 of the next day")
	}
	if start == end {
		return 0, 0, fmt.Errorf("the window %s ends where it starts: the whole day is 00:00-24:00", text)
	}
	return start, end, nil
}

func parseClock(text string) (minutes int, err error) {
	digits := len(text) == 5 && text[2] == ':'
	for i := range len(text) {
		digits = digits && (i == 2 || text[i] >= '0' && text[i] <= '9')
	}
	if digits {
		h, m := int(text[0]-'0')*10+int(text[1]-'0'), int(text[3]-'0')*10+int(text[4]-'0')
		if h < 24 && m < 60 || h == 24 && m == 0 {
			return h*60 + m, nil
		}
	}
	if meant := clockMeant(text); meant != "" {
		return 0, fmt.Errorf("%q is no time of day: write %s", text, meant)
	}
	return 0, fmt.Errorf("%q is no time of day: from 00:00 to 24:00", text)
}

// clockMeant is a time of day such as 7:00, 7am or 7:30pm as it is written here; "" where it is none.
func clockMeant(text string) string {
	for _, layout := range []string{"3:04", "15", "3pm", "3PM", "3:04pm", "3:04PM", "15.04", "15:04:05"} {
		if t, err := time.Parse(layout, text); err == nil {
			return t.Format("15:04")
		}
	}
	return ""
}

func (w Window) contains(day time.Weekday, minute int) bool {
	if w.Start < w.End {
		return w.Days[day] && w.Start <= minute && minute < w.End
	}
	return w.Days[day] && minute >= w.Start || w.Days[(day+6)%7] && minute < w.End
}

// Schedule is a set of hours of the week with its exceptions, read on a wall clock.
type Schedule struct {
	Name    string
	Wall    *Wall
	Windows []Window // none: open all day
	Except  []Span
	During  []Span // none: always

	Calendars []Exceptions // during their events it is closed
}

// Exceptions are a calendar and the file that it was read from.
type Exceptions struct {
	File string
	*Calendar
}

// Exception tells which event closes the schedule at the instant t: "summary (file:line)"; "" when none does.
func (s *Schedule) Exception(t time.Time) string {
	for _, c := range s.Calendars {
		if is, event := c.During(t); is == known.True {
			return event.Summary + " (" + c.File + ":" + strconv.Itoa(event.Line) + ")"
		}
	}
	return ""
}

// In reports whether the schedule is open at the instant t.
func (s *Schedule) In(t time.Time) known.Truth {
	local := s.Wall.Time(t)
	y, m, d := local.Date()
	date := Date{y, m, d}
	holds := func(span Span) bool { return span.Contains(date) }
	if slices.ContainsFunc(s.Except, holds) || len(s.During) > 0 && !slices.ContainsFunc(s.During, holds) {
		return known.False
	}
	day, minute := local.Weekday(), local.Hour()*60+local.Minute()
	if len(s.Windows) > 0 && !slices.ContainsFunc(s.Windows, func(w Window) bool { return w.contains(day, minute) }) {
		return known.False
	}
	is := known.True
	for _, c := range s.Calendars {
		during, _ := c.During(t)
		is = is.And(during.Not())
	}
	return is
}

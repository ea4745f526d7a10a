package schedule

// Dates, instants, and the wall clock between them.

import (
	"fmt"
	"strings"
	"time"
)

// Date is a day of the proleptic Gregorian calendar, in no time zone.
type Date struct {
	Year  int
	Month time.Month
	Day   int
}

// ParseDate reads a date such as 2026-12-01.
func ParseDate(text string) (Date, error) {
	t, err := time.Parse(time.DateOnly, text)
	if err != nil || t.Year() < 1 {
		return Date{}, fmt.Errorf("%q is no date: write year-month-day, such as 2026-12-01", text)
	}
	return Date{t.Year(), t.Month(), t.Day()}, nil
}

// DateOf is the date on the wall in loc at the instant t.
func DateOf(t time.Time, loc *time.Location) Date {
	y, m, d := t.In(loc).Date()
	return Date{y, m, d}
}

// Compare orders dates: negative when d is before e.
func (d Date) Compare(e Date) int {
	if d.Year != e.Year {
		return d.Year - e.Year
	}
	if d.Month != e.Month {
		return int(d.Month) - int(e.Month)
	}
	return d.Day - e.Day
}

// Next is the day after.
func (d Date) Next() Date {
	t := time.Date(d.Year, d.Month, d.Day+1, 0, 0, 0, 0, time.UTC)
	return Date{t.Year(), t.Month(), t.Day()}
}

// String gives the date as it is written.
func (d Date) String() string { return fmt.Sprintf("%04d-%02d-%02d", d.Year, d.Month, d.Day) }

// Start is the first instant of the date in loc: 00:00, or where the clock skips that, the
// moment it skips to; the earlier one where 00:00 comes twice.
func (d Date) Start(loc *time.Location) time.Time {
	return wall(d, 0, 0, 0, 0, loc)
}

// wall is the instant at which the clock in loc shows the given time; the earlier one where it
// comes twice. Where it never comes, the clock being put forward over it, it is reckoned by the
// offset before (RFC 5545, section 3.3.5).
func wall(d Date, hour, minute, second, nano int, loc *time.Location) time.Time {
	asked := time.Date(d.Year, d.Month, d.Day, hour, minute, second, nano, time.UTC)
	t := time.Date(d.Year, d.Month, d.Day, hour, minute, second, nano, loc)
	offset := offsetOf(t)
	switch shown := t.Unix() + int64(offset/time.Second); {
	case shown < asked.Unix(): // the clock skips it, and t, by the offset after the gap, lies before that
		return asked.Add(-offset).In(loc)
	case shown > asked.Unix(): // and t, by the offset before the gap, lies after it
		return t
	}
	if start, _ := t.ZoneBounds(); !start.IsZero() {
		if earlier := asked.Add(-offsetOf(start.Add(-time.Nanosecond))); earlier.Before(start) && earlier.Before(t) {
			return earlier.In(loc)
		}
	}
	return t
}

// offsetOf is how far the clock at a time is ahead of UTC.
func offsetOf(t time.Time) time.Duration {
	_, seconds := t.Zone()
	return time.Duration(seconds) * time.Second
}

// ParseInstant reads an RFC 3339 instant, or one without offset on the wall clock of loc.
// Seconds may be left out. A time that comes twice there is the earlier one.
func ParseInstant(text string, loc *time.Location) (time.Time, error) {
	for _, layout := range []string{time.RFC3339, "2006-01-02T15:04Z07:00"} {
		if t, err := time.Parse(layout, text); err == nil && t.UTC().Year() >= 1 && t.UTC().Year() <= 9999 {
			return t, nil
		}
	}
	for _, layout := range []string{"2006-01-02T15:04:05", "2006-01-02T15:04"} {
		if t, err := time.Parse(layout, text); err == nil && t.Year() >= 1 {
			return wall(Date{t.Year(), t.Month(), t.Day()}, t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), loc), nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no instant: write 2026-11-23T08:15, with seconds and an offset if you like", text)
}

// ParseDayOrInstant reads a date, as its first instant and that of the day after, or an instant as
// [ParseInstant] does, as itself twice.
func ParseDayOrInstant(text string, loc *time.Location) (start, end time.Time, err error) {
	if d, err := ParseDate(text); err == nil {
		return d.Start(loc), d.Next().Start(loc), nil
	}
	start, err = ParseInstant(text, loc)
	return start, start, err
}

// Span is a range of dates, both ends included.
type Span struct{ From, To Date }

// ParseSpan reads a date, or a range such as 2026-12-31..2027-01-01.
func ParseSpan(text string) (Span, error) {
	from, to, isRange := strings.Cut(text, "..")
	a, err := ParseDate(from)
	if err != nil || !isRange {
		return Span{a, a}, err
	}
	b, err := ParseDate(to)
	if err == nil && b.Compare(a) < 0 {
		err = fmt.Errorf("the range %s runs backwards", text)
	}
	return Span{a, b}, err
}

// Contains reports whether the date lies in the span.
func (s Span) Contains(d Date) bool { return s.From.Compare(d) <= 0 && d.Compare(s.To) <= 0 }

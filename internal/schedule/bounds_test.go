package schedule_test

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/schedule"
)

// TestWeeksOfYears counts the weeks of thirty years from 4 January on, which always lies in the first, whatever day begins
// a week: a rule is about the days of those that it numbers from either end.
func TestWeeksOfYears(t *testing.T) {
	for first, name := range map[time.Weekday]string{time.Monday: "MO", time.Sunday: "SU", time.Thursday: "TH"} {
		begin := func(year int) time.Time {
			d := time.Date(year, 1, 4, 12, 0, 0, 0, time.UTC)
			for d.Weekday() != first {
				d = d.AddDate(0, 0, -1)
			}
			return d
		}
		for _, n := range []int{1, 2, 9, 26, 52, 53, -1, -2, -52, -53} {
			text := fmt.Sprintf("RRULE:FREQ=YEARLY;WKST=%s;BYWEEKNO=%d", name, n)
			c, err := schedule.ReadCalendar(strings.NewReader(calendar(event("DTSTART;VALUE=DATE:20000101", text))), time.UTC)
			require.NoError(t, err)
			for year := 2001; year < 2031; year++ {
				weeks := int(begin(year+1).Sub(begin(year)) / (7 * 24 * time.Hour))
				for d := begin(year); d.Before(begin(year + 1)); d = d.AddDate(0, 0, 1) {
					week := 1 + int(d.Sub(begin(year))/(7*24*time.Hour))
					is, _ := c.During(d)
					require.Equal(t, known.Of(week == n || week-weeks-1 == n), is, "%s: week %d of %d, %s", text, week, weeks, d)
				}
			}
		}
	}
}

// TestCalendarsToTheLetter holds what is written seldom, by the times of one day: quotes, digits in names, blank lines, every
// unit, the first of a month.
func TestCalendarsToTheLetter(t *testing.T) {
	noon := "DTSTART:20260105T120000Z"
	for _, c := range []struct{ text, on, off string }{
		{event(`DTSTART;TZID="Europe/Oslo":20260105T120000`, "DURATION:PT9H"), "11:00:00 19:59:59", "10:59:59 20:00:00"},
		{event(`DTSTART;X-A="";X-B=:20260105T120000Z`, "DURATION:PT90S"), "12:00:00 12:01:29", "11:59:59 12:01:30"},
		{event("DTSTART:20260104T120000Z", "DURATION:PT100000S"), "00:00:00 15:46:39", "15:46:40"},
		{event("DTSTART:20251222T120000Z", "DURATION:P2W"), "00:00:00 11:59:59", "12:00:00"},
		{event(noon, "X-0-9-A-Z:left aside", "", " \t", "DURATION:PT1M"), "12:00:00 12:00:59", "12:01:00"},
		{event("DTSTART:20251201T120000Z", "DURATION:P1D", "RRULE:FREQ=MONTHLY;BYMONTHDAY=1,5"), "12:00:00", "11:59:59"},
		{event("DTSTART:20251201T120000Z", "DURATION:P4D", "RRULE:FREQ=MONTHLY;BYMONTHDAY=1"), "00:00:00 11:59:59", "12:00:00"},
		{event("DTSTART:20260101T120007Z", "DURATION:PT1S", "RRULE:FREQ=DAILY;BYSECOND=20,50"), "12:00:20 12:00:50", "12:00:07 12:00:19 12:00:21"},
		{event("DTSTART:20260101T120007Z", "DURATION:PT1S", "RRULE:FREQ=DAILY"), "12:00:07", "12:00:06 12:00:08 11:59:53"},
		{event("DTSTART;TZID=Twice:20260105T120000", "DURATION:PT1H") + "BEGIN:VTIMEZONE\nTZID:Twice\nBEGIN:STANDARD\nDTSTART:20000101T000000\n" +
			"TZOFFSETFROM:+0000\nTZOFFSETTO:+0100\nEND:STANDARD\nBEGIN:STANDARD\nDTSTART:20010101T000000\nRDATE:20260105T110000,20260106T110000\n" +
			"TZOFFSETFROM:+0100\nTZOFFSETTO:+0200\nEND:STANDARD\nEND:VTIMEZONE\nBEGIN:VTODO\nEND:VTODO\n", "10:00:00 10:59:59", "09:59:59 11:00:00"},
	} {
		read, err := schedule.ReadCalendar(strings.NewReader(calendar(c.text)), time.UTC)
		require.NoError(t, err, c.text)
		require.Equal(t, strings.Count(c.text, "BEGIN:VTODO"), read.Others)
		for clock, want := range map[string]bool{c.on: true, c.off: false} {
			for _, at := range strings.Fields(clock) {
				instant, err := time.Parse(time.DateTime, "2026-01-05 "+at)
				require.NoError(t, err)
				is, _ := read.During(instant)
				require.Equal(t, known.Of(want), is, "%s at %s", c.text, at)
			}
		}
	}
	for text, want := range map[string]string{
		" \n" + calendar(event(noon)):                                                 "", // a blank line
		" BEGIN:VCALENDAR\n" + calendar(event(noon)):                                  "line 1: expected BEGIN:VCALENDAR",
		calendar(event(noon, "", " DURATION:PT1H")):                                   "expected a property",
		calendar(event(noon, "DURATION:PTH")):                                         "no duration",
		calendar(event(noon, "DURATION:PT1000000S")):                                  "no duration",
		calendar(event(noon, "RRULE:FREQ=DAILY;INTERVAL=1000000")):                    "",
		calendar(event(noon, "RRULE:FREQ=DAILY;INTERVAL=1000001")):                    "from 1 to 1000000",
		calendar(event(noon, "RRULE:FREQ=YEARLY;BYDAY=53MO,-53MO")):                   "",
		calendar(event(noon, "RRULE:FREQ=YEARLY;BYDAY=54MO")):                         "is no day such as",
		calendar(event(noon, "RRULE:FREQ=YEARLY;BYDAY=-54MO")):                        "is no day such as",
		calendar(event(noon, "RDATE;VALUE=PERIOD:20260110T100000Z/20260110T100000Z")): "ends before it starts",
		calendar(event(noon, "RDATE;VALUE=PERIOD:20260110T100000Z/20260110T100001Z")): "",
		calendar(event(noon, "RDATE;VALUE=PERIOD:20260110T100000Z/soon")):             "neither a date",
	} {
		_, err := schedule.ReadCalendar(strings.NewReader(text), time.UTC)
		if want == "" {
			require.NoError(t, err, text)
		} else {
			require.ErrorContains(t, err, want, text)
		}
	}
}

// TestEndsOfEvents lists them from one instant on and before another.
func TestEndsOfEvents(t *testing.T) {
	c, err := schedule.ReadCalendar(strings.NewReader(calendar(event("DTSTART:20260105T120000Z", "DURATION:PT1H", "RRULE:FREQ=DAILY;COUNT=4"))), time.UTC)
	require.NoError(t, err)
	day := func(d int) time.Time { return time.Date(2026, 1, d, 13, 0, 0, 0, time.UTC) }
	ends := c.EndsWithin(day(6), day(8))
	require.Len(t, ends, 2)
	require.True(t, ends[0].Equal(day(6)) && ends[1].Equal(day(7)))
	require.Empty(t, c.EndsWithin(day(8).Add(time.Second), day(20)))
}

// TestTurnsOfOneDay lists all of somewhat more than a day, on either side of Greenwich and of 1970, up to a part of a second.
func TestTurnsOfOneDay(t *testing.T) {
	for name, want := range map[string]string{
		"UTC":            "05T00 05T06 05T20 06T00",
		"America/Denver": "05T00 05T03 05T07 05T13 06T03",
		"Asia/Tokyo":     "05T00 05T11 05T15 05T21",
	} {
		for _, year := range []int{1966, 2026} {
			s := schedule.Schedule{Wall: schedule.NewWall(zone(t, name)), Windows: []schedule.Window{window(t, "mon-sun", "06:00-20:00")}}
			from := time.Date(year, 1, 5, 0, 0, 0, 0, time.UTC)
			turns := map[string]bool{}
			for _, turn := range s.Turns(from, from.Add(27*time.Hour+time.Second/2)) {
				turns[turn.UTC().Format("02T15")] = true
				require.Zero(t, turn.UTC().Truncate(time.Hour).Compare(turn.UTC()))
			}
			require.ElementsMatch(t, strings.Fields(want), slices.Collect(maps.Keys(turns)), "%s %d", name, year)
		}
	}
}

// TestFirstAndLastDates holds the ends of what is read, and the day after one.
func TestFirstAndLastDates(t *testing.T) {
	for _, text := range []string{"0001-01-01T00:00:00Z", "9999-12-31T23:59:59Z", "0001-01-01T00:00"} {
		_, err := schedule.ParseInstant(text, time.UTC)
		require.NoError(t, err, text)
	}
	for _, text := range []string{"0000-12-31T23:59:59Z", "9999-12-31T23:59:59-01:00", "0000-12-31T23:59"} {
		_, err := schedule.ParseInstant(text, time.UTC)
		require.Error(t, err, text)
	}
	for text, next := range map[string]string{"0001-01-01": "0001-01-02", "2026-12-31": "2027-01-01", "2028-02-28": "2028-02-29"} {
		d, err := schedule.ParseDate(text)
		require.NoError(t, err)
		require.Equal(t, next, d.Next().String())
		one, err := schedule.ParseSpan(text + ".." + text)
		require.NoError(t, err)
		require.True(t, one.Contains(d) && !one.Contains(d.Next()))
		start, end, err := schedule.ParseDayOrInstant(text, zone(t, "Asia/Tokyo"))
		require.NoError(t, err)
		require.Equal(t, [2]string{text, next}, [2]string{schedule.DateOf(start, zone(t, "Asia/Tokyo")).String(), schedule.DateOf(end, zone(t, "Asia/Tokyo")).String()})
	}
	start, end, err := schedule.ParseDayOrInstant("2026-11-23T08:15Z", time.UTC)
	require.NoError(t, err)
	require.True(t, start.Equal(end) && start.Equal(time.Date(2026, 11, 23, 8, 15, 0, 0, time.UTC)))
	for text, told := range map[string]string{"7:00-20:00": "write 07:00", "7pm-20:00": "write 19:00", "08:60-10:00": "from 00:00 to 24:00", "noon-20:00": "from 00:00 to 24:00"} {
		_, _, err := schedule.ParseHours(text)
		require.ErrorContains(t, err, told)
	}
}

// TestTurnsEnd: beyond the table of a zone, and at any end of a year.
func TestTurnsEnd(t *testing.T) {
	for _, name := range []string{"Europe/Oslo", "America/Santiago", "Australia/Lord_Howe"} {
		zone, err := time.LoadLocation(name)
		require.NoError(t, err)
		s := &schedule.Schedule{Wall: schedule.NewWall(zone)}
		for _, year := range []int{2027, 2028, 2040, 2100, 9998} {
			from := time.Date(year, 12, 30, 0, 0, 0, 0, zone)
			done := make(chan int, 1)
			go func() { done <- len(s.Turns(from, from.AddDate(0, 0, 5))) }()
			select {
			case n := <-done:
				require.GreaterOrEqual(t, n, 5, "%s %d", name, year)
			case <-time.After(10 * time.Second):
				t.Fatalf("%s %d: it does not end", name, year)
			}
		}
	}
}

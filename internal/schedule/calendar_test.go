package schedule_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/schedule"
)

func calendar(parts ...string) string {
	return "BEGIN:VCALENDAR\nVERSION:2.0\nPRODID:-//Skerry Line//Test//EN\n" + strings.Join(parts, "") + "END:VCALENDAR\n"
}

func event(lines ...string) string {
	return "BEGIN:VEVENT\nUID:e@skerry.example\nDTSTAMP:20260101T000000Z\n" + strings.Join(lines, "\n") + "\nEND:VEVENT\n"
}

// islands is a zone of its own: UTC+05:30, an hour more from the first Sunday of March to that of October.
const islands = "BEGIN:VTIMEZONE\nTZID:Islands\nBEGIN:STANDARD\nDTSTART:20001001T030000\nTZOFFSETFROM:+0630\nTZOFFSETTO:+0530\nRRULE:FREQ=YEARLY;BYMONTH=10;BYDAY=1SU\nEND:STANDARD\n" +
	"BEGIN:DAYLIGHT\nDTSTART:20010304T020000\nTZOFFSETFROM:+0530\nTZOFFSETTO:+0630\nRRULE:FREQ=YEARLY;BYMONTH=3;BYDAY=1SU\nEND:DAYLIGHT\nEND:VTIMEZONE\n"

func TestCalendars(t *testing.T) {
	for _, c := range []struct {
		name, text string
		zone       string
		on, off    string // instants during the event, and not
	}{
		{"a whole day, without DTEND", event("DTSTART;VALUE=DATE:20261225"), "Europe/Oslo",
			"2026-12-24T23:00:00Z 2026-12-25T22:59:59Z", "2026-12-24T22:59:59Z 2026-12-25T23:00:00Z"},
		{"a whole day of 23 hours", event("DTSTART;VALUE=DATE:20260329", "DTEND;VALUE=DATE:20260330"), "Europe/Oslo",
			"2026-03-28T23:00:00Z 2026-03-29T21:59:59Z", "2026-03-28T22:59:59Z 2026-03-29T22:00:00Z"},
		{"a whole day of 25 hours", event("DTSTART;VALUE=DATE:20261025", "DURATION:P1D"), "Europe/Oslo",
			"2026-10-24T22:00:00Z 2026-10-25T22:59:59Z", "2026-10-24T21:59:59Z 2026-10-25T23:00:00Z"},
		{"every year, whole days", event("DTSTART;VALUE=DATE:20200517", "RRULE:FREQ=YEARLY"), "Europe/Oslo",
			"2020-05-17T12:00:00Z 2026-05-17T12:00:00Z 2199-05-17T12:00:00Z", "2019-05-17T12:00:00Z 2026-05-18T12:00:00Z"},
		{"leap days alone", event("DTSTART;VALUE=DATE:20240229", "RRULE:FREQ=YEARLY"), "UTC",
			"2024-02-29T12:00:00Z 2028-02-29T12:00:00Z", "2026-02-28T12:00:00Z 2026-03-01T12:00:00Z 2100-02-28T12:00:00Z 2100-03-01T12:00:00Z"},
		{"moved by EXDATE and RDATE", event("DTSTART;VALUE=DATE:20260105", "RRULE:FREQ=WEEKLY;COUNT=4", "EXDATE;VALUE=DATE:20260112", "RDATE;VALUE=DATE:20260114"), "Europe/Oslo",
			"2026-01-05T12:00:00Z 2026-01-14T12:00:00Z 2026-01-19T12:00:00Z 2026-01-26T12:00:00Z", "2026-01-12T12:00:00Z 2026-02-02T12:00:00Z"},
		{"moved by RECURRENCE-ID", event("DTSTART;TZID=Europe/Oslo:20260105T090000", "DTEND;TZID=Europe/Oslo:20260105T100000", "RRULE:FREQ=DAILY;UNTIL=20260107T080000Z") +
			event("RECURRENCE-ID;TZID=Europe/Oslo:20260106T090000", "DTSTART;TZID=Europe/Oslo:20260106T140000", "DURATION:PT30M"), "UTC",
			"2026-01-05T08:30:00Z 2026-01-06T13:15:00Z 2026-01-07T08:30:00Z", "2026-01-06T08:30:00Z 2026-01-06T13:30:00Z 2026-01-08T08:30:00Z"},
		{"an occurrence cancelled", event("DTSTART:20260105T090000Z", "DURATION:PT1H", "RRULE:FREQ=DAILY;COUNT=3") +
			event("RECURRENCE-ID:20260106T090000Z", "DTSTART:20260106T090000Z", "DURATION:PT1H", "STATUS:CANCELLED"), "UTC",
			"2026-01-05T09:30:00Z 2026-01-07T09:30:00Z", "2026-01-06T09:30:00Z"},
		{"cancelled", event("DTSTART;VALUE=DATE:20261225", "STATUS:CANCELLED"), "UTC", "", "2026-12-25T12:00:00Z"},
		{"floating, in the schedule's zone", event("DTSTART:20260701T080000", "DTEND:20260701T120000"), "Asia/Kolkata",
			"2026-07-01T02:30:00Z 2026-07-01T06:29:59Z", "2026-07-01T02:29:59Z 2026-07-01T06:30:00Z"},
		{"the same time on the wall, winter and summer", event("DTSTART;TZID=Europe/Oslo:20260101T080000", "DURATION:PT1H", "RRULE:FREQ=DAILY"), "UTC",
			"2026-01-15T07:00:00Z 2026-07-15T06:00:00Z", "2026-01-15T06:59:59Z 2026-07-15T07:00:00Z"},
		{"in the hour that does not exist", event("DTSTART;TZID=Europe/Oslo:20260328T023000", "DURATION:PT15M", "RRULE:FREQ=DAILY;COUNT=3"), "UTC",
			"2026-03-28T01:30:00Z 2026-03-29T01:30:00Z 2026-03-30T00:30:00Z", "2026-03-29T00:30:00Z"},
		{"in the hour that comes twice: the first", event("DTSTART;TZID=Europe/Oslo:20261024T023000", "DURATION:PT15M", "RRULE:FREQ=DAILY;COUNT=3"), "UTC",
			"2026-10-24T00:30:00Z 2026-10-25T00:30:00Z 2026-10-26T01:30:00Z", "2026-10-25T01:30:00Z"},
		{"overnight across the change", event("DTSTART;TZID=Europe/Oslo:20260328T220000", "DTEND;TZID=Europe/Oslo:20260329T060000"), "UTC",
			"2026-03-28T21:00:00Z 2026-03-29T03:59:59Z", "2026-03-28T20:59:59Z 2026-03-29T04:00:00Z"},
		{"a zone of the calendar's own", islands + event("DTSTART;TZID=Islands:20260215T080000", "DURATION:PT1H", "RRULE:FREQ=WEEKLY;COUNT=4"), "UTC",
			"2026-02-15T02:30:00Z 2026-02-22T02:30:00Z 2026-03-01T01:30:00Z 2026-03-08T01:30:00Z", "2026-03-08T02:30:00Z"},
		{"just after its own zone changed", islands + event("DTSTART;TZID=Islands:20261004T031500", "DURATION:PT10M"), "UTC",
			"2026-10-03T21:45:00Z 2026-10-03T21:54:59Z", "2026-10-03T20:50:00Z 2026-10-03T21:55:00Z"},
		{"a day taken out of a timed event", event("DTSTART:20260105T090000Z", "DURATION:PT1H", "RRULE:FREQ=DAILY;COUNT=3", "EXDATE;VALUE=DATE:20260106"), "UTC",
			"2026-01-05T09:30:00Z 2026-01-07T09:30:00Z", "2026-01-06T09:30:00Z"},
		{"periods", event("DTSTART:20260105T090000Z", "RDATE;VALUE=PERIOD:20260110T100000Z/20260110T120000Z,20260111T100000Z/PT30M"), "UTC",
			"2026-01-10T11:00:00Z 2026-01-11T10:29:59Z", "2026-01-10T12:00:00Z 2026-01-11T10:30:00Z 2026-01-05T09:00:00Z"},
		{"the last Friday of the month, until a date", event("DTSTART;VALUE=DATE:20260130", "RRULE:FREQ=MONTHLY;BYDAY=-1FR;UNTIL=20260327"), "UTC",
			"2026-01-30T12:00:00Z 2026-02-27T12:00:00Z 2026-03-27T12:00:00Z", "2026-04-24T12:00:00Z 2026-02-20T12:00:00Z"},
		{"in the hour that New York skips", event("DTSTART;TZID=America/New_York:20260308T023000", "DURATION:PT15M"), "UTC",
			"2026-03-08T07:30:00Z 2026-03-08T07:44:59Z", "2026-03-08T06:30:00Z 2026-03-08T07:45:00Z"},
		{"plain and numbered days together", event("DTSTART;VALUE=DATE:20260103", "RRULE:FREQ=MONTHLY;BYDAY=SA,3SU"), "UTC",
			"2026-01-03T12:00:00Z 2026-01-10T12:00:00Z 2026-01-18T12:00:00Z 2026-01-31T12:00:00Z 2026-02-15T12:00:00Z", "2026-01-04T12:00:00Z 2026-01-11T12:00:00Z 2026-02-22T12:00:00Z"},
		{"until an instant, in a zone ahead", event("DTSTART;TZID=Pacific/Kiritimati:20260105T010000", "DURATION:PT1H", "RRULE:FREQ=DAILY;UNTIL=20260106T110000Z"), "UTC",
			"2026-01-04T11:00:00Z 2026-01-06T11:59:59Z", "2026-01-07T11:00:00Z"},
		{"until an instant, of the hour that comes twice", event("DTSTART;TZID=Europe/Oslo:20261024T023000", "DURATION:PT15M", "RRULE:FREQ=DAILY;UNTIL=20261025T010000Z"), "UTC",
			"2026-10-25T00:30:00Z", "2026-10-25T01:30:00Z"},
		{"in any case", strings.ToLower(event("DTSTART;VALUE=DATE:20261225", "RRULE:FREQ=YEARLY;COUNT=2")) + strings.ToLower(event("DTSTART;VALUE=DATE:20260501", "STATUS:CANCELLED")), "UTC",
			"2026-12-25T12:00:00Z 2027-12-25T12:00:00Z", "2026-05-01T12:00:00Z 2028-12-25T12:00:00Z"},
		{"folded anywhere", strings.NewReplacer("VEVENT", "VEV\n ENT", "DTSTART", "DT\n\tSTART", "2612", "26\n 12").Replace(event("DTSTART;VALUE=DATE:20261225")), "UTC",
			"2026-12-25T12:00:00Z", "2026-12-26T12:00:00Z"},
		{"from 1900 on up to the horizon", event("DTSTART;VALUE=DATE:19000105", "RRULE:FREQ=YEARLY"), "UTC",
			"1900-01-05T12:00:00Z 2199-01-05T12:00:00Z", "2199-01-06T12:00:00Z"},
		{"one inside another", event("DTSTART:20260105T000000Z", "DURATION:P10D") + event("DTSTART:20260106T090000Z", "DURATION:PT1H"), "UTC",
			"2026-01-05T00:00:00Z 2026-01-06T09:30:00Z 2026-01-14T23:59:59Z", "2026-01-15T00:00:00Z"},
	} {
		for _, text := range []string{calendar(c.text), "\ufeff" + strings.ReplaceAll(calendar(c.text), "\n", "\r\n"), calendar() + calendar(c.text)} {
			read, err := schedule.ReadCalendar(strings.NewReader(text), zone(t, c.zone))
			require.NoError(t, err, c.name)
			s := schedule.Schedule{Wall: schedule.NewWall(zone(t, c.zone)), Calendars: []schedule.Exceptions{{File: "c.ics", Calendar: read}}}
			for at, open := range map[string]bool{c.on: false, c.off: true} {
				for _, instant := range strings.Fields(at) {
					parsed, err := time.Parse(time.RFC3339, instant)
					require.NoError(t, err)
					require.Equal(t, known.Of(open), s.In(parsed), "%s at %s", c.name, instant)
					require.Equal(t, open, s.Exception(parsed) == "")
				}
			}
		}
	}
}

func TestRecurrenceWithoutEnd(t *testing.T) {
	text := calendar(event("SUMMARY:Yard day", "DTSTART;VALUE=DATE:20260105", "RRULE:FREQ=WEEKLY"), event("DTSTART:20260105T090000Z"))
	c, err := schedule.ReadCalendar(strings.NewReader(text), time.UTC)
	require.NoError(t, err)
	require.Equal(t, [2]int{1, 1}, [2]int{c.Events, c.Idle})
	s := schedule.Schedule{Wall: schedule.NewWall(time.UTC), Calendars: []schedule.Exceptions{{File: "yard.ics", Calendar: c}}}
	require.Equal(t, known.True, s.In(schedule.Horizon.Add(-time.Second)), "a Tuesday")
	require.Equal(t, known.Unknown, s.In(schedule.Horizon), "recurrences are not worked out so far")
	require.Equal(t, "Yard day (yard.ics:4)", s.Exception(time.Date(2026, 1, 12, 8, 0, 0, 0, time.UTC)))
}

func TestBadCalendars(t *testing.T) {
	day := "DTSTART;VALUE=DATE:20261225"
	for _, c := range [][2]string{
		{"", "line 1: expected BEGIN:VCALENDAR"},
		{"id,date\n", "line 1: expected BEGIN:VCALENDAR"},
		{strings.TrimSuffix(calendar(event(day)), "END:VCALENDAR\n"), "the file ends before END:VCALENDAR"},
		{strings.Replace(calendar(event(day)), "END:VEVENT\n", "", 1), "line 8: END:VCALENDAR does not end BEGIN:VEVENT"},
		{calendar(event(day)) + "rest\n", "line 10: expected BEGIN:VCALENDAR"},
		{calendar(event("SUMMARY:Yule")), `line 4: the event "Yule": it has no DTSTART`},
		{calendar(event("DTSTART:2026-12-25")), "DTSTART:2026-12-25 is neither a date such as 20261225"},
		{calendar(event("DTSTART;TZID=Nowhere/Land:20261225T080000")), `there is no VTIMEZONE and no time zone "Nowhere/Land"`},
		{calendar(event(day, "DTEND;VALUE=DATE:20261224")), "it ends before it starts"},
		{calendar(event(day, "DTEND:20261226T080000")), "are not both dates or both times"},
		{calendar(event(day, "DTEND;VALUE=DATE:20261226", "DURATION:P1D")), "both DTEND and DURATION"},
		{calendar(event(day, "DURATION:PT1H")), "is not in days"},
		{calendar(event(day, "DURATION:1 day")), "is no duration"},
		{calendar(event(day, "RRULE:FREQ=SOMETIMES")), "RRULE:FREQ=SOMETIMES: "},
		{calendar(event(day, "RRULE:FREQ=HOURLY")), "recurs daily at most"},
		{calendar(event(day, "RRULE:FREQ=DAILY;UNTIL=soon")), "UNTIL=SOON: is neither"},
		{calendar(event(day, "RRULE:FREQ=DAILY", "RRULE:FREQ=WEEKLY")), "more than one RRULE"},
		{calendar(event(day, "EXRULE:FREQ=DAILY")), "EXRULE"},
		{calendar(event(day, "exrule:freq=daily")), "EXRULE"},
		{calendar(event(day, "rrule:freq=daily", "RRULE:FREQ=WEEKLY")), "more than one RRULE"},
		{calendar(event(day, "dtstart:20260101T000000")), "more than one DTSTART"},
		{calendar(event(day, "STATUS:CONFIRMED", "Status:CANCELLED")), "more than one STATUS"},
		{calendar(event(day, "RRULE:FREQ=WEEKLY;BYDAY=2MO")), "a numbered day, such as 3SU, is of a month or a year"},
		{calendar(event(day, "RRULE:FREQ=DAILY;BYDAY=MO,-1FR")), "a numbered day, such as 3SU, is of a month or a year"},
		{calendar(event(day, "RRULE:FREQ=YEARLY;BYWEEKNO=3;BYDAY=1MO")), "does not go with BYWEEKNO"},
		{calendar(event(day, "RRULE:FREQ=MONTHLY;BYDAY=0MO")), "\"0MO\" is no day"},
		{calendar(event(day, "RRULE:FREQ=DAILY;COUNT=0")), "COUNT=0: is no number"},
		{calendar(event(day, "RRULE:FREQ=DAILY;INTERVAL=0")), "INTERVAL=0: is no number"},
		{calendar(event(day, "RRULE:FREQ=DAILY;COUNT=3;UNTIL=20270101")), "both COUNT and UNTIL"},
		{calendar(event(day, "RRULE:FREQ=DAILY;RSCALE=HEBREW")), `"RSCALE" is no part of a rule`},
		{calendar(event(day, "RRULE:FREQ=DAILY;FREQ=WEEKLY")), "FREQ stands twice"},
		{calendar(event(day, "RRULE:INTERVAL=2")), "it has no FREQ"},
		{calendar(event(day, "RRULE:FREQ=WEEKLY;BYMONTHDAY=3")), "BYMONTHDAY does not go"},
		{calendar(event(day, "RRULE:FREQ=MONTHLY;BYYEARDAY=3")), "BYYEARDAY goes with"},
		{calendar(event(day, "RRULE:FREQ=DAILY;BYSETPOS=1")), "BYSETPOS needs another"},
		{calendar(event(day, "RRULE:FREQ=DAILY;BYHOUR=1")), "do not go with whole days"},
		{calendar(event(day, "RRULE:FREQ=YEARLY;BYMONTH=13")), "\"13\" is not from 1 to 12"},
		{calendar(strings.Repeat(event(day, "RRULE:FREQ=DAILY;BYMONTH=2;BYMONTHDAY=30"), 20_000)), "leave out those that never occur"},
		{calendar(event("DTSTART:20260101T000000Z", "DURATION:PT1H2H")), "is no duration"},
		{calendar(event("DTSTART:20260101T000000Z", "DURATION:PT1M1H")), "is no duration"},
		{calendar(event("DTSTART;TZID=UTC;TZID=Europe/Oslo:20260101T000000")), "more than one TZID"},
		{calendar(islands, islands), "the VTIMEZONE Islands stands twice"},
		{calendar("\u00e5" + event(day)), "expected a property"},
		{calendar(event("\u00e5DTSTART:20260101")), "line 7: expected a property"},
		{calendar(event("DTSTART;VALUE:20260101")), "a parameter that is not"},
		{calendar(event("DTSTART;TZID=\"UTC:20260101")), "does not end"},
		{calendar(event(day, "X-NOTE:a\x0bb")), "a control character"},
		{strings.Repeat("BEGIN:VCALENDAR\n", 100_000), "more than 8 deep"},
		{calendar(event(day, "RDATE:20261226T080000Z")), "not both dates or both times"},
		{calendar(event(day, "RECURRENCE-ID;RANGE=THISANDFUTURE;VALUE=DATE:20261225")), "RANGE is not read"},
		{calendar(event("DTSTART;VALUE=DATE:18991231")), "1899 lies before 1900"},
		{calendar(event("DTSTART:19010101T000000Z", "DURATION:PT1H", "RRULE:FREQ=DAILY;BYHOUR=1,2,3,4,5,6,7,8,9,10")), "occur more than 1000000 times"},
		{calendar("BEGIN:VTIMEZONE\nTZID:X\nEND:VTIMEZONE\n"), "has neither STANDARD nor DAYLIGHT"},
		{calendar(strings.Replace(islands, "+0630", "six", 1)), "TZOFFSETFROM:SIX: is no offset"},
		{strings.Replace(calendar(event(day)), "Skerry", "Sk\xe5rry", 1), "line 3: is not UTF-8"},
		{"\xfe\xff\x00B", "UTF-16"},
		{calendar(event("SUMMARY:" + strings.Repeat("x", 17<<20))), "line 7: is longer than 16 MiB"},
	} {
		_, err := schedule.ReadCalendar(strings.NewReader(c[0]), time.UTC)
		require.ErrorContains(t, err, c[1], "%.200q", c[0])
	}
}

func FuzzCalendar(f *testing.F) {
	for _, text := range []string{calendar(event("DTSTART;VALUE=DATE:20261225", "RRULE:FREQ=YEARLY;BYDAY=-1SU;BYMONTH=3")),
		calendar(islands, event("DTSTART;TZID=Islands:20260215T080000", "DURATION:PT1H", "EXDATE:20260215"))} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		c, err := schedule.ReadCalendar(strings.NewReader(text), time.UTC)
		if err == nil {
			c.During(time.Date(2026, 12, 25, 8, 0, 0, 0, time.UTC))
		}
	})
}

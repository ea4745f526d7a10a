package schedule_test

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/schedule"
)

func zone(t *testing.T, name string) *time.Location {
	t.Helper()
	loc, err := time.LoadLocation(name)
	require.NoError(t, err)
	return loc
}

func window(t *testing.T, days, hours string) (w schedule.Window) {
	t.Helper()
	var err error
	w.Days, err = schedule.ParseDays(days)
	require.NoError(t, err)
	w.Start, w.End, err = schedule.ParseHours(hours)
	require.NoError(t, err)
	return w
}

// TestWindowsAcrossClockChanges uses UTC instants, so that each is exactly one moment. Oslo
// springs forward on 2026-03-29 at 01:00 UTC and falls back on 2026-10-25 at 01:00 UTC.
func TestWindowsAcrossClockChanges(t *testing.T) {
	for _, c := range []struct {
		zone, days, hours, at string
		open                  bool
	}{
		// The hour from 02:00 to 03:00 does not exist.
		{"Europe/Oslo", "sun", "02:00-03:00", "2026-03-29T00:59:59Z", false},
		{"Europe/Oslo", "sun", "02:00-03:00", "2026-03-29T01:00:00Z", false},
		{"Europe/Oslo", "sun", "02:00-04:00", "2026-03-29T01:00:00Z", true},
		{"Europe/Oslo", "sun", "02:00-04:00", "2026-03-29T02:00:00Z", false},
		// The hour from 02:00 to 03:00 comes twice.
		{"Europe/Oslo", "sun", "02:00-03:00", "2026-10-24T23:59:59Z", false},
		{"Europe/Oslo", "sun", "02:00-03:00", "2026-10-25T00:00:00Z", true},
		{"Europe/Oslo", "sun", "02:00-03:00", "2026-10-25T01:30:00Z", true},
		{"Europe/Oslo", "sun", "02:00-03:00", "2026-10-25T02:00:00Z", false},
		// Overnight windows that run through either change.
		{"Europe/Oslo", "sat", "22:00-06:00", "2026-03-28T21:00:00Z", true},
		{"Europe/Oslo", "sat", "22:00-06:00", "2026-03-29T03:59:59Z", true},
		{"Europe/Oslo", "sat", "22:00-06:00", "2026-03-29T04:00:00Z", false},
		{"Europe/Oslo", "sat", "22:00-06:00", "2026-10-25T04:59:59Z", true},
		{"Europe/Oslo", "sat", "22:00-06:00", "2026-10-25T05:00:00Z", false},
		{"Europe/Oslo", "sat", "22:00-06:00", "2026-10-24T20:00:00Z", true},
		// A zone with a half-hour offset, and one whose change is half an hour.
		{"Asia/Kolkata", "mon", "09:00-17:30", "2026-11-23T03:30:00Z", true},
		{"Asia/Kolkata", "mon", "09:00-17:30", "2026-11-23T03:29:59Z", false},
		{"Asia/Kolkata", "mon", "09:00-17:30", "2026-11-23T12:00:00Z", false},
		{"Australia/Lord_Howe", "sun", "02:00-02:30", "2026-10-03T15:30:00Z", false},
		{"Australia/Lord_Howe", "sun", "01:30-02:00", "2026-04-04T15:15:00Z", true},
		// Ranges of days wrap, a day to itself is that day alone, 24:00 ends a day.
		{"UTC", "sat-mon", "00:00-24:00", "2026-11-22T12:00:00Z", true},
		{"UTC", "sat-mon", "00:00-24:00", "2026-11-24T00:00:00Z", false},
		{"UTC", "mon-mon", "08:00-09:00", "2026-11-23T08:00:00Z", true},
		{"UTC", "mon-mon", "08:00-09:00", "2026-11-24T08:00:00Z", false},
		{"UTC", "fri", "22:00-00:00", "2026-11-27T23:59:59Z", true},
		{"UTC", "fri", "22:00-00:00", "2026-11-28T00:00:00Z", false},
		// A leap day is a day.
		{"UTC", "tue", "00:00-24:00", "2028-02-29T12:00:00Z", true},
	} {
		s := schedule.Schedule{Wall: schedule.NewWall(zone(t, c.zone)), Windows: []schedule.Window{window(t, c.days, c.hours)}}
		at, err := time.Parse(time.RFC3339, c.at)
		require.NoError(t, err)
		require.Equal(t, known.Of(c.open), s.In(at), "%+v", c)
	}
}

func TestExceptionsLookAtTheLocalDate(t *testing.T) {
	span, err := schedule.ParseSpan("2026-12-31..2027-01-01")
	require.NoError(t, err)
	during, err := schedule.ParseSpan("2026-12-01..2027-01-31")
	require.NoError(t, err)
	s := schedule.Schedule{Wall: schedule.NewWall(zone(t, "Pacific/Auckland")), During: []schedule.Span{during}, Except: []schedule.Span{span}}
	for at, open := range map[string]bool{
		"2026-11-30T10:59:59Z": false, "2026-11-30T11:00:00Z": true, // 1 December begins there 13 hours early
		"2026-12-30T10:59:59Z": true, "2026-12-30T11:00:00Z": false, "2027-01-01T10:59:59Z": false, "2027-01-01T11:00:00Z": true,
		"2027-01-31T11:00:00Z": false,
	} {
		instant, err := time.Parse(time.RFC3339, at)
		require.NoError(t, err)
		require.Equal(t, known.Of(open), s.In(instant), at)
	}
}

// TestDatesBeginWhereTheClockDoes takes zones that change their clocks at midnight.
func TestDatesBeginWhereTheClockDoes(t *testing.T) {
	for _, c := range []struct{ zone, date, start string }{
		{"Europe/Oslo", "2026-11-23", "2026-11-22T23:00:00Z"},
		{"Africa/Cairo", "2026-04-24", "2026-04-23T22:00:00Z"},      // 00:00 is skipped
		{"America/Havana", "2026-03-08", "2026-03-08T05:00:00Z"},    // 00:00 is skipped
		{"America/Havana", "2026-11-01", "2026-11-01T04:00:00Z"},    // 00:00 comes twice: the first
		{"America/Sao_Paulo", "2018-11-04", "2018-11-04T03:00:00Z"}, // 00:00 is skipped
		{"Pacific/Apia", "2011-12-31", "2011-12-30T10:00:00Z"},      // the day before does not exist
	} {
		d, err := schedule.ParseDate(c.date)
		require.NoError(t, err)
		require.Equal(t, c.start, d.Start(zone(t, c.zone)).UTC().Format(time.RFC3339), "%+v", c)
	}
}

func TestInstants(t *testing.T) {
	oslo := zone(t, "Europe/Oslo")
	for text, want := range map[string]string{
		"2026-11-23T08:15":          "2026-11-23T07:15:00Z",
		"2026-11-23T08:15:30":       "2026-11-23T07:15:30Z",
		"2026-11-23T08:15Z":         "2026-11-23T08:15:00Z",
		"2026-11-23T08:15:00+05:30": "2026-11-23T02:45:00Z",
		"2026-11-23T08:15+01:00":    "2026-11-23T07:15:00Z",
		"2026-10-25T02:30":          "2026-10-25T00:30:00Z", // comes twice: the first
		"2026-10-25T02:30+01:00":    "2026-10-25T01:30:00Z",
	} {
		at, err := schedule.ParseInstant(text, oslo)
		require.NoError(t, err)
		require.Equal(t, want, at.UTC().Format(time.RFC3339), text)
	}
	for _, text := range []string{"", "2026-11-23", "08:15", "2026-11-23T25:00", "2026-02-30T08:00", "10000-01-01T00:00:00Z", "0000-01-01T00:00:00Z", "2026-11-23 08:15"} {
		_, err := schedule.ParseInstant(text, oslo)
		require.Error(t, err, text)
	}
}

func TestWhatCannotBe(t *testing.T) {
	for _, text := range []string{"25:00-26:00", "08:00", "8:00-9:00", "08:00-08:00", "24:00-08:00", "08:60-09:00", "08:00-24:01", "-", "08:00-09:00-10:00", "+8:00-09:00"} {
		_, _, err := schedule.ParseHours(text)
		require.Error(t, err, text)
	}
	for _, text := range []string{"", "monday", "mon-", "mon-fry", "Mon", "mon,tue", "mon-fri-sat"} {
		_, err := schedule.ParseDays(text)
		require.Error(t, err, text)
	}
	for _, text := range []string{"2026-12-31..2026-12-01", "2026-12-31..", "..2026-12-31", "2026-02-29", "2026-2-1", "0000-01-01", "2026-12-31...2027-01-01"} {
		_, err := schedule.ParseSpan(text)
		require.Error(t, err, text)
	}
}

// TestWallClock holds the clock on the wall against the time library, through changes of offset and before 1970.
func TestWallClock(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	for _, name := range []string{"Europe/Oslo", "America/St_Johns", "Pacific/Auckland", "UTC"} {
		w := schedule.NewWall(zone(t, name))
		for range 20_000 {
			at := time.Unix(random.Int64N(300*365*24*3600)-100*365*24*3600, random.Int64N(1e9))
			day, second := w.Clock(at)
			local := at.In(w.Zone())
			h, m, s := local.Clock()
			require.Equal(t, h*3600+m*60+s, second, "%s", local)
			require.Equal(t, schedule.DateOf(at, w.Zone()), schedule.DateOf(time.Unix(day*24*3600, 0), time.UTC), "%s", local)
		}
	}
}

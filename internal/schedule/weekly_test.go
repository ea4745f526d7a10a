package schedule_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/schedule"
)

// TestWeekly finds the last instant that is not after a time, where the clock is put forward or back too.
func TestWeekly(t *testing.T) {
	oslo, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	kiritimati, err := time.LoadLocation("Pacific/Kiritimati")
	require.NoError(t, err)
	for _, c := range []struct {
		zone                 *time.Location
		days, clock, t, want string
	}{
		{oslo, "mon", "07:00", "2026-11-23T06:00:00Z", "2026-11-23T06:00:00Z"},
		{oslo, "mon", "07:00", "2026-11-23T05:59:59Z", "2026-11-16T06:00:00Z"},
		{oslo, "mon", "07:00", "2026-10-26T12:00:00Z", "2026-10-26T06:00:00Z"},
		{oslo, "mon", "07:00", "2026-10-26T05:59:59Z", "2026-10-19T05:00:00Z"},
		{oslo, "mon-sun", "23:59", "2026-11-23T22:58:59Z", "2026-11-22T22:59:00Z"},
		{oslo, "mon-sun", "00:00", "2026-11-22T23:00:00Z", "2026-11-22T23:00:00Z"},
		{oslo, "sun", "02:30", "2026-03-29T12:00:00Z", "2026-03-29T01:30:00Z"}, // skipped
		{oslo, "sun", "02:30", "2026-10-25T01:00:00Z", "2026-10-25T00:30:00Z"}, // comes twice
		{kiritimati, "mon", "07:00", "2026-11-22T17:00:00Z", "2026-11-22T17:00:00Z"},
		{kiritimati, "mon", "07:00", "2026-11-22T16:59:59Z", "2026-11-15T17:00:00Z"},
	} {
		at, err := time.Parse(time.RFC3339, c.t)
		require.NoError(t, err)
		w := schedule.Weekly{Zone: c.zone}
		w.Days, err = schedule.ParseDays(c.days)
		require.NoError(t, err)
		w.Minute, err = schedule.ParseClock(c.clock)
		require.NoError(t, err)
		require.Equal(t, c.want, w.Last(at).UTC().Format(time.RFC3339), "%+v", c)
	}
	require.Zero(t, (&schedule.Weekly{Zone: oslo}).Last(time.Now()))
	_, err = schedule.ParseClock("24:00")
	require.ErrorContains(t, err, "of the next day")
}

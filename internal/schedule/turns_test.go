package schedule

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"briskwarden.example/briskwarden/internal/known"
)

// TestBetweenTurnsNothingChanges asks schedules of every kind minute by minute, over the days on which
// the clocks change.
func TestBetweenTurnsNothingChanges(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	changes := 0
	for range 60 {
		zone, err := time.LoadLocation([]string{"Europe/Oslo", "UTC", "Australia/Lord_Howe", "America/St_Johns"}[r.IntN(4)])
		require.NoError(t, err)
		s := &Schedule{Wall: NewWall(zone)}
		for range r.IntN(3) {
			w := Window{Start: r.IntN(24 * 60), End: 1 + r.IntN(24*60)}
			for d := range w.Days {
				w.Days[d] = r.IntN(2) == 0
			}
			s.Windows = append(s.Windows, w)
		}
		from := time.Date(2026, time.Month(3+7*r.IntN(2)), 20+r.IntN(10), r.IntN(24), r.IntN(60), 0, r.IntN(2)*r.IntN(1e9), time.UTC)
		until := from.Add(time.Duration(1+r.IntN(14*24*60)) * time.Minute).Add(time.Duration(r.IntN(1e9)))
		day := DateOf(from.AddDate(0, 0, r.IntN(9)), zone)
		s.Except = []Span{{day, day.Next()}}
		if r.IntN(2) == 0 {
			s.During = []Span{{DateOf(from.AddDate(0, 0, 2), zone), DateOf(from.AddDate(0, 0, 12), zone)}}
		}
		busy := from.Unix() + int64(r.IntN(100_000))
		s.Calendars = []Exceptions{{Calendar: &Calendar{busy: []stretch{{busy, busy + 5000, 0}}, titles: []Title{{}}}}}
		turns := map[int64]bool{}
		for _, turn := range s.Turns(from, until) {
			turns[turn.Unix()] = true
		}
		before := known.Unknown
		for at := from; at.Before(until); at = at.Add(time.Second * 20) {
			now := s.In(at)
			if before != known.Unknown && now != before {
				changes++
				turned := false
				for k := range 20 {
					turned = turned || turns[at.Unix()-int64(k)]
				}
				require.True(t, turned, "%v: %v became %v without a turn", at, before, now)
			}
			before = now
		}
	}
	require.Greater(t, changes, 200)
}

package schedule

// Instants that come every week.

import (
	"fmt"
	"time"
)

// Weekly is a time of day on some days of the week, on the clock of a zone.
type Weekly struct {
	Days   [7]bool // by time.Weekday
	Minute int     // from 00:00
	Zone   *time.Location
}

// ParseClock reads a time of day such as 07:00 into minutes from 00:00; 24:00 is none.
func ParseClock(text string) (minute int, err error) {
	if minute, err = parseClock(text); minute == 24*60 {
		return 0, fmt.Errorf("24:00 is an end only: write 00:00 of the next day")
	}
	return minute, err
}

// Last is the last of the instants that is not after t. Where the clock skips the time of day, the instant is reckoned by the
// offset before; where it comes twice, it is the earlier one. Zero is that there are no days.
func (w *Weekly) Last(t time.Time) time.Time {
	noon := time.Date(t.In(w.Zone).Year(), t.In(w.Zone).Month(), t.In(w.Zone).Day()+1, 12, 0, 0, 0, time.UTC)
	for range 9 {
		if w.Days[noon.Weekday()] {
			if at := wall(Date{noon.Year(), noon.Month(), noon.Day()}, w.Minute/60, w.Minute%60, 0, 0, w.Zone); !at.After(t) {
				return at
			}
		}
		noon = noon.AddDate(0, 0, -1)
	}
	return time.Time{}
}

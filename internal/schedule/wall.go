package schedule

// What the clock on the wall says, quickly.

import (
	"math"
	"sync/atomic"
	"time"
)

// Wall is the wall clock of a time zone. It remembers the offset that it used last, and until
// when that holds, and is safe for concurrent use.
type Wall struct {
	zone *time.Location
	last atomic.Pointer[offset]
}

// offset is how far a zone is ahead of UTC from a second on, and before another.
type offset struct{ from, to, ahead int64 }

// NewWall returns the wall clock of a zone.
func NewWall(zone *time.Location) *Wall { return &Wall{zone: zone} }

// Zone is the time zone.
func (w *Wall) Zone() *time.Location { return w.zone }

// Time is what the clock shows at an instant, to the second, as a time in UTC.
func (w *Wall) Time(t time.Time) time.Time { return time.Unix(w.seconds(t), 0).UTC() }

// Clock is what the clock shows at an instant: the day, counted from 1970-01-01, and the second of it.
func (w *Wall) Clock(t time.Time) (day int64, second int) {
	const ofDay = 24 * 3600
	at := w.seconds(t)
	day, second = at/ofDay, int(at%ofDay)
	if second < 0 {
		day, second = day-1, second+ofDay
	}
	return day, second
}

// seconds is how many the clock has shown since 1970, all days being of the same length.
func (w *Wall) seconds(t time.Time) int64 {
	at := t.Unix()
	o := w.last.Load()
	if o == nil || at < o.from || at >= o.to {
		o = w.offsetAt(t)
		w.last.Store(o)
	}
	return at + o.ahead
}

// leastSpan is what each change of a zone's offset is at a multiple of, in seconds.
const leastSpan = 15 * 60

func (w *Wall) offsetAt(t time.Time) *offset {
	local := t.In(w.zone)
	start, end := local.ZoneBounds()
	_, ahead := local.Zone()
	o := &offset{math.MinInt64, math.MaxInt64, int64(ahead)}
	if !start.IsZero() {
		o.from = start.Unix()
	}
	if !end.IsZero() {
		o.to = end.Unix()
	}
	if at := t.Unix(); o.from > at || o.to <= at { // beyond the zone's table, the library may tell of another span at the end of a year
		o.from = floorTo(at, leastSpan)
		o.to = o.from + leastSpan
	}
	return o
}

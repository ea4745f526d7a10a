package history

// What is left of sign-ons that are no longer kept in full. Whatever they could change is told
// as unknown.
//
// Each part of it is bounded, and says what it lost: the countries and devices seen last, with the time of
// the latest that gave way to another, and a ring of counts, one for each quarter of an hour, with the time
// of the latest sign-on that is in none. A fact is told for sure where no sign-on that is lost, wherever
// within its quarter it was, would change it.

import (
	"math"
	"slices"
	"time"
)

// The bounds of what is left: countries and devices with when each was seen last, and how many
// sign-ons there were in each quarter of an hour.
const (
	mostCountries = 32
	mostDevices   = 64
	mostQuarters  = int(keptFor / quarter)
	quarter       = 15 * time.Minute
)

const (
	seenSize      = 16
	forgottenSize = 104 + (mostCountries+mostDevices)*seenSize + mostQuarters*2
)

// never is before any time.
const never = math.MinInt64

// forgotten is what is left of a user's sign-ons.
type forgotten struct {
	gone     int64  // the last time of those that are in no quarter
	seen     []seen // countries and devices
	country  int64  // the last time of a country that is not among them,
	device   int64  // and of a device
	strayed  int64  // the last time of a position that is not known
	placed   where  // the last position,
	placedAt int64  // and when that was
	top      int64  // the last quarter that is counted, in quarters since 1970
	quarters []uint16
}

// seen says when a country or a device was last seen.
type seen struct {
	what uint64 // a country's two letters, or a device's hash
	at   int64
}

func newForgotten() *forgotten {
	return &forgotten{gone: never, country: never, device: never, strayed: never, placedAt: never}
}

func (f *forgotten) clone() *forgotten {
	if f == nil {
		return nil
	}
	c := *f
	c.seen, c.quarters = slices.Clone(f.seen), slices.Clone(f.quarters)
	return &c
}

// take keeps what is left of an entry; the hour of one that may still matter is counted.
func (f *forgotten) take(e entry, matters bool) {
	if e.country != 0 {
		f.saw(seen{uint64(e.country), e.at}, mostCountries, &f.country)
	}
	if e.device > math.MaxUint16 {
		f.saw(seen{e.device, e.at}, mostDevices, &f.device)
	}
	if e.accuracy != noPosition && e.at >= f.placedAt {
		f.placed, f.placedAt = e.where, e.at
	}
	if !matters {
		f.gone = max(f.gone, e.at)
		return
	}
	f.count(e.at)
}

// saw notes one of at most so many of a kind; the one not seen for longest gives way, and lost is
// when that was.
func (f *forgotten) saw(s seen, most int, lost *int64) {
	isCountry := func(s seen) bool { return s.what <= math.MaxUint16 }
	count, oldest := 0, -1
	for i := range f.seen {
		o := &f.seen[i]
		switch {
		case isCountry(*o) != isCountry(s):
			continue
		case o.what == s.what:
			o.at = max(o.at, s.at)
			return
		case oldest < 0 || o.at < f.seen[oldest].at:
			oldest = i
		}
		count++
	}
	if count < most {
		f.seen = append(f.seen, s)
		return
	}
	*lost = max(*lost, f.seen[oldest].at)
	f.seen[oldest] = s
}

// count counts a sign-on in its quarter of an hour.
func (f *forgotten) count(at int64) {
	q := floor(at, quarter.Microseconds())
	if f.quarters == nil {
		f.quarters, f.top = make([]uint16, mostQuarters), q
	}
	f.reach(q)
	n := f.counter(q)
	if q <= f.top-int64(mostQuarters) || *n == math.MaxUint16 {
		f.gone = max(f.gone, at)
		return
	}
	*n++
}

// reach makes a quarter the last that is counted, unless a later one is: the oldest give way.
func (f *forgotten) reach(q int64) {
	const n = int64(mostQuarters)
	if q-f.top >= n {
		f.gone = max(f.gone, (f.top+1)*quarter.Microseconds()-1)
		clear(f.quarters)
		f.top = q
	}
	for ; f.top < q; f.top++ {
		if oldest := f.counter(f.top + 1); *oldest > 0 {
			*oldest = 0
			f.gone = max(f.gone, (f.top+2-n)*quarter.Microseconds()-1)
		}
	}
}

// counter is where a quarter is counted.
func (f *forgotten) counter(q int64) *uint16 {
	n := int64(mostQuarters)
	return &f.quarters[(q%n+n)%n]
}

func floor(at, unit int64) int64 {
	q := at / unit
	if at%unit < 0 {
		q--
	}
	return q
}

// tell adds to a comparison what could be among what is forgotten.
func (f *forgotten) tell(c *comparison) {
	for _, s := range f.seen {
		switch s.what {
		case uint64(c.now.country):
			c.country.look(s.at, c)
		case c.now.device:
			c.device.look(s.at, c)
		}
	}
	c.country.maybe = c.country.maybe || f.country >= c.from
	c.device.maybe = c.device.maybe || f.device >= c.from
	switch {
	case f.placedAt > c.now.at:
		c.strayed = true
	case f.placedAt == c.now.at:
		c.leapt = c.leapt || distance(&f.placed, &c.now.where) > 0
		c.strayed = true
	case f.placedAt >= c.from && f.placedAt > c.lastAt:
		c.last, c.lastAt = f.placed, f.placedAt
	}
	c.strayed = c.strayed || f.strayed >= c.from && f.strayed >= c.lastAt
	c.hours.unbounded = c.hours.unbounded || f.gone >= c.from
	if f.quarters != nil {
		f.tellHours(c)
	}
}

// look takes a last sighting: one that is not before now may hide another that was.
func (s *sighting) look(at int64, c *comparison) {
	switch {
	case at >= c.now.at:
		s.maybe = true
	case at >= c.from:
		s.at = max(s.at, at)
	}
}

// tellHours counts the sign-ons of quarters of an hour, as far as they tell.
func (f *forgotten) tellHours(c *comparison) {
	unit := quarter.Microseconds()
	first := max(f.top-int64(mostQuarters)+1, floor(c.from, unit))
	for q := first; q <= min(f.top, floor(c.now.at, unit)); q++ {
		n := int(*f.counter(q))
		if n == 0 {
			continue
		}
		surelyIn := q*unit >= c.from && (q+1)*unit <= c.now.at
		near, perhaps := c.nearQuarter(q)
		switch {
		case surelyIn && near:
			c.hours.near += n
		case surelyIn && perhaps:
			c.hours.perhapsNear += n
		case surelyIn:
			c.hours.apart += n
		case near:
			c.hours.maybeNear += n
		case perhaps:
			c.hours.maybePerhapsNear += n
		default:
			c.hours.maybeApart += n
		}
	}
}

// nearQuarter tells whether all of a quarter of an hour lies within an hour of now's time of day, or perhaps some of it.
func (c *comparison) nearQuarter(q int64) (all, some bool) {
	const length = int64(quarter / time.Second)
	start := time.UnixMicro(q * quarter.Microseconds())
	_, begin := c.wall.Clock(start)
	_, end := c.wall.Clock(start.Add(quarter - time.Second))
	if (int64(end-begin)+day)%day != length-1 { // the clock is put forward or back within it
		return false, true
	}
	apart := (int64(begin)-int64(c.now.clock)+day+day/2)%day - day/2                    // from now, by the shorter way
	return apart > -hour && apart+length <= hour, apart <= hour && apart+length > -hour // now's parts of a second included
}

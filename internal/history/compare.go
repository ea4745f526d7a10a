package history

// How a sign-on compares with those before it.
//
// What is kept of a user is gone through from the latest on, once for each property and no further than its
// answer; what is forgotten adds what it may have been. Times of day are counted only until there are enough
// for the hour not to be odd, unless an explanation wants the number.

import (
	"time"

	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/place"
	"briskwarden.example/briskwarden/internal/schedule"
)

// comparison is a sign-on held against those before it.
type comparison struct {
	now    entry
	from   int64 // when the window begins
	counts bool  // all sign-ons around now are counted
	wall   *schedule.Wall

	hours           tally
	country, device sighting
	last            where // the last position before now,
	lastAt          int64 // and when that was; 0 is never
	leapt           bool  // another at the same instant is elsewhere
	strayed         bool  // where the user was last is no longer known
}

// comparison begins one.
func (p *Past) comparison(q *Query) comparison {
	return comparison{now: p.entry(q), from: q.At.Add(-Window).UnixMicro(), counts: q.Counts, wall: p.wall}
}

// sighting is when a country or device was seen last before now; 0 is never.
type sighting struct {
	at    int64
	maybe bool // if it is never: it may have been, and be forgotten
}

// isNew tells whether it was not seen.
func (s sighting) isNew() known.Truth {
	if s.at == 0 && s.maybe {
		return known.Unknown
	}
	return known.Of(s.at == 0)
}

func (c *comparison) compare(t *userHistory) {
	positioned := c.now.accuracy != noPosition
	end := len(t.entries)
	for end > t.first && t.entries[end-1].at >= c.now.at {
		end--
		e := &t.entries[end]
		c.leapt = c.leapt || e.at == c.now.at && positioned && e.accuracy != noPosition && distance(&e.where, &c.now.where) > 0
	}
	start := t.window(end, c.from)
	before := t.entries[start:end]
	learned := len(before)
	enough := learned
	if !c.counts && t.forgotten == nil {
		enough = (OddPercent*learned + 99) / 100
	}
	near := near(before, c.now, enough)
	c.hours.near, c.hours.apart = near, learned-near
	if e := latest(before, func(e *entry) bool { return e.country == c.now.country }); e != nil {
		c.country.at = e.at
	}
	if e := latest(before, func(e *entry) bool { return e.device == c.now.device }); e != nil {
		c.device.at = e.at
	}
	if positioned {
		if e := latest(before, func(e *entry) bool { return e.accuracy != noPosition }); e != nil {
			c.last, c.lastAt = e.where, e.at
		}
	}
	if t.forgotten != nil {
		t.forgotten.tell(c)
	}
}

// latest is the last entry that is such; nil is none.
func latest(entries []entry, such func(*entry) bool) *entry {
	for i := len(entries) - 1; i >= 0; i-- {
		if such(&entries[i]) {
			return &entries[i]
		}
	}
	return nil
}

const (
	ofSecond  = 1_000_000 // microseconds
	day, hour = 24 * 3600, 3600
)

// near is how many entries, as far as it matters, have a time of day within an hour of one, midnight or
// not: once there are enough of them it looks no further.
func near(entries []entry, now entry, enough int) (n int) {
	for i := len(entries) - 1; i >= 0 && n < enough; i-- {
		e := &entries[i]
		apart := int32(e.clock) - int32(now.clock)
		switch {
		case apart > -hour && apart < hour, apart > day-hour, apart < hour-day:
			n++
		case apart == hour, apart == hour-day: // to the second: parts of one tell
			if ofASecond(e.at) <= ofASecond(now.at) {
				n++
			}
		case apart == -hour, apart == day-hour:
			if ofASecond(e.at) >= ofASecond(now.at) {
				n++
			}
		}
	}
	return n
}

// ofASecond are the microseconds of a time since the last whole second.
func ofASecond(at int64) int64 { return (at%ofSecond + ofSecond) % ofSecond }

// The bounds of what is an odd hour: fewer sign-ons tell nothing, and fewer of them in a hundred are odd.
const (
	LeastForOdd = 20 // learned sign-ons
	OddPercent  = 2
)

// tally counts sign-ons in the window: those that surely are in it, by whether they were within
// an hour of now, and those that perhaps are, since only so much is left of them.
type tally struct {
	near, perhapsNear, apart                int // surely in the window
	maybeNear, maybePerhapsNear, maybeApart int // perhaps in it
	unbounded                               bool
}

// odd tells whether now is an odd hour, whatever is not known of what was forgotten.
func (t *tally) odd() known.Truth {
	odd := func(near, learned int) bool { return learned >= LeastForOdd && near*100 < OddPercent*learned }
	sure := t.near + t.perhapsNear + t.apart
	worst := t.maybeNear + t.maybePerhapsNear // each of which makes it less odd
	switch {
	case !t.unbounded && sure >= LeastForOdd && odd(t.near+t.perhapsNear+worst, sure+worst):
		return known.True
	case t.unbounded || odd(t.near, sure+t.maybeApart+t.maybePerhapsNear):
		return known.Unknown
	}
	return known.False
}

// bounded reports whether nothing that was forgotten could make a difference to the counts.
func (t *tally) bounded() bool {
	return !t.unbounded && t.perhapsNear+t.maybeNear+t.maybePerhapsNear+t.maybeApart == 0
}

func (c *comparison) facts(q *Query) Facts {
	f := Facts{Learned: c.hours.near + c.hours.perhapsNear + c.hours.apart, AroundNow: c.hours.near, OddHour: c.hours.odd(), Forgotten: !c.hours.bounded()}
	if q.Country != "" {
		f.NewCountry = c.country.isNew()
		f.CountrySeen = moment(c.country.at)
	}
	if q.Device != "" {
		f.NewDevice = c.device.isNew()
		f.DeviceSeen = moment(c.device.at)
	}
	f.TravelKnown = q.Place.Positioned && (c.leapt || !c.strayed)
	switch {
	case !f.TravelKnown:
		f.Strayed = q.Place.Positioned
	case c.leapt:
		f.TravelSpeed = AtOnce
	case c.lastAt != 0:
		f.TravelSince = moment(c.lastAt)
		f.TravelKM, f.TravelledFor = distance(&c.last, &c.now.where), time.Duration(c.now.at-c.lastAt)*time.Microsecond
		f.TravelSpeed = f.TravelKM / f.TravelledFor.Hours()
	}
	return f
}

// AtOnce is the speed, in km/h, of being in two places at the same instant.
const AtOnce = 100_000

func moment(micros int64) time.Time {
	if micros == 0 {
		return time.Time{}
	}
	return time.UnixMicro(micros).UTC()
}

// distance is how far apart two positions surely are, in kilometres along a great circle.
func distance(a, b *where) float64 {
	if a.lat == b.lat && a.long == b.long {
		return 0
	}
	return max(0, place.Kilometres(float64(a.lat)/1e6, float64(a.long)/1e6, float64(b.lat)/1e6, float64(b.long)/1e6)-
		float64(a.accuracy)-float64(b.accuracy))
}

package history

import (
	"hash/maphash"
	"math"
	"slices"
	"sync"
	"time"

	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/place"
)

// The bounds of what is kept of one user: the last sign-ons in full, and of those before
// them the countries and devices with when each was seen last.
const (
	mostEntries   = 512
	mostCountries = 32
	mostDevices   = 64
)

// BytesPerUser is the most memory that the history of one user takes, its id not counted.
const BytesPerUser = mostEntries*entrySize + (mostCountries+mostDevices)*seenSize

const entrySize, seenSize = 32, 16 // held to the structs by a test

// RememberedIDs is how many of the ids that were learned last are surely known again.
const RememberedIDs = shards * idsOfShard

const (
	shards     = 64
	idsOfShard = 1 << 14
)

// Past is a history held in memory. It learns as it goes, and is safe for concurrent use.
type Past struct {
	zone   *time.Location
	seed   maphash.Seed
	base   *Past // what it began with, and does not change
	shards [shards]shard
}

// shard holds some of the users, and some of the ids.
type shard struct {
	mu       sync.RWMutex
	users    map[string]*trail
	ids, old map[uint64]struct{}
}

// trail is what is kept of one user.
type trail struct {
	entries []entry // by time
	older   []seen  // countries and devices of sign-ons that are no longer among the entries
}

// entry is one sign-on that was learned.
type entry struct {
	at        int64  // microseconds since 1970
	device    uint64 // its hash; 0 is unknown
	lat, long int32  // in millionths of a degree
	accuracy  uint16 // in kilometres; noPosition where there is none
	country   uint16 // both letters; 0 is unknown
	clock     uint32 // seconds since midnight on the wall
}

const noPosition = math.MaxUint16

// seen says when a country or a device was last seen.
type seen struct {
	what uint64 // a country's two letters, or a device's hash
	at   int64
}

// NewPast returns an empty history. Times of day are those on the wall clock of the zone.
func NewPast(zone *time.Location) *Past {
	return &Past{zone: zone, seed: maphash.MakeSeed()}
}

// Branch returns a history that begins with what this one knows, which no longer changes,
// and learns on its own.
func (p *Past) Branch() *Past { return &Past{zone: p.zone, seed: p.seed, base: p} }

// Learn adds a granted sign-on. It reports false for one whose id was learned before.
func (p *Past) Learn(s SignOn) bool {
	if s.ID != "" && !p.learnID(p.hash(s.User, s.ID)) {
		return false
	}
	sh := p.shard(s.User)
	sh.mu.Lock()
	defer sh.mu.Unlock()
	t, ok := sh.users[s.User]
	if !ok {
		t = &trail{}
		if before, _ := p.base.find(s.User); before != nil {
			t.entries, t.older = slices.Clone(before.entries), slices.Clone(before.older)
		}
		if sh.users == nil {
			sh.users = map[string]*trail{}
		}
		sh.users[s.User] = t
	}
	t.add(p.entry(&s.Query))
	return true
}

func (p *Past) shard(user string) *shard { return &p.shards[maphash.String(p.seed, user)%shards] }

// find finds the trail of a user, here or in what the history began with, and the shard that guards it.
func (p *Past) find(user string) (*trail, *shard) {
	for ; p != nil; p = p.base {
		sh := p.shard(user)
		sh.mu.RLock()
		t := sh.users[user]
		sh.mu.RUnlock()
		if t != nil {
			return t, sh
		}
	}
	return nil, nil
}

// hash is that of an id of a user's.
func (p *Past) hash(user, id string) uint64 {
	var h maphash.Hash
	h.SetSeed(p.seed)
	_, _ = h.WriteString(user)
	_ = h.WriteByte(0)
	_, _ = h.WriteString(id)
	return h.Sum64()
}

// learnID reports whether the id is new.
func (p *Past) learnID(id uint64) bool {
	for q := p.base; q != nil; q = q.base {
		if q.shards[id%shards].knows(id) {
			return false
		}
	}
	sh := &p.shards[id%shards]
	sh.mu.Lock()
	defer sh.mu.Unlock()
	if sh.knows(id) {
		return false
	}
	if sh.ids == nil || len(sh.ids) == idsOfShard {
		sh.ids, sh.old = make(map[uint64]struct{}), sh.ids
	}
	sh.ids[id] = struct{}{}
	return true
}

func (sh *shard) knows(id uint64) bool {
	_, recent := sh.ids[id]
	_, old := sh.old[id]
	return recent || old
}

func (p *Past) entry(q *Query) entry {
	e := entry{at: q.At.UnixMicro(), country: letters(q.Country), clock: p.clock(q.At), accuracy: noPosition}
	if q.Device != "" {
		e.device = p.device(q.Device)
	}
	if q.Place.Positioned {
		e.lat, e.long = int32(math.Round(q.Place.Latitude*1e6)), int32(math.Round(q.Place.Longitude*1e6))
		e.accuracy = uint16(min(q.Place.AccuracyKM, noPosition-1))
	}
	return e
}

// device is the hash of a device's id, which whoever names devices cannot foresee.
func (p *Past) device(id string) uint64 { return max(1, maphash.String(p.seed, id)) }

func (p *Past) clock(t time.Time) uint32 {
	h, m, s := t.In(p.zone).Clock()
	return uint32(h*3600 + m*60 + s)
}

func letters(country string) uint16 {
	if len(country) != 2 {
		return 0
	}
	return uint16(country[0])<<8 | uint16(country[1])
}

// add puts the entry where its time belongs; the oldest goes when there are too many.
func (t *trail) add(e entry) {
	if len(t.entries) == mostEntries {
		t.forget(t.entries[0])
		t.entries = t.entries[:copy(t.entries, t.entries[1:])]
	}
	i := len(t.entries)
	for i > 0 && t.entries[i-1].at > e.at {
		i--
	}
	t.entries = slices.Insert(t.entries, i, e)
}

// forget keeps of an entry where it was from and on which device.
func (t *trail) forget(e entry) {
	if e.country != 0 {
		t.saw(seen{uint64(e.country), e.at}, mostCountries, func(s seen) bool { return s.what <= math.MaxUint16 })
	}
	if e.device > math.MaxUint16 {
		t.saw(seen{e.device, e.at}, mostDevices, func(s seen) bool { return s.what > math.MaxUint16 })
	}
}

// saw notes one of at most so many of a kind; the one not seen for longest gives way.
func (t *trail) saw(s seen, most int, kind func(seen) bool) {
	count, oldest := 0, -1
	for i := range t.older {
		o := &t.older[i]
		switch {
		case !kind(*o):
			continue
		case o.what == s.what:
			o.at = max(o.at, s.at)
			return
		case oldest < 0 || o.at < t.older[oldest].at:
			oldest = i
		}
		count++
	}
	if count == most {
		t.older[oldest] = s
		return
	}
	t.older = append(t.older, s)
}

// Before tells what the sign-ons before this one say of it.
func (p *Past) Before(q Query) Facts {
	now := p.entry(&q)
	c := comparison{now: now, from: now.at - Window.Microseconds()}
	if t, sh := p.find(q.User); t != nil {
		sh.mu.RLock()
		c.compare(t)
		sh.mu.RUnlock()
	}
	return c.facts(&q)
}

// comparison is a sign-on held against those before it.
type comparison struct {
	now             entry
	from            int64
	learned, near   int
	country, device int64 // when last seen; 0 is never
	last            *entry
	leapt           bool // another at the same instant is elsewhere
}

func (c *comparison) compare(t *trail) {
	positioned := c.now.accuracy != noPosition
	for i := len(t.entries) - 1; i >= 0; i-- {
		e := &t.entries[i]
		switch {
		case e.at > c.now.at:
			continue
		case e.at == c.now.at:
			c.leapt = c.leapt || positioned && e.accuracy != noPosition && distance(e, &c.now) > 0
			continue
		case e.at < c.from:
			return
		}
		c.learned++
		if apart := (e.clock - c.now.clock + day) % day; apart <= hour || apart >= day-hour {
			c.near++
		}
		if c.country == 0 && e.country == c.now.country {
			c.country = e.at
		}
		if c.device == 0 && e.device == c.now.device {
			c.device = e.at
		}
		if c.last == nil && e.accuracy != noPosition {
			c.last = e
		}
	}
	for _, s := range t.older {
		if s.at < c.now.at && s.at >= c.from {
			switch s.what {
			case uint64(c.now.country):
				c.country = max(c.country, s.at)
			case c.now.device:
				c.device = max(c.device, s.at)
			}
		}
	}
}

const day, hour = 24 * 3600, 3600

// The bounds of what is an odd hour: fewer sign-ons tell nothing, and fewer of them in a hundred are odd.
const (
	LeastForOdd = 20 // learned sign-ons
	OddPercent  = 2
)

func (c *comparison) facts(q *Query) Facts {
	f := Facts{Learned: c.learned, AroundNow: c.near}
	if q.Country != "" {
		f.NewCountry = known.Of(c.country == 0)
		f.CountrySeen = moment(c.country)
	}
	if q.Device != "" {
		f.NewDevice = known.Of(c.device == 0)
		f.DeviceSeen = moment(c.device)
	}
	f.OddHour = known.Of(c.learned >= LeastForOdd && c.near*100 < OddPercent*c.learned)
	if !q.Place.Positioned {
		return f
	}
	f.TravelKnown = true
	switch {
	case c.leapt:
		f.TravelSpeed = AtOnce
	case c.last != nil:
		f.TravelSince = moment(c.last.at)
		f.TravelKM, f.TravelledFor = distance(c.last, &c.now), time.Duration(c.now.at-c.last.at)*time.Microsecond
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
func distance(a, b *entry) float64 {
	return max(0, place.Kilometres(float64(a.lat)/1e6, float64(a.long)/1e6, float64(b.lat)/1e6, float64(b.long)/1e6)-
		float64(a.accuracy)-float64(b.accuracy))
}

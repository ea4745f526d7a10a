package history

// What is kept of each user's past sign-ons, and how a sign-on compares with them.

import (
	"hash/maphash"
	"math"
	"slices"
	"strings"
	"sync"
	"time"

	"briskwarden.example/briskwarden/internal/known"
	"briskwarden.example/briskwarden/internal/place"
	"briskwarden.example/briskwarden/internal/schedule"
)

// The bounds of what is kept of one user in full: the last sign-ons; when there are more than a
// few, those alone that are not much older than the last one.
const (
	mostEntries = 2048
	fewEntries  = 512
	keptFor     = Window + 30*24*time.Hour
)

// spare is the room beyond the last sign-ons: once it is used up, they move to a new list.
const spare = 64

// BytesPerUser is the most memory that the history of one user takes, its id not counted: of
// one who signs on more than seventeen times a day.
const BytesPerUser = (mostEntries+spare)*entrySize + forgottenSize

const entrySize = 32 // held to the structs by a test

// RememberedIDs is how many of the ids that were learned last are surely known again.
const RememberedIDs = shards * idsOfShard

const (
	shardBits  = 6
	shards     = 1 << shardBits
	idsOfShard = 1 << 14
)

// Past is a history held in memory. It learns as it goes, and is safe for concurrent use.
type Past struct {
	wall   *schedule.Wall
	seed   maphash.Seed
	base   *Past // what it began with, and does not change
	shards [shards]shard
}

// shard holds some of the users, and some of the ids.
type shard struct {
	mu    sync.Mutex
	users map[string]*trail
	ids   ids
}

// trail is what is kept of one user: the sign-ons by time, each property in a list of its
// own, so that going through one of them touches little memory.
type trail struct {
	first   int      // of the sign-ons that are kept in full
	begin   int      // of the window, when it was last looked for
	at      []int64  // microseconds since 1970
	clocks  []uint32 // seconds since midnight on the wall
	devices []uint64 // hashes; 0 is unknown
	wheres  []where

	forgotten *forgotten // what is left of sign-ons that are no longer in the lists; nil is that there are none
}

// entry is one sign-on that was learned.
type entry struct {
	at     int64
	clock  uint32
	device uint64
	where
}

// where is where a sign-on was from.
type where struct {
	lat, long int32  // in millionths of a degree
	accuracy  uint16 // in kilometres; noPosition where there is none
	country   uint16 // both letters; 0 is unknown
}

const noPosition = math.MaxUint16

// NewPast returns an empty history. Times of day are those on the wall clock of the zone.
func NewPast(zone *time.Location) *Past {
	return &Past{wall: schedule.NewWall(zone), seed: maphash.MakeSeed()}
}

// Branch returns a history that begins with what this one knows, which no longer changes,
// and learns on its own.
func (p *Past) Branch() *Past { return &Past{wall: p.wall, seed: p.seed, base: p} }

// Learn adds a granted sign-on. It reports false for one whose id was learned before.
func (p *Past) Learn(s *SignOn) bool {
	known := p.find(&s.Query)
	if s.ID != "" && !p.learnID(known.user*31+p.hash(s.ID)) {
		return false
	}
	sh := &p.shards[known.user%shards]
	sh.mu.Lock()
	defer sh.mu.Unlock()
	if known.trail == nil {
		known.trail = p.trail(sh, s.User, known.user)
	}
	known.trail.add(known.entry)
	return true
}

// trail finds the trail of a user, and begins it where there is none. The shard is locked.
func (p *Past) trail(sh *shard, user string, hash uint64) *trail {
	if t, ok := sh.users[user]; ok {
		return t
	}
	t := &trail{}
	p.base.with(user, hash, func(before *trail) { *t = before.clone() })
	if sh.users == nil {
		sh.users = map[string]*trail{}
	}
	sh.users[strings.Clone(user)] = t
	return t
}

// with calls f with the trail of a user, if there is one here or in what the history began
// with, while nobody changes it. It gives the trail if it is here.
func (p *Past) with(user string, hash uint64, f func(*trail)) (here *trail) {
	for past := p; past != nil; past = past.base {
		sh := &past.shards[hash%shards]
		sh.mu.Lock()
		t := sh.users[user]
		if t != nil {
			f(t)
		}
		sh.mu.Unlock()
		switch {
		case t != nil && past == p:
			return t
		case t != nil:
			return nil
		}
	}
	return nil
}

// found is what a history found out about a query, so that it need not do so again when it
// learns the same, nor about the user when it is asked about another sign-on.
type found struct {
	past  *Past
	name  string // of the user,
	user  uint64 // a hash of it,
	trail *trail // and what is kept of the user, if there is something
	asked bool   // there is an entry:
	entry entry  // the sign-on
}

// find finds out about a query what is not found yet.
func (p *Past) find(q *Query) *found {
	f := &q.found
	if f.past != p || f.name != q.User {
		*f = found{past: p, name: q.User, user: p.hash(q.User)}
	}
	if !f.asked {
		f.asked, f.entry = true, p.entry(q)
	}
	return f
}

// hash is that of a user, an id or a device, which whoever names them cannot foresee.
func (p *Past) hash(text string) uint64 { return maphash.String(p.seed, text) }

// learnID reports whether the id is new.
func (p *Past) learnID(id uint64) bool {
	for q := p.base; q != nil; q = q.base {
		if q.shards[id%shards].ids.has(id) {
			return false
		}
	}
	sh := &p.shards[id%shards]
	sh.mu.Lock()
	defer sh.mu.Unlock()
	return sh.ids.add(id)
}

func (p *Past) entry(q *Query) entry {
	e := entry{at: q.At.UnixMicro(), clock: p.clock(q.At), where: where{country: letters(q.Country), accuracy: noPosition}}
	if q.Device != "" {
		e.device = max(1, p.hash(q.Device))
	}
	if q.Place.Positioned {
		e.lat, e.long = int32(math.Round(q.Place.Latitude*1e6)), int32(math.Round(q.Place.Longitude*1e6))
		e.accuracy = uint16(min(q.Place.AccuracyKM, noPosition-1))
	}
	return e
}

func (p *Past) clock(t time.Time) uint32 {
	_, second := p.wall.Clock(t)
	return uint32(second)
}

func letters(country string) uint16 {
	if len(country) != 2 {
		return 0
	}
	return uint16(country[0])<<8 | uint16(country[1])
}

func (t *trail) clone() trail {
	i := t.first
	return trail{0, 0, slices.Clone(t.at[i:]), slices.Clone(t.clocks[i:]), slices.Clone(t.devices[i:]), slices.Clone(t.wheres[i:]), t.forgotten.clone()}
}

// add puts the entry where its time belongs. The oldest goes when there are too many, or when it
// is too old to matter.
func (t *trail) add(e entry) {
	for n := len(t.at) - t.first; n == mostEntries || n >= fewEntries && t.at[t.first] < t.at[len(t.at)-1]-keptFor.Microseconds(); n-- {
		if t.forgotten == nil {
			t.forgotten = newForgotten()
		}
		t.forgotten.take(entry{at: t.at[t.first], device: t.devices[t.first], where: t.wheres[t.first]}, n == mostEntries)
		t.first++
	}
	if len(t.at) == cap(t.at) {
		t.makeRoom()
	}
	i := len(t.at)
	t.at, t.clocks = append(t.at, e.at), append(t.clocks, e.clock)
	t.devices, t.wheres = append(t.devices, e.device), append(t.wheres, e.where)
	for ; i > t.first && t.at[i-1] > e.at; i-- {
		t.swap(i, i-1)
	}
}

func (t *trail) swap(i, j int) {
	t.at[i], t.at[j] = t.at[j], t.at[i]
	t.clocks[i], t.clocks[j] = t.clocks[j], t.clocks[i]
	t.devices[i], t.devices[j] = t.devices[j], t.devices[i]
	t.wheres[i], t.wheres[j] = t.wheres[j], t.wheres[i]
}

// makeRoom moves the entries that are kept to the beginning of their lists, or to longer lists.
func (t *trail) makeRoom() {
	room := min(max(8, 2*cap(t.at)), mostEntries+spare)
	t.at, t.clocks = moved(t.at, t.first, room), moved(t.clocks, t.first, room)
	t.devices, t.wheres = moved(t.devices, t.first, room), moved(t.wheres, t.first, room)
	t.first = 0
}

// window is where the sign-ons before the end begin that are not before an instant. Time mostly
// goes on, so that it is looked for where it was.
func (t *trail) window(end int, from int64) int {
	i := min(max(t.begin, t.first), end)
	for i < end && t.at[i] < from {
		i++
	}
	for i > t.first && t.at[i-1] >= from {
		i--
	}
	t.begin = i
	return i
}

func moved[T any](list []T, first, room int) []T {
	if room > cap(list) {
		return append(make([]T, 0, room), list[first:]...)
	}
	return list[:copy(list[:cap(list)], list[first:])]
}

// Before tells what the sign-ons before this one say of it.
func (p *Past) Before(q *Query) Facts {
	q.found.asked = false
	f := p.find(q)
	c := comparison{now: f.entry, from: f.entry.at - Window.Microseconds(), counts: q.Counts, wall: p.wall}
	if f.trail != nil {
		sh := &p.shards[f.user%shards]
		sh.mu.Lock()
		c.compare(f.trail)
		sh.mu.Unlock()
	} else {
		f.trail = p.with(q.User, f.user, c.compare)
	}
	return c.facts(q)
}

// comparison is a sign-on held against those before it.
type comparison struct {
	now             entry
	from            int64
	counts          bool // all sign-ons around now are counted
	wall            *schedule.Wall
	hours           tally
	country, device sighting
	last            where // with lastAt, the last position; 0 is never
	lastAt          int64
	leapt           bool // another at the same instant is elsewhere
	strayed         bool // where the user was last is no longer known
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

func (c *comparison) compare(t *trail) {
	positioned := c.now.accuracy != noPosition
	end := len(t.at)
	for end > t.first && t.at[end-1] >= c.now.at {
		end--
		w := &t.wheres[end]
		c.leapt = c.leapt || t.at[end] == c.now.at && positioned && w.accuracy != noPosition && distance(w, &c.now.where) > 0
	}
	start := t.window(end, c.from)
	learned := end - start
	enough := learned
	if !c.counts && t.forgotten == nil {
		enough = (OddPercent*learned + 99) / 100
	}
	near := near(t.clocks[start:end], t.at[start:end], c.now, enough)
	c.hours.near, c.hours.apart = near, learned-near
	for i := end - 1; i >= start && c.country.at == 0; i-- {
		if t.wheres[i].country == c.now.country {
			c.country.at = t.at[i]
		}
	}
	for i := end - 1; i >= start && c.device.at == 0; i-- {
		if t.devices[i] == c.now.device {
			c.device.at = t.at[i]
		}
	}
	for i := end - 1; i >= start && c.lastAt == 0 && positioned; i-- {
		if t.wheres[i].accuracy != noPosition {
			c.last, c.lastAt = t.wheres[i], t.at[i]
		}
	}
	if t.forgotten != nil {
		t.forgotten.tell(c)
	}
}

const (
	ofSecond  = 1_000_000 // microseconds
	day, hour = 24 * 3600, 3600
)

// near is how many times of day, as far as it matters, lie within an hour of one, midnight or
// not: once there are enough of them it looks no further.
func near(clocks []uint32, at []int64, now entry, enough int) (n int) {
	for i := len(clocks) - 1; i >= 0 && n < enough; i-- {
		apart := int32(clocks[i]) - int32(now.clock)
		switch {
		case apart > -hour && apart < hour, apart > day-hour, apart < hour-day:
			n++
		case apart == hour, apart == hour-day: // to the second: parts of one tell
			if ofASecond(at[i]) <= ofASecond(now.at) {
				n++
			}
		case apart == -hour, apart == day-hour:
			if ofASecond(at[i]) >= ofASecond(now.at) {
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

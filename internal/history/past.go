package history

// Who is learned of, and who asks.

import (
	"hash/maphash"
	"math"
	"strings"
	"sync"
	"time"

	"briskwarden.example/briskwarden/internal/schedule"
)

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
	users map[string]*userHistory
	ids   ids
}

// NewPast returns an empty history. Times of day are those on the wall clock of the zone.
func NewPast(zone *time.Location) *Past {
	return &Past{wall: schedule.NewWall(zone), seed: maphash.MakeSeed()}
}

// Branch returns a history that begins with what this one knows, which no longer changes,
// and learns on its own.
func (p *Past) Branch() *Past { return &Past{wall: p.wall, seed: p.seed, base: p} }

// Learn adds a granted sign-on. It reports false for one whose id was learned before.
func (p *Past) Learn(s *SignOn) bool {
	user := p.hash(s.User)
	if s.ID != "" && !p.learnID(user*31+p.hash(s.ID)) {
		return false
	}
	e := p.entry(&s.Query)
	sh := &p.shards[user%shards]
	sh.mu.Lock()
	defer sh.mu.Unlock()
	p.userHistory(sh, s.User, user).add(e)
	return true
}

// Before tells what the sign-ons of the user before this one say of it.
func (p *Past) Before(q *Query) Facts {
	c := p.comparison(q)
	p.with(q.User, p.hash(q.User), c.compare)
	return c.facts(q)
}

// userHistory finds that of a user, and begins it where there is none. The shard is locked.
func (p *Past) userHistory(sh *shard, user string, hash uint64) *userHistory {
	if t, ok := sh.users[user]; ok {
		return t
	}
	t := &userHistory{}
	p.base.with(user, hash, func(before *userHistory) { *t = before.clone() })
	if sh.users == nil {
		sh.users = map[string]*userHistory{}
	}
	sh.users[strings.Clone(user)] = t
	return t
}

// with calls f with what is kept of a user, if there is one here or in what the history began
// with, while nobody changes it.
func (p *Past) with(user string, hash uint64, f func(*userHistory)) {
	for past := p; past != nil; past = past.base {
		sh := &past.shards[hash%shards]
		sh.mu.Lock()
		t := sh.users[user]
		if t != nil {
			f(t)
		}
		sh.mu.Unlock()
		if t != nil {
			return
		}
	}
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

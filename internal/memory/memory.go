// Package memory has what a decision service remembers of people: what they proved, their sessions, what was
// before, and what of it was ended.
//
// A decision rests on items that are read, at one time after it began, for it alone; what is kept of an item from
// earlier is used only if the store says that it has not changed. So whatever the store acknowledged before, on any
// node, counts. What a decision adds is merged into its items, whatever others merge meanwhile. That a session began
// and what a grant teaches is on disk before the answer; proofs and the time of the last grant follow soon, since
// losing them can only tighten.
package memory

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"reflect"
	"sync"
	"time"

	"github.com/go-json-experiment/json"
	lru "github.com/hashicorp/golang-lru/v2"

	"briskwarden.example/briskwarden/internal/allowance"
	"briskwarden.example/briskwarden/internal/history"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/service/state"
)

// Memory remembers in a store. It is safe for concurrent use.
type Memory struct {
	store  state.Store
	entry  sync.Mutex // held by whoever adds to the journal: only other nodes are ahead of anybody
	now    func() time.Time
	writer *writer
	fresh  fresh
	// blocked is for whom it is still kept that a session began which was blocked at once: each may have an id of its own.
	blocked *allowance.Each

	items   decoded // as they were read last
	pasts   *lru.Cache[string, individual]
	persons *lru.Cache[string, person]
}

// cached is an item as it was read.
type cached struct {
	version int64
	value   any
}

// decoded are items that were read. When there are too many, all are let go, and read anew when they are asked for.
type decoded struct {
	mu    sync.RWMutex
	items map[state.Key]cached
}

// find gives those of some keys that are at hand, and notes their versions in the keys.
func (d *decoded) find(keys []state.Key, into []cached) {
	d.mu.RLock()
	defer d.mu.RUnlock()
	for i := range keys {
		if c, ok := d.items[keys[i]]; ok {
			into[i], keys[i].Known = c, c.version
		}
	}
}

func (d *decoded) get(key state.Key) (cached, bool) {
	d.mu.RLock()
	defer d.mu.RUnlock()
	c, ok := d.items[key]
	return c, ok
}

func (d *decoded) add(key state.Key, c cached) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.items == nil || len(d.items) >= mostItems {
		d.items = map[state.Key]cached{}
	}
	d.items[key] = c
}

// individual is a user's history, as it was made last.
type individual struct {
	rb      *rulebook.Rulebook
	version int64
	*history.Individual
}

// person is a user, as it was made last.
type person struct {
	rb               *rulebook.Rulebook
	version, nesting int64
	*rulebook.Person
}

// How much is kept at hand.
const (
	mostItems   = 200_000
	mostPasts   = 5_000
	mostPersons = 50_000
)

// The bounds of sessions that were blocked at once, of which it is kept when they began.
const (
	blockedAtOnce = 64
	blockedEach   = 10 * time.Second
)

// Late is how long what nobody waits for may wait to be written.
const Late = 100 * time.Millisecond

// New returns a memory in a store. Log is told of what could not be kept, where that only tightens; now is the clock
// of this process.
func New(store state.Store, log *slog.Logger, now func() time.Time) *Memory {
	m := &Memory{store: store, now: now, blocked: allowance.NewEach(blockedAtOnce, blockedEach)}
	m.pasts, _ = lru.New[string, individual](mostPasts) // fails for sizes that are none
	m.persons, _ = lru.New[string, person](mostPersons)
	m.writer = newWriter(store, Late, func(err error) {
		log.Error("proofs were not remembered: whoever gave them is asked again", slog.Any("error", err))
	})
	return m
}

// Waiting is how many changes wait to be written.
func (m *Memory) Waiting() int { return m.writer.waiting() }

// Close writes what waits. The store stays open.
func (m *Memory) Close() { m.writer.close() }

// MostSkew is how far the clock of this process may be from the store's: farther, and nothing is granted.
const MostSkew = 2 * time.Second

// ErrClock says that the clock of this process is not that of the store.
var ErrClock = errors.New("the clock of this machine is more than 2 s from that of the state")

// read reads items, with what is at hand of them.
func (m *Memory) read(ctx context.Context, keys []state.Key) (r reading, err error) {
	r.keys, r.before = keys, make([]cached, len(keys))
	m.items.find(keys, r.before)
	begin := m.now()
	if r.Reading, err = m.store.Read(ctx, keys); err != nil {
		return r, err
	}
	if end := m.now(); r.At.Before(begin.Add(-MostSkew)) || r.At.After(end.Add(MostSkew)) {
		return r, fmt.Errorf("%w: here it is %s, there %s", ErrClock, end.UTC().Format(time.RFC3339Nano), r.At.UTC().Format(time.RFC3339Nano))
	}
	return r, nil
}

// Clock reads the clock of the store; the error says that the store cannot be asked, or that the clock of this
// process differs.
func (m *Memory) Clock(ctx context.Context) (time.Time, error) {
	r, err := m.read(ctx, []state.Key{{Kind: state.Service}})
	return r.At, err
}

// reading is what was read, item by item.
type reading struct {
	state.Reading
	keys   []state.Key
	before []cached
}

// nothing has an empty value of each type of item, which nobody changes.
var nothing sync.Map

func none[T any]() *T {
	key := reflect.TypeFor[T]()
	if empty, ok := nothing.Load(key); ok {
		return empty.(*T)
	}
	empty, _ := nothing.LoadOrStore(key, new(T))
	return empty.(*T)
}

// item gives an item of a reading, decoded; nobody changes it. One that there is not is empty.
func item[T any](m *Memory, r *reading, i int) (*T, int64, error) {
	got, key := r.Items[i], r.keys[i]
	switch {
	case got.Version == 0:
		return none[T](), 0, nil
	case got.Value == nil && got.Version == r.before[i].version:
		return r.before[i].value.(*T), got.Version, nil
	}
	key.Known = 0
	if c, ok := m.items.get(key); ok && c.version == got.Version { // somebody else has decoded it meanwhile
		return c.value.(*T), got.Version, nil
	}
	v := new(T)
	if err := json.Unmarshal(got.Value, v); err != nil {
		return nil, 0, damaged(key, err)
	}
	m.items.add(key, cached{got.Version, v})
	return v, got.Version, nil
}

// fresh are proofs on their way to the store: here they count already.
type fresh struct {
	mu  sync.RWMutex
	ofs map[state.Key]*underway
}

// underway are the proofs of one item.
type underway struct {
	proofs
	changes int // that are not written yet
}

func (f *fresh) of(key state.Key) []proof {
	f.mu.RLock()
	defer f.mu.RUnlock()
	if u := f.ofs[key]; u != nil {
		return u.List
	}
	return nil
}

// add notes proofs until they are written.
func (f *fresh) add(key state.Key, list []proof) (written func()) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.ofs == nil {
		f.ofs = map[state.Key]*underway{}
	}
	u := f.ofs[key]
	if u == nil {
		u = &underway{}
		f.ofs[key] = u
	}
	u.add(list) // whoever reads the old list keeps it
	u.changes++
	return func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		if u.changes--; u.changes == 0 {
			delete(f.ofs, key)
		}
	}
}

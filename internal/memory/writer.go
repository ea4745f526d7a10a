package memory

// Changes on their way to the store: what many ask for at once is written together.

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/go-json-experiment/json"

	"briskwarden.example/briskwarden/service/state"
)

// update changes one item, whatever others change meanwhile.
type update struct {
	key     state.Key
	expires time.Time
	begin   func() any // an empty item
	apply   func(item any)
	done    func() // once it is written, or was not to be; may be nil
}

// change is an update of an item of a type; a new one begins empty.
func change[T any](key state.Key, expires time.Time, apply func(*T)) update {
	return update{key, expires, func() any { return new(T) }, func(item any) { apply(item.(*T)) }, nil}
}

func damaged(key state.Key, err error) error {
	return fmt.Errorf("what is kept of %q (kind %d) cannot be read: %w", key.Owner, key.Kind, err)
}

// job is a number of updates, and who waits for them.
type job struct {
	updates []update
	done    chan error
}

// writer writes updates: those that are waited for as soon as it can, the others with them, or soon.
type writer struct {
	store  state.Store
	late   time.Duration // how long those that nobody waits for may wait
	failed func(error)   // told of those that nobody waited for

	mu      sync.Mutex
	queue   []job
	pending []update // that nobody waits for
	since   time.Time
	wake    chan struct{}
	stopped chan struct{}
	stop    context.CancelFunc
	ctx     context.Context
}

func newWriter(store state.Store, late time.Duration, failed func(error)) *writer {
	ctx, stop := context.WithCancel(context.Background())
	w := &writer{store: store, late: late, failed: failed, wake: make(chan struct{}, 1), stopped: make(chan struct{}), ctx: ctx, stop: stop}
	go w.run()
	return w
}

// mostPending is how many updates that nobody waits for may wait; more are left out, which can only tighten.
const mostPending = 100_000

var errStopping = errors.New("the service is being stopped")

// write makes updates, and returns once they are kept.
func (w *writer) write(ctx context.Context, updates []update) error {
	j := job{updates, make(chan error, 1)}
	w.mu.Lock()
	if w.ctx.Err() != nil {
		w.mu.Unlock()
		return errStopping
	}
	w.queue = append(w.queue, j)
	w.mu.Unlock()
	w.rouse()
	select {
	case err := <-j.done:
		return err
	case <-ctx.Done():
		return ctx.Err()
	}
}

// soon makes updates some time later; those that find no room are left out, and it reports false.
func (w *writer) soon(updates []update) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.ctx.Err() != nil || len(w.pending)+len(updates) > mostPending {
		return false
	}
	if len(w.pending) == 0 {
		w.since = time.Now()
	}
	w.pending = append(w.pending, updates...)
	return true
}

// waiting is how many updates wait.
func (w *writer) waiting() int {
	w.mu.Lock()
	defer w.mu.Unlock()
	return len(w.queue) + len(w.pending)
}

func (w *writer) rouse() {
	select {
	case w.wake <- struct{}{}:
	default:
	}
}

// run writes what waits, until the writer is closed and nothing does.
func (w *writer) run() {
	defer close(w.stopped)
	tick := time.NewTicker(w.late / 2)
	defer tick.Stop()
	for {
		select {
		case <-w.wake:
		case <-tick.C:
		case <-w.ctx.Done():
			w.flush(true)
			return
		}
		w.flush(false)
	}
}

// flush writes what is waited for, and the rest once it has waited long enough, or all.
func (w *writer) flush(all bool) {
	w.mu.Lock()
	jobs, pending := w.queue, w.pending
	w.queue = nil
	if all || len(pending) > 0 && time.Since(w.since) >= w.late/2 {
		w.pending = nil
	} else {
		pending = nil
	}
	w.mu.Unlock()
	if len(jobs) > 0 {
		w.together(jobs)
	}
	if len(pending) > 0 {
		late := job{pending, make(chan error, 1)}
		w.together([]job{late})
		if err := <-late.done; err != nil {
			w.failed(err)
		}
	}
}

// patience is how long the store may take.
const patience = 10 * time.Second

// together makes the updates of several jobs. All those of one item are one change.
func (w *writer) together(jobs []job) {
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	items := map[state.Key]*pendingItem{}
	var open []*pendingItem
	for i := range jobs {
		for _, u := range jobs[i].updates {
			item := items[u.key]
			if item == nil {
				item = &pendingItem{key: u.key}
				items[u.key] = item
				open = append(open, item)
			}
			item.updates = append(item.updates, u)
		}
	}
	for tries := 0; len(open) > 0; tries++ {
		open = w.try(ctx, open, tries == mostTries)
	}
	for i := range jobs {
		var failed error
		for _, u := range jobs[i].updates {
			failed = errors.Join(failed, items[u.key].err)
			if u.done != nil {
				u.done()
			}
		}
		jobs[i].done <- failed
	}
}

// mostTries is how often a change is tried again because another was first.
const mostTries = 20

// pendingItem is an item with all that is to change in it.
type pendingItem struct {
	key     state.Key
	updates []update
	err     error
}

// try reads items, changes them, and gives those that somebody else changed meanwhile.
func (w *writer) try(ctx context.Context, items []*pendingItem, last bool) (again []*pendingItem) {
	keys := make([]state.Key, len(items))
	for i, item := range items {
		keys[i] = item.key
	}
	r, err := w.store.Read(ctx, keys)
	if err != nil {
		for _, item := range items {
			item.err = err
		}
		return nil
	}
	var sets [][]state.Change
	var changed []*pendingItem
	for i, item := range items {
		c, err := item.change(r.Items[i])
		if item.err = err; err == nil {
			sets, changed = append(sets, []state.Change{*c}), append(changed, item)
		}
	}
	for i, err := range w.each(ctx, sets) {
		if changed[i].err = err; errors.Is(err, state.ErrConflict) && !last {
			again = append(again, changed[i])
		}
	}
	return again
}

// each makes sets of changes together. Where the store fails, each half of those that failed is made by itself, and so on: it may be
// one alone that the store cannot keep.
func (w *writer) each(ctx context.Context, sets [][]state.Change) []error {
	errs := w.store.Write(ctx, sets...)
	var failed []int
	for i, err := range errs {
		if err != nil && !errors.Is(err, state.ErrConflict) {
			failed = append(failed, i)
		}
	}
	if len(failed) == 0 || len(sets) == 1 || ctx.Err() != nil {
		return errs
	}
	for _, part := range [][]int{failed[:len(failed)/2], failed[len(failed)/2:]} {
		some := make([][]state.Change, len(part))
		for n, i := range part {
			some[n] = sets[i]
		}
		if len(some) == 0 {
			continue
		}
		for n, err := range w.each(ctx, some) {
			errs[part[n]] = err
		}
	}
	return errs
}

// change applies all updates to an item.
func (p *pendingItem) change(item state.Item) (*state.Change, error) {
	v := p.updates[0].begin()
	if item.Value != nil {
		if err := json.Unmarshal(item.Value, v); err != nil {
			return nil, damaged(p.key, err)
		}
	}
	var expires time.Time
	for _, u := range p.updates {
		u.apply(v)
		expires = later(expires, u.expires)
	}
	value, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	return &state.Change{Key: p.key, If: item.Version, Value: value, Expires: expires}, nil
}

// close writes what waits, and ends.
func (w *writer) close() {
	w.mu.Lock()
	w.stop()
	w.mu.Unlock()
	<-w.stopped
}

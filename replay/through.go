package replay

import (
	"cmp"
	"context"
	"errors"
	"hash/maphash"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"briskwarden.example/briskwarden/internal/fastlog"
)

// Late is how many lines later than where its time belongs a line may stand, and still be
// decided in its place.
const Late = 10_000

// through takes the lines of logs in their turn to workers: those of one user one after the
// other. Logs are read in the order of their first sign-ons, and lines taken in the order of
// their times, so that the result is the same whatever the number of workers.
type through struct {
	options Options
	in      *reading
	workers []taker
	readers []fastlog.Reader // one for each worker
	waiting []queued         // decoded, in the order of their times
	ready   []*turn          // those whose turn it is, user by user
	bad     []BadLine
	badAll  int
	read    map[string]bool // whether some line could be read, of each log that has any
	taken   int
	seed    maphash.Seed
}

// taker takes sign-ons whose turn it is, one after the other.
type taker interface {
	take(lane []*turn) error
}

// takeThrough takes logs through workers of a kind, and gives the workers back.
func takeThrough[W taker](ctx context.Context, logs []Log, options Options, newWorker func() W) (workers []W, all *through, err error) {
	if options.Workers == 0 {
		options.Workers = runtime.GOMAXPROCS(0)
	}
	all = &through{options: options, seed: maphash.MakeSeed(), readers: make([]fastlog.Reader, options.Workers), read: map[string]bool{}}
	for range options.Workers {
		w := newWorker()
		workers, all.workers = append(workers, w), append(all.workers, w)
	}
	return workers, all, all.run(ctx, logs)
}

// run takes all lines of the logs.
func (r *through) run(ctx context.Context, logs []Log) error {
	r.in = &reading{logs: ordered(logs), size: cmp.Or(r.options.BlockSize, blockSize)}
	type batch struct {
		blocks []*block
		err    error
	}
	ahead, stop := make(chan batch, 1), make(chan struct{})
	defer close(stop)
	go func() {
		for {
			blocks, err := r.in.batch(blocksEach * len(r.workers))
			if err == nil {
				r.decode(blocks)
			}
			select {
			case ahead <- batch{blocks, err}:
			case <-stop:
				return
			}
			if err != nil || len(blocks) == 0 {
				return
			}
		}
	}()
	for {
		b := <-ahead
		if err := cmp.Or(b.err, ctx.Err()); err != nil {
			return err
		}
		r.wait(b.blocks)
		if err := r.take(len(b.blocks) == 0); err != nil || len(b.blocks) == 0 {
			return err
		}
	}
}

// turn is a line whose turn it is, or will be.
type turn struct {
	Line
	decision []byte // as JSON, where it is asked for
}

// queued is a turn with what the queue must know of it, so that it need not look at the turn,
// whose memory another processor has.
type queued struct {
	*turn
	user uint64 // a hash of it
	of   *block
}

func byTime(a, b queued) int { return a.Time.Compare(b.Time) }

// decode decodes blocks, each by whichever worker is free.
func (r *through) decode(blocks []*block) {
	var next atomic.Int64
	r.each(func(w int, _ taker) {
		for i := next.Add(1) - 1; int(i) < len(blocks); i = next.Add(1) - 1 {
			blocks[i].decode(&r.readers[w], r.seed)
			r.in.forget(blocks[i])
		}
	})
}

// wait lines up the decoded lines of blocks by their times.
func (r *through) wait(blocks []*block) {
	sorted := true
	for _, b := range blocks {
		n := len(r.waiting)
		r.waiting = append(r.waiting, b.queue...)
		sorted = sorted && b.sorted && slices.IsSortedFunc(r.waiting[max(0, n-1):min(n+1, len(r.waiting))], byTime)
		if len(b.queue)+len(b.bad) > 0 {
			r.read[b.file] = r.read[b.file] || len(b.queue) > 0
		}
		r.badAll += len(b.bad)
		r.bad = append(r.bad, b.bad[:min(len(b.bad), max(0, MostBad-len(r.bad)))]...)
	}
	if !sorted {
		slices.SortStableFunc(r.waiting, byTime)
	}
}

// unread are the logs that have lines, none of which could be read.
func (r *through) unread() (names []string) {
	for name, some := range r.read {
		if !some {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// each lets all workers work, and waits for them.
func (r *through) each(f func(i int, w taker)) {
	var wg sync.WaitGroup
	for i, w := range r.workers {
		wg.Go(func() { f(i, w) })
	}
	wg.Wait()
}

// lanes is how many parts of what is ready there are for each worker: enough that the last one to
// be free has little left to do.
const lanes = 16

// share shares out what is ready: each worker takes its own lanes, and then those that are left of the others.
func (r *through) share(ready []queued) error {
	all := lanes * len(r.workers)
	ends := r.lineUp(ready, all)
	begun, errs := make([]atomic.Bool, all), make([]error, all)
	r.each(func(w int, worker taker) {
		for i := range all {
			lane := (w*lanes + i) % all
			if !begun[lane].Swap(true) {
				errs[lane] = worker.take(r.ready[ends[lane]:ends[lane+1]])
			}
		}
	})
	return errors.Join(errs...)
}

// lineUp puts what is ready in lanes, each with all that some users have, one user mostly after
// the other, so that what is known of a user is at hand. It gives where each lane begins and ends.
func (r *through) lineUp(ready []queued, lanes int) (ends []int) {
	const users = 64 // of a lane, should all be of use
	n := uint64(users * lanes)
	next := make([]int, n+1)
	for i := range ready {
		next[ready[i].user%n+1]++
	}
	for i := range n {
		next[i+1] += next[i]
	}
	for lane := range lanes + 1 {
		ends = append(ends, next[lane*users])
	}
	r.ready = slices.Grow(r.ready[:0], len(ready))[:len(ready)]
	for i := range ready {
		at := &next[ready[i].user%n]
		r.ready[*at] = ready[i].turn
		*at++
	}
	return ends
}

// take takes what no later line can come before; at the end, all that is left.
func (r *through) take(last bool) error {
	ready := r.waiting[:max(0, len(r.waiting)-cmp.Or(r.options.Window, Late))]
	if last {
		ready = r.waiting
	}
	if err := r.share(ready); err != nil {
		return err
	}
	if r.options.Decisions != nil {
		for _, q := range ready {
			if q.decision == nil {
				continue
			}
			if _, err := r.options.Decisions.Write(append(q.decision, '\n')); err != nil {
				return err
			}
		}
	}
	for _, q := range ready {
		if q.of.over++; q.of.over == len(q.of.turns) {
			r.in.again(q.of)
		}
	}
	r.taken += len(ready)
	if r.options.Progress != nil {
		r.options.Progress(r.taken)
	}
	r.waiting = r.waiting[:copy(r.waiting, r.waiting[len(ready):])]
	return nil
}

// lookout is what was seen of turns: kept, or the compiler would leave looking out.
type lookout int

// see reads something of turns before they are taken, and then of what they point to: all at
// once, so that the processor fetches their memory side by side.
func (l *lookout) see(turns []*turn) {
	n := 0
	for _, t := range turns {
		n += t.Number + len(t.App) + len(t.Country) + len(t.Session.ID) + len(t.Evidence) + len(t.decision)
	}
	for _, t := range turns {
		if t.Device != nil {
			n += len(t.Device.ID) + len(t.Device.Attributes)
		}
		if len(t.Presented) > 0 {
			n += len(t.Presented[0])
		}
		for i := range t.Evidence {
			n += len(t.Evidence[i].Method) + len(t.Evidence[i].App)
		}
		if t.ID != "" {
			n += int(t.ID[0])
		}
	}
	*l += lookout(n)
}

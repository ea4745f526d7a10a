package replay

import (
	"hash/maphash"
	"io"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/go-json-experiment/json"

	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/history"
	"briskwarden.example/briskwarden/signon"
)

// Options say how logs are replayed, and which of their sign-ons count.
type Options struct {
	From, To  time.Time // from the first on, and before the second; zero is no bound
	User      string    // of this user alone; empty is any
	Group     int32     // of people in this group alone; -1 is any
	App       string    // to this app alone; empty is any
	Outcome   string    // with this outcome, as it is decided now; empty is any
	AsDecided bool      // the history learns what the rulebook grants, not what the log says was granted
	Workers   int       // how many work at a time; 0 is one for each processor
	Decisions io.Writer // takes the decisions on what counts, as JSON Lines; nil for none
	Progress  func(signOns int)
}

// Late is how many lines later than where its time belongs a line may stand, and still be
// decided in its place.
const Late = 10_000

// Run decides every sign-on of the logs anew by the engine, whose history past is. Logs are read
// in the order of their first sign-ons, and decided in the order of their times. The result is
// the same whatever the number of workers.
func Run(e *engine.Engine, past *history.Past, logs []Log, options Options) (*Summary, error) {
	if options.Workers == 0 {
		options.Workers = runtime.GOMAXPROCS(0)
	}
	r := &run{engine: e, past: past, options: options, seed: maphash.MakeSeed()}
	for range options.Workers {
		r.workers = append(r.workers, newWorker(r))
	}
	in := &reading{logs: ordered(logs)}
	type batch struct {
		blocks []*block
		err    error
	}
	ahead, stop := make(chan batch, 1), make(chan struct{})
	defer close(stop)
	go func() {
		for {
			blocks, err := in.batch()
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
		if b.err != nil {
			return nil, b.err
		}
		r.decode(b.blocks)
		if err := r.decide(len(b.blocks) == 0); err != nil {
			return nil, err
		}
		if len(b.blocks) == 0 {
			return r.summary(), nil
		}
	}
}

// run is one replay at work.
type run struct {
	engine  *engine.Engine
	past    *history.Past
	options Options
	workers []*worker
	waiting []*turn // decoded, in the order of their times
	bad     []BadLine
	badAll  int
	signOns int
	seed    maphash.Seed
}

// turn is a line whose turn it is, or will be.
type turn struct {
	Line
	user     uint64 // a hash of it
	decision []byte // as JSON, where it is asked for
	err      error
}

// decode decodes blocks, each by whichever worker is free.
func (r *run) decode(blocks []*block) {
	var next atomic.Int64
	r.each(func(int, *worker) {
		for i := next.Add(1) - 1; int(i) < len(blocks); i = next.Add(1) - 1 {
			blocks[i].decode(r.seed)
		}
	})
	for _, b := range blocks {
		for i := range b.turns {
			r.waiting = append(r.waiting, &b.turns[i])
		}
		r.badAll += len(b.bad)
		r.bad = append(r.bad, b.bad[:min(len(b.bad), max(0, MostBad-len(r.bad)))]...)
	}
	byTime := func(a, b *turn) int { return a.Time.Compare(b.Time) }
	if !slices.IsSortedFunc(r.waiting, byTime) {
		slices.SortStableFunc(r.waiting, byTime)
	}
}

// each lets all workers work, and waits for them.
func (r *run) each(f func(i int, w *worker)) {
	var wg sync.WaitGroup
	for i, w := range r.workers {
		wg.Go(func() { f(i, w) })
	}
	wg.Wait()
}

// decide decides what no later line can come before; at the end, all that is left. The
// sign-ons of one user are decided by one worker, in their order.
func (r *run) decide(last bool) error {
	ready := r.waiting[:max(0, len(r.waiting)-Late)]
	if last {
		ready = r.waiting
	}
	r.each(func(i int, w *worker) {
		for _, t := range ready {
			if int(t.user%uint64(len(r.workers))) == i {
				t.err = w.take(t)
			}
		}
	})
	for _, t := range ready {
		if t.err != nil {
			return t.err
		}
		if t.decision != nil {
			if _, err := r.options.Decisions.Write(append(t.decision, '\n')); err != nil {
				return err
			}
		}
	}
	r.signOns += len(ready)
	if r.options.Progress != nil {
		r.options.Progress(r.signOns)
	}
	r.waiting = append([]*turn(nil), r.waiting[len(ready):]...)
	return nil
}

// worker decides on the sign-ons of some of the users.
type worker struct {
	run      *run
	tally    *Summary
	line     *turn
	counts   bool
	before   history.Query
	decision signon.Decision
	see      func(*engine.Course)
}

func newWorker(r *run) *worker {
	w := &worker{run: r, tally: newSummary(r.engine.Rulebook())}
	w.see = w.course
	return w
}

// take decides on one sign-on, counts it, and lets the history learn.
func (w *worker) take(t *turn) error {
	w.line = t
	so := &t.SignOn
	w.counts = false
	if err := w.run.engine.Follow(so, &w.decision, w.see); err != nil {
		w.tally.Refused++
		return nil
	}
	if w.counts && w.run.options.Decisions != nil {
		if err := w.explain(t); err != nil {
			return err
		}
	}
	if w.teaches(t) {
		w.run.past.Learn(history.SignOn{Query: w.before, ID: so.ID})
	}
	return nil
}

func (w *worker) teaches(t *turn) bool {
	if w.run.options.AsDecided {
		return w.decision.Outcome == signon.Grant
	}
	return t.Teaches()
}

// explain writes the whole decision, as the command that decides does.
func (w *worker) explain(t *turn) (err error) {
	var d signon.Decision
	if err := w.run.engine.Decide(&t.SignOn, &d, true); err != nil {
		return err
	}
	t.decision, err = json.Marshal(d)
	return err
}

// course counts the decision if it is among those asked for.
func (w *worker) course(c *engine.Course) {
	o, so := &w.run.options, &w.line.SignOn
	w.before = c.Before()
	person := c.Person()
	switch {
	case !o.From.IsZero() && so.Time.Before(o.From), !o.To.IsZero() && !so.Time.Before(o.To),
		o.User != "" && so.User != o.User,
		o.App != "" && so.App != o.App,
		o.Group >= 0 && (person == nil || !person.In(o.Group)),
		o.Outcome != "" && w.decision.Outcome.String() != o.Outcome:
		return
	}
	w.counts = true
	w.tally.count(&w.line.Line, c, w.decision.Outcome)
}

// summary adds up what the workers counted.
func (r *run) summary() *Summary {
	s := r.workers[0].tally
	for _, w := range r.workers[1:] {
		s.add(w.tally)
	}
	s.Bad, s.BadLines = r.bad, r.badAll
	return s
}

package replay

// Deciding logs anew.

import (
	"context"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/go-json-experiment/json"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/engine"
	"briskwarden.example/briskwarden/internal/history"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// Options say how logs are replayed, and which of their sign-ons count.
type Options struct {
	From, To  time.Time         // from the first on, and before the second; zero is no bound
	User      string            // of this user alone; empty is any
	Group     string            // of people in this group alone; empty is any
	App       string            // to this app alone; empty is any
	Outcome   string            // with this outcome, as it is decided now; empty is any
	Part      Part              // take the people of one part alone, as if there were no others
	AsDecided bool              // the history learns what the rulebook grants, not what the log says was granted
	Workers   int               // how many work at a time; 0 is one for each processor
	Window    int               // how many lines later than where its time belongs a line may stand; 0 is Late
	BlockSize int               // of the blocks in which logs are read, in bytes; 0 is 256 KiB
	Decisions io.Writer         // takes the decisions on what counts, as JSON Lines; nil for none
	Progress  func(signOns int) // is told now and then how many sign-ons were taken; nil for none

	group int32 // that of Group; -1 is any
}

// bind checks the options, and binds them to a rulebook.
func (o *Options) bind(rb *rulebook.Rulebook) error {
	if o.group = -1; o.Group != "" {
		id, known := rb.Groups.Lookup(o.Group)
		if !known {
			return fmt.Errorf("there is no group %q", o.Group)
		}
		o.group = id
	}
	if _, known := rb.Apps[o.App]; o.App != "" && !known {
		return fmt.Errorf("there is no app %q", o.App)
	}
	if _, err := signon.ParseOutcome(o.Outcome); o.Outcome != "" && err != nil {
		return err
	}
	return nil
}

// Run decides every sign-on of the logs anew. The history begins with what the rulebook's own
// files say, and learns as it goes. The order in which logs are given does not matter. The error
// says which option cannot be, or which log cannot be read on. When Run returns, nothing reads the logs any more: a
// reader that blocks holds it up, even once the context is done.
func Run(ctx context.Context, rules *briskwarden.Rulebook, logs []Log, options Options) (*Summary, error) {
	e, past := bridge.Engine(rules).Learning()
	if err := options.bind(e.Rulebook()); err != nil {
		return nil, err
	}
	r := &run{ctx: ctx, engine: e, past: past, options: options}
	workers, all, err := runPipeline(ctx, logs, options, func() *worker { return newWorker(r) })
	if err != nil {
		return nil, err
	}
	s := workers[0].tally
	for _, w := range workers[1:] {
		s.add(w.tally)
	}
	s.Watched = s.watching()
	s.Bad, s.BadLines, s.Unread = all.orderer.bad, all.orderer.badAll, all.orderer.unread()
	return s, nil
}

// run is what the workers of a replay share.
type run struct {
	ctx     context.Context
	engine  *engine.Engine
	past    *history.Past
	options Options
}

// worker decides on sign-ons, those of one user in their order.
type worker struct {
	run        *run
	tally      *Summary
	prefetcher prefetcher
	batch      [batchSize]decided // in order
}

// decided is how a sign-on was decided.
type decided struct {
	engine.Trace
	counts bool // it is among those asked for
}

func newWorker(r *run) *worker {
	return &worker{run: r, tally: newSummary(r.engine.Rulebook())}
}

func (w *worker) process(partition []*entry) error {
	if part := w.run.options.Part; part.Of > 1 {
		partition = slices.DeleteFunc(partition, func(t *entry) bool { return !part.has(t.SignOn.User) })
	}
	for entries := range slices.Chunk(partition, batchSize) {
		w.prefetcher.touch(entries)
		for i, t := range entries {
			if err := w.decide(t, &w.batch[i]); err != nil {
				return err
			}
		}
		for i, t := range entries {
			if d := &w.batch[i]; d.counts {
				w.tally.count(&t.Line, &d.Trace)
			}
		}
	}
	return nil
}

// decide decides on one sign-on, and lets the history learn.
func (w *worker) decide(t *entry, d *decided) error {
	so, o := &t.SignOn, &w.run.options
	d.counts = false
	if err := w.run.engine.Trace(w.run.ctx, so, &d.Trace); err != nil {
		w.tally.Refused++
		return nil
	}
	if d.counts = o.asks(so, d.Person, d.Outcome); d.counts && o.Decisions != nil {
		if err := w.explain(t); err != nil {
			return err
		}
	}
	if o.teaches(t, d.Outcome) {
		w.run.past.Learn(&d.Past)
	}
	return nil
}

// teaches reports whether the history learns from a line that came out as this now.
func (o *Options) teaches(t *entry, outcome signon.Outcome) bool {
	if o.AsDecided {
		return outcome == signon.Grant
	}
	return t.Teaches()
}

// explain writes the whole decision, as the command that decides does.
func (w *worker) explain(t *entry) (err error) {
	var d signon.Decision
	if err := w.run.engine.Decide(w.run.ctx, &t.SignOn, &d, true); err != nil {
		return err
	}
	t.decision, err = json.Marshal(d)
	return err
}

// asks reports whether a sign-on is among those that count.
func (o *Options) asks(so *signon.SignOn, person *rulebook.Person, outcome signon.Outcome) bool {
	return during(so.Time, o.From, o.To) &&
		(o.User == "" || so.User == o.User) && (o.App == "" || so.App == o.App) &&
		(o.group < 0 || person != nil && person.In(o.group)) && (o.Outcome == "" || outcome.String() == o.Outcome)
}

// during reports whether a time is not before the first bound, and before the second; zero is none.
func during(t, from, to time.Time) bool {
	return (from.IsZero() || !t.Before(from)) && (to.IsZero() || t.Before(to))
}

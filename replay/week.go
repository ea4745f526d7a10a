package replay

// One period of logs beside the one before: a week beside the last.

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"sync"
	"time"

	"briskwarden.example/briskwarden"
	"briskwarden.example/briskwarden/internal/bridge"
	"briskwarden.example/briskwarden/internal/risk"
	"briskwarden.example/briskwarden/internal/rulebook"
	"briskwarden.example/briskwarden/signon"
)

// WeekOptions say which periods count: from Before on and before From, and from then on and before To. The history learns
// from all that comes before To.
type WeekOptions struct {
	Before, From, To time.Time
	Progress         func(signOns int) // is told now and then how many sign-ons were taken; nil for none
	Workers          int               // how many decide at once; 0 is one for each processor
}

// Week is what logs have of a period, beside the one before.
type Week struct {
	Now, Was Outcomes     // as the logs recorded them; where they did not, as the rulebook decides
	Stops    []Stop       // by policy: what the rulebook would stop now, the most first
	Risky    []*RiskyUser // users with sign-ons in the highest band of the risk model, the worst first
	RiskyNow int          // how many such sign-ons there were
	RiskyWas int
	TopBand  string    // the name of that band; empty without a model
	Logs     []LogSeen // by name
	Latest   time.Time // of all lines, before the period too
	Bad      []BadLine // the first lines that cannot be read
	BadLines int
}

// Stop counts what one policy decided that let nobody in.
type Stop struct {
	Policy     string `json:"policy"`
	Blocked    int    `json:"blocked"`
	Asked      int    `json:"asked"`          // for more proof: step-ups
	BlockedWas int    `json:"blocked_before"` // in the period before
	AskedWas   int    `json:"asked_before"`
}

// All is what the policy stopped in the period.
func (s *Stop) All() int { return s.Blocked + s.Asked }

// Was is what it stopped in the period before.
func (s *Stop) Was() int { return s.BlockedWas + s.AskedWas }

// RiskyUser is a user with risky sign-ons in the period.
type RiskyUser struct {
	User  string
	Count int       // of the risky sign-ons
	Score int       // of the worst
	Time  time.Time // of the worst
	App   string
	Came  string   // how it came out
	Where string   // its place in the log
	Since Outcomes // what the user's sign-ons after it came to
}

// LogSeen says when a log was written to last.
type LogSeen struct {
	Name string
	Last time.Time
}

// Weekly takes logs through the rulebook, and tells what they have of a period beside the one before. The order in which
// logs are given does not matter. The error says which log cannot be read on.
func Weekly(ctx context.Context, rules *briskwarden.Rulebook, logs []Log, o WeekOptions) (*Week, error) {
	e, past := bridge.Engine(rules).Learning()
	options := Options{Progress: o.Progress, Workers: o.Workers}
	options.group = -1
	r := &run{ctx: ctx, engine: e, past: past, options: options}
	shared := &riskyUsers{users: map[string]*RiskyUser{}}
	workers, all, err := runPipeline(ctx, logs, options, func() *weekWorker {
		return &weekWorker{worker: newWorker(r), WeekOptions: o, risky: shared, stops: map[*rulebook.Policy]*Stop{}, seen: map[string]time.Time{}}
	})
	if err != nil {
		return nil, err
	}
	w := &Week{Bad: all.orderer.bad, BadLines: all.orderer.badAll}
	w.TopBand = topBand(e.Rulebook().Risk)
	w.add(workers)
	for _, u := range shared.users {
		w.Risky = append(w.Risky, u)
	}
	slices.SortFunc(w.Risky, func(a, b *RiskyUser) int {
		return cmp.Or(b.Score-a.Score, b.Count-a.Count, strings.Compare(a.User, b.User))
	})
	return w, nil
}

// add adds up what the workers counted.
func (w *Week) add(workers []*weekWorker) {
	stops, seen := map[string]*Stop{}, map[string]time.Time{}
	for _, worker := range workers {
		w.Now.add(&worker.now)
		w.Was.add(&worker.was)
		w.RiskyNow += worker.riskyNow
		w.RiskyWas += worker.riskyWas
		for p, s := range worker.stops {
			if stops[p.Name] == nil {
				stops[p.Name] = &Stop{Policy: p.Name}
			}
			stops[p.Name].add(s)
		}
		for name, last := range worker.seen {
			if last.After(seen[name]) {
				seen[name] = last
			}
		}
	}
	for _, s := range stops {
		w.Stops = append(w.Stops, *s)
	}
	slices.SortFunc(w.Stops, func(a, b Stop) int {
		return cmp.Or(b.All()-a.All(), b.Was()-a.Was(), strings.Compare(a.Policy, b.Policy))
	})
	for name, last := range seen {
		w.Logs = append(w.Logs, LogSeen{name, last})
		if last.After(w.Latest) {
			w.Latest = last
		}
	}
	slices.SortFunc(w.Logs, func(a, b LogSeen) int { return strings.Compare(a.Name, b.Name) })
}

func (s *Stop) add(other *Stop) {
	s.Blocked += other.Blocked
	s.Asked += other.Asked
	s.BlockedWas += other.BlockedWas
	s.AskedWas += other.AskedWas
}

// riskyUsers are those who had a risky sign-on in the period so far: what follows of theirs is counted, by whichever worker.
type riskyUsers struct {
	mu    sync.RWMutex
	users map[string]*RiskyUser
}

func (r *riskyUsers) of(user string) *RiskyUser {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.users[user]
}

// note notes a risky sign-on; of the worst it is told what came after it.
func (r *riskyUsers) note(t *entry, score int, outcome signon.Outcome) {
	r.mu.Lock()
	defer r.mu.Unlock()
	so := &t.SignOn
	u := r.users[so.User]
	if u == nil {
		u = &RiskyUser{User: strings.Clone(so.User)}
		r.users[u.User] = u
	}
	if u.Count++; u.Count > 1 && score <= u.Score {
		u.Since[outcome]++
		return
	}
	u.Score, u.Time, u.App, u.Came, u.Where = score, so.Time, strings.Clone(so.App), outcome.String(), t.Place()
	u.Since = Outcomes{}
}

// weekWorker is a worker that counts two periods.
type weekWorker struct {
	*worker
	WeekOptions
	risky *riskyUsers

	now, was           Outcomes
	riskyNow, riskyWas int
	stops              map[*rulebook.Policy]*Stop
	seen               map[string]time.Time
	file               string // the log of the line before, and its last time so far
	last               time.Time
}

func (w *weekWorker) process(partition []*entry) error {
	for _, t := range partition {
		w.see(t)
		if !during(t.SignOn.Time, time.Time{}, w.To) {
			continue
		}
		d := &w.batch[0]
		d.Scored = true
		if !during(t.SignOn.Time, w.Before, w.To) { // only the history learns of it
			if err := w.teach(t); err != nil {
				return err
			}
			continue
		}
		if err := w.decide(t, d); err != nil {
			return err
		}
		if d.counts {
			w.count(t, d)
		}
	}
	w.seen[w.file] = later(w.seen[w.file], w.last)
	return nil
}

// see notes when a log was written to.
func (w *weekWorker) see(t *entry) {
	if t.File != w.file {
		w.seen[w.file] = later(w.seen[w.file], w.last)
		w.file, w.last = t.File, time.Time{}
	}
	w.last = later(w.last, t.SignOn.Time)
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// teach has the history learn what is not counted.
func (w *weekWorker) teach(t *entry) error {
	if !t.Teaches() {
		return nil
	}
	return w.run.engine.Teach(w.run.ctx, w.run.past, &t.SignOn)
}

// count counts one sign-on.
func (w *weekWorker) count(t *entry, d *decided) {
	outcome := t.came(d.Outcome)
	now := !t.SignOn.Time.Before(w.From)
	risky := w.isRisky(d)
	if now {
		w.now[outcome]++
		if risky {
			w.riskyNow++
			w.risky.note(t, int(d.Risk.Low), outcome)
		} else if u := w.risky.of(t.SignOn.User); u != nil {
			u.Since[outcome]++
		}
	} else {
		w.was[outcome]++
		if risky {
			w.riskyWas++
		}
	}
	w.stop(d, now)
}

// topBand is the name of the highest band; empty where a model does not tell bands apart.
func topBand(model *risk.Model) string {
	if model == nil || len(model.Bands) < 2 {
		return ""
	}
	return model.Bands[len(model.Bands)-1].Name
}

// isRisky reports a sign-on that is surely in the highest band.
func (w *weekWorker) isRisky(d *decided) bool {
	model := w.run.engine.Rulebook().Risk
	top := topBand(model)
	return top != "" && model.BandAt(int(d.Risk.Low)) == top
}

// stop counts the policies that let nobody in.
func (w *weekWorker) stop(d *decided, now bool) {
	if d.Outcome != signon.Block && d.Outcome != signon.StepUp {
		return
	}
	var counted *rulebook.Policy
	for i := range d.Cases {
		c := &d.Cases[i]
		if !c.Decides || c.Policy == counted { // several cases of one policy may be unknown
			continue
		}
		counted = c.Policy
		s := w.stops[c.Policy]
		if s == nil {
			s = &Stop{}
			w.stops[c.Policy] = s
		}
		switch blocks := d.Outcome == signon.Block; {
		case now && blocks:
			s.Blocked++
		case now:
			s.Asked++
		case blocks:
			s.BlockedWas++
		default:
			s.AskedWas++
		}
	}
}

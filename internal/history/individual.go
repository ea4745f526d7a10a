package history

// The history of one user, of what a program kept.

import (
	"sync"
	"time"
)

// Individual is the history of one user alone. It is safe for concurrent use.
type Individual struct {
	past *Past
	mu   sync.Mutex
	kept userHistory
}

// Individual is the history of one user: what this one knows, and the sign-ons that a program kept. Lost is when the
// last of those was that the program did not keep, so that whatever it could change is unknown; zero is never.
func (p *Past) Individual(user string, kept []SignOn, lost time.Time) *Individual {
	i := &Individual{past: p}
	p.with(user, p.hash(user), func(before *userHistory) { i.kept = before.clone() })
	if !lost.IsZero() {
		i.kept.lose(lost.UnixMicro())
	}
	for k := range kept {
		i.kept.add(p.entry(&kept[k].Query))
	}
	return i
}

// lose notes that sign-ons up to a time are not known.
func (t *userHistory) lose(at int64) {
	if t.forgotten == nil {
		t.forgotten = newForgotten()
	}
	f := t.forgotten
	f.gone, f.country, f.device, f.strayed = max(f.gone, at), max(f.country, at), max(f.device, at), max(f.strayed, at)
}

// Before tells what the user's sign-ons before this one say of it.
func (i *Individual) Before(q *Query) Facts {
	c := i.past.comparison(q)
	i.mu.Lock()
	c.compare(&i.kept)
	i.mu.Unlock()
	return c.facts(q)
}

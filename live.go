package briskwarden

import (
	"sync"
	"sync/atomic"

	"briskwarden.example/briskwarden/signon"
)

// Live holds the rulebook of a folder while it is edited. It swaps the rulebook whole when a
// new one has no errors, and keeps the last good one otherwise. It is safe for concurrent use.
type Live struct {
	dir     string
	options []Option
	current atomic.Pointer[Rulebook]
	reload  sync.Mutex
}

// OpenLive opens the rulebook in a folder, as [Open] does, to be held up to date.
func OpenLive(dir string, options ...Option) (*Live, error) {
	l := &Live{dir: dir, options: options}
	if err := l.Reload(); err != nil {
		return nil, err
	}
	return l, nil
}

// Reload reads the folder again. When that fails, the error says why, and the rulebook that
// was held stays.
func (l *Live) Reload() error {
	l.reload.Lock()
	defer l.reload.Unlock()
	r, err := Open(l.dir, l.options...)
	if err != nil {
		return err
	}
	l.current.Store(r)
	return nil
}

// Rulebook is the rulebook held now; decisions by it are not touched by a later [Live.Reload].
func (l *Live) Rulebook() *Rulebook { return l.current.Load() }

// Decide decides by the rulebook held now; see [Rulebook.Decide].
func (l *Live) Decide(s signon.SignOn) (signon.Decision, error) { return l.Rulebook().Decide(s) }

package briskwarden

// A rulebook that is edited while a program runs.

import (
	"context"
	"log/slog"
	"sync"
	"sync/atomic"

	"briskwarden.example/briskwarden/signon"
)

// Live holds the rulebook of a folder while it is edited. It swaps the rulebook whole when a
// new one has no errors, and keeps the last good one otherwise. A consent ledger made with it goes
// on across reloads, and so does a [History]. It is safe for concurrent use.
type Live struct {
	dir      string
	options  []Option
	settings settings
	current  atomic.Pointer[Rulebook]
	reload   sync.Mutex
}

// OpenLive opens the rulebook in a folder, as [Open] does, to be held up to date.
func OpenLive(dir string, options ...Option) (*Live, error) {
	l := &Live{dir: dir, options: options, settings: newSettings(options)}
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
	if err == nil {
		l.current.Store(r)
		l.settings.logger.Info("rulebook loaded", slog.String("rulebook", r.Name()), slog.String("digest", r.Digest()))
	} else {
		l.settings.logger.Error("rulebook refused: the last good one stays", slog.String("folder", l.dir), slog.Any("error", err))
	}
	l.settings.reloaded(l.current.Load(), err)
	return err
}

// Rulebook is the rulebook held now; decisions by it are not touched by a later [Live.Reload].
func (l *Live) Rulebook() *Rulebook { return l.current.Load() }

// Decide decides by the rulebook held now; see [Rulebook.Decide].
func (l *Live) Decide(ctx context.Context, s signon.SignOn) (signon.Decision, error) {
	return l.Rulebook().Decide(ctx, s)
}

// DecideInto decides by the rulebook held now; see [Rulebook.DecideInto].
func (l *Live) DecideInto(ctx context.Context, s *signon.SignOn, d *signon.Decision) error {
	return l.Rulebook().DecideInto(ctx, s, d)
}

// Explain decides by the rulebook held now; see [Rulebook.Explain].
func (l *Live) Explain(ctx context.Context, s signon.SignOn) (signon.Decision, error) {
	return l.Rulebook().Explain(ctx, s)
}

// Learn teaches the history that the Live was opened with; see [Rulebook.Learn].
func (l *Live) Learn(ctx context.Context, s signon.SignOn) error { return l.Rulebook().Learn(ctx, s) }

package service

// What the log is told with many requests: of each kind at most one line a second, with how many there were.

import (
	"context"
	"log/slog"
	"sync"
	"time"
)

// complaints passes on what a log is told. Of warnings and errors with the same message it passes on at most one a second, with
// the number of those before it that it did not.
type complaints struct {
	slog.Handler
	kinds *kinds
}

// kinds are the messages that there were.
type kinds struct {
	mu   sync.Mutex
	seen map[string]*kind
}

type kind struct {
	last time.Time
	more int // since then
}

// The bounds of complaints.
const (
	complainEach = time.Second
	mostKinds    = 1000
)

func newComplaints(to slog.Handler) *complaints {
	return &complaints{to, &kinds{seen: map[string]*kind{}}}
}

// Handle implements [slog.Handler].
func (c *complaints) Handle(ctx context.Context, r slog.Record) error {
	if r.Level >= slog.LevelWarn {
		more, told := c.kinds.tells(r.Message, r.Time)
		if !told {
			return nil
		}
		if more > 0 {
			r.AddAttrs(slog.Int("more_before", more))
		}
	}
	return c.Handler.Handle(ctx, r)
}

// WithAttrs implements [slog.Handler].
func (c *complaints) WithAttrs(attrs []slog.Attr) slog.Handler {
	return &complaints{c.Handler.WithAttrs(attrs), c.kinds}
}

// WithGroup implements [slog.Handler].
func (c *complaints) WithGroup(name string) slog.Handler {
	return &complaints{c.Handler.WithGroup(name), c.kinds}
}

// tells reports whether a message is told now, and how many were not before it.
func (k *kinds) tells(message string, now time.Time) (more int, told bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	of := k.seen[message]
	if of == nil {
		if len(k.seen) >= mostKinds { // which constants of the code are not
			clear(k.seen)
		}
		of = &kind{}
		k.seen[message] = of
	}
	if age := now.Sub(of.last); age >= 0 && age < complainEach {
		of.more++
		return 0, false
	}
	more = of.more
	of.last, of.more = now, 0
	return more, true
}

package service

// What the log is told with many requests: of each kind at most one line a second, with how many there were.

import (
	"context"
	"log/slog"
	"sync"
	"time"
)

// complaints are the lines of a log that requests bring about. Their message is their kind.
type complaints struct {
	log *slog.Logger

	mu    sync.Mutex
	kinds map[string]*complaint
}

type complaint struct {
	last time.Time
	more int // since then
}

// complainEach is how often one kind is told.
const complainEach = time.Second

// tell tells the log, or counts what is not told now.
func (c *complaints) tell(level slog.Level, message string, about ...slog.Attr) {
	c.mu.Lock()
	if c.kinds == nil {
		c.kinds = map[string]*complaint{}
	}
	k := c.kinds[message]
	if k == nil {
		k = &complaint{}
		c.kinds[message] = k
	}
	now := time.Now()
	if now.Sub(k.last) < complainEach {
		k.more++
		c.mu.Unlock()
		return
	}
	more := k.more
	k.last, k.more = now, 0
	c.mu.Unlock()
	if more > 0 {
		about = append(about, slog.Int("more_before", more))
	}
	c.log.LogAttrs(context.Background(), level, message, about...)
}

// Package allowance bounds what is done for each of many, so that one cannot take what is meant for all.
package allowance

import (
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/time/rate"
)

// Each gives everybody, by name, so many at once and one more after each pause. It is safe for concurrent use.
type Each struct {
	atOnce int
	pause  time.Duration
	known  *lru.Cache[string, *rate.Limiter]
}

// mostKnown is how many names are at hand. Whoever is forgotten begins anew.
const mostKnown = 50_000

// NewEach returns allowances that nobody has used yet.
func NewEach(atOnce int, pause time.Duration) *Each {
	known, _ := lru.New[string, *rate.Limiter](mostKnown) // fails for sizes that are none
	return &Each{atOnce, pause, known}
}

// May reports whether somebody may have one more, which then counts.
func (e *Each) May(name string) bool {
	l, ok := e.known.Get(name)
	if !ok {
		l = rate.NewLimiter(rate.Every(e.pause), e.atOnce)
		if before, there, _ := e.known.PeekOrAdd(name, l); there {
			l = before
		}
	}
	return l.Allow()
}

// Package gather answers those together who ask at the same time: whoever asks while others are being answered is
// answered by the next turn, which begins after the asking.
package gather

import (
	"runtime"
	"sync"
)

// Gatherer answers questions of a type. Its fields are set before it is used; then it is safe for concurrent use.
type Gatherer[Q any] struct {
	AtOnce int                   // how many turns run at once, at least 1
	Fits   func(waiting []Q) int // how many of those that wait go together, at least 1; nil is all
	Answer func(together []Q)

	mu      sync.Mutex
	waiting []Q
	running int
}

// Ask has a question answered by a turn that begins from now on. It does not wait for it.
func (g *Gatherer[Q]) Ask(q Q) {
	g.mu.Lock()
	g.waiting = append(g.waiting, q)
	begin := g.running < g.AtOnce
	if begin {
		g.running++
	}
	g.mu.Unlock()
	if begin {
		go g.run()
	}
}

// run answers what waits, until nothing does.
func (g *Gatherer[Q]) run() {
	for {
		runtime.Gosched() // who is about to ask is answered too
		together := g.next()
		if len(together) == 0 {
			return
		}
		g.Answer(together)
	}
}

// next takes those that go together; none is that nothing waits, and the turns end.
func (g *Gatherer[Q]) next() []Q {
	g.mu.Lock()
	defer g.mu.Unlock()
	n := len(g.waiting)
	if n > 0 && g.Fits != nil {
		n = g.Fits(g.waiting)
	}
	together := g.waiting[:n:n]
	g.waiting = g.waiting[n:]
	if n == 0 {
		g.waiting = nil
		g.running--
	}
	return together
}
